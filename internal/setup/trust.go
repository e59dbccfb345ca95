package setup

import (
	"context"
	"crypto/sha1"
	"encoding/pem"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"dravit/internal/pattern"
)

// anchors are where systems keep certificates that their users add, with the command that makes them effective.
var anchors = []struct{ folder, name, refresh string }{
	{"usr/local/share/ca-certificates", "dravit-%s.crt", "update-ca-certificates"},   // Debian and its kin
	{"etc/pki/ca-trust/source/anchors", "dravit-%s.pem", "update-ca-trust"},          // Fedora and its kin
	{"etc/pki/trust/anchors", "dravit-%s.pem", "update-ca-certificates"},             // openSUSE
	{"etc/ca-certificates/trust-source/anchors", "dravit-%s.crt", "update-ca-trust"}, // Arch and its kin
}

// nickname is the authority's name in the browsers' databases.
const nickname = "Dravit, for this user's sites only"

// Trust returns the steps that make programs of this machine accept an authority's certificate: in the system's store,
// and in this user's browser databases, if the tool for those is installed.
func (p Place) Trust(certificate string) ([]Step, error) {
	text, err := os.ReadFile(certificate)
	if err != nil {
		return nil, err
	}
	var steps []Step
	if p.Mac {
		staged, err := p.stage("authority.pem", string(text))
		if err != nil {
			return nil, err
		}
		steps = append(steps, Step{[]string{"security", "add-trusted-cert", "-d", "-r", "trustRoot", "-k",
			keychain, staged}, true})
	}
	if anchor, refresh := p.anchor(); anchor != "" {
		written, err := p.write(anchor, string(text))
		if err != nil {
			return nil, err
		}
		steps = append(steps, written...)
		if len(written) > 0 {
			steps = append(steps, Step{[]string{refresh}, os.Geteuid() != 0})
		}
	}
	databases := p.databases()
	for _, db := range p.missing() {
		steps = append(steps, Step{Argv: []string{"mkdir", "-p", "-m", "700", db}},
			Step{Argv: []string{"certutil", "-d", "sql:" + db, "-N", "--empty-password"}})
		databases = append(databases, db)
	}
	for _, db := range databases {
		steps = append(steps, p.forget(db)...) // an earlier authority of ours
		steps = append(steps,
			Step{Argv: []string{"certutil", "-d", "sql:" + db, "-A", "-t", "C,,", "-n", nickname, "-i", certificate}})
	}
	if len(steps) == 0 && !p.Trusted() {
		return nil, NoWay("Dravit does not know where this system keeps trusted certificates",
			"import "+certificate+" in the settings of your browser")
	}
	return steps, nil
}

// Distrust returns the steps that undo Trust.
func (p Place) Distrust(certificate string) []Step {
	var steps []Step
	if p.Mac {
		steps = append(steps, p.forgetKeychain(certificate)...)
	}
	if anchor, refresh := p.anchor(); anchor != "" && exists(anchor) {
		steps = append(steps, p.remove(anchor)...)
		steps = append(steps, Step{[]string{refresh}, os.Geteuid() != 0})
	}
	for _, db := range p.databases() {
		steps = append(steps, p.forget(db)...)
	}
	return steps
}

// keychain holds the certificates that macOS trusts for every user (security(1)).
const keychain = "/Library/Keychains/System.keychain"

// forgetKeychain returns the steps that remove an authority from macOS' keychain: its trust, then the certificate
// itself, which is known by its SHA-1.
func (p Place) forgetKeychain(certificate string) []Step {
	text, err := os.ReadFile(certificate)
	if err != nil {
		return nil
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil
	}
	staged, err := p.stage("authority.pem", string(text))
	if err != nil {
		return nil
	}
	return []Step{
		{[]string{"security", "remove-trusted-cert", "-d", staged}, true},
		{[]string{"security", "delete-certificate", "-Z", fmt.Sprintf("%X", sha1.Sum(block.Bytes)), keychain}, true},
	}
}

// Trusted reports, from files alone, whether the system's store has this user's authority.
func (p Place) Trusted() bool {
	anchor, _ := p.anchor()
	return anchor != "" && exists(anchor)
}

func (p Place) anchor() (file, refresh string) {
	for _, a := range anchors {
		if program := administrators(a.refresh); program != "" && exists(p.path(a.folder)) {
			return p.path(a.folder, fmt.Sprintf(a.name, p.User)), program
		}
	}
	return "", ""
}

// administrators finds a program that may be missing from an ordinary user's PATH.
func administrators(name string) string {
	for _, try := range []string{name, "/usr/sbin/" + name, "/sbin/" + name} {
		if path, err := exec.LookPath(try); err == nil {
			return path
		}
	}
	return ""
}

// databases returns the certificate databases (NSS) of this user's browsers: the shared one, and one for each profile.
func (p Place) databases() []string {
	if _, err := exec.LookPath("certutil"); err != nil {
		return nil
	}
	dir, err := os.UserHomeDir()
	if err != nil {
		return nil
	}
	var all []string
	for _, shape := range []string{".pki/nssdb", newNSS, ".mozilla/firefox/*", "snap/firefox/common/.mozilla/firefox/*",
		"snap/chromium/current/.pki/nssdb", "Library/Application Support/Firefox/Profiles/*"} {
		found, _ := filepath.Glob(filepath.Join(pattern.Literal(dir), shape, "cert9.db"))
		for _, file := range found {
			all = append(all, filepath.Dir(file))
		}
	}
	return all
}

// newNSS is where Chromium keeps its trust since version 153 or so, and .pki/nssdb where it did before, and other
// programs still do. Both are below the user's home.
const newNSS = ".local/share/pki/nssdb"

// chromiums are names of browsers that use these databases.
var chromiums = []string{"chromium", "chromium-browser", "google-chrome", "google-chrome-stable", "microsoft-edge",
	"brave-browser", "vivaldi"}

// missing returns the databases that a browser of this machine will use once it was started, and that do not exist.
func (p Place) missing() []string {
	dir, err := os.UserHomeDir()
	if _, noTool := exec.LookPath("certutil"); err != nil || noTool != nil ||
		!slices.ContainsFunc(chromiums, func(name string) bool { _, err := exec.LookPath(name); return err == nil }) {
		return nil
	}
	var all []string
	for _, folder := range []string{".pki/nssdb", newNSS} {
		if db := filepath.Join(dir, folder); !exists(filepath.Join(db, "cert9.db")) {
			all = append(all, db)
		}
	}
	return all
}

// patience is how long certutil may take to answer: another program may have locked the database.
const patience = 10 * time.Second

// forget returns the step that removes the authority from a database, or nil if it is not in it.
func (p Place) forget(db string) []Step {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	if exec.CommandContext(ctx, "certutil", "-d", "sql:"+db, "-L", "-n", nickname).Run() != nil {
		return nil
	}
	return []Step{{Argv: []string{"certutil", "-d", "sql:" + db, "-D", "-n", nickname}}}
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
