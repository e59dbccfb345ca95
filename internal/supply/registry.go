package supply

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/version"
)

// document is what a registry says of a package (npm's "abbreviated" package document), as it is kept, too.
type document struct {
	Versions map[string]published `json:"versions"`

	// Of a kept one:

	Address string           `json:"address,omitempty"` // of the registry
	Sizes   map[string]int64 `json:"sizes,omitempty"`   // in bytes, of the files that were asked for, by address
}

// published is a release of a package.
type published struct {
	Dist struct {
		Tarball   string `json:"tarball"`
		Integrity string `json:"integrity"` // algorithms and digests (w3.org, "Subresource Integrity")
	} `json:"dist"`
	Engines json.RawMessage `json:"engines,omitempty"`
}

// documentFile keeps, in a source's folder, what a registry said of a package.
const documentFile = "document.json"

// longestDocument is how long a package document may be, in bytes.
const longestDocument = 64 << 20

// ErrNoSource says that neither the settings nor the machine's own client name a registry.
var ErrNoSource = errors.New("no source is known")

// AddressOf returns the address of the registry that this machine's own client uses: what the user's environment or
// .npmrc names, else what the client npm answers, or, if no source is asked, has answered. A project's .npmrc does not
// count: a repository must not choose where programs come from.
func (s Supplier) AddressOf(ctx context.Context, userHome string, getenv func(string) string) (string, error) {
	for _, name := range []string{"npm_config_registry", "NPM_CONFIG_REGISTRY"} {
		if address := getenv(name); address != "" {
			return address, nil
		}
	}
	if text, err := os.ReadFile(filepath.Join(userHome, ".npmrc")); err == nil {
		if m := pattern.Of(`(?m)^\s*registry\s*=\s*["']?([^"'\s]+)`).FindSubmatch(text); m != nil {
			return string(m[1]), nil
		}
	}
	answered := s.path("sources", "client.json")
	if s.Known {
		var address string
		err := home.ReadDerived(answered, &address)
		if err == nil && address == "" {
			err = ErrNoSource
		}
		return address, err
	}
	npm, err := exec.LookPath("npm")
	if err != nil {
		return "", ErrNoSource
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, npm, "config", "get", "registry")
	cmd.Dir = userHome
	out, err := cmd.Output()
	if address := strings.TrimSpace(string(out)); err == nil && strings.HasPrefix(address, "http") {
		if err := os.MkdirAll(filepath.Dir(answered), 0o700); err != nil {
			return "", err
		}
		return address, home.WriteCache(answered, address)
	}
	return "", ErrNoSource
}

// route is how the registry is asked.
func (s Supplier) route() route {
	if checkFolder(s.Address) == nil {
		return exported
	}
	r := secured
	r.logIn = s.LogIn
	return r
}

// kept returns the file that keeps what the registry said of a package.
func (s Supplier) kept(name string) string {
	return filepath.Join(s.sourceFolder(s.Address, name), documentFile)
}

// document reads a package document, or what was kept of it if no source is asked.
func (s Supplier) document(ctx context.Context, name string) (document, error) {
	var before, d document
	if err := home.ReadDerived(s.kept(name), &before); err != nil || s.Known {
		return before, err
	}
	address := strings.TrimSuffix(s.Address, "/") + "/" + strings.ReplaceAll(name, "/", "%2f")
	resp, err := s.route().ask(ctx, http.MethodGet, address, map[string]string{
		"Accept": "application/vnd.npm.install-v1+json, application/json;q=0.8"})
	if err != nil {
		return d, err
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(io.LimitReader(resp.Body, longestDocument)).Decode(&d); err != nil {
		return d, fmt.Errorf("%s answers with no package document: %w", address, err)
	}
	if err := d.resolve(s.Address); err != nil {
		return d, err
	}
	d.Address, d.Sizes = s.Address, before.Sizes // a release never changes
	return d, s.keep(name, d)
}

// resolve makes the addresses of files absolute: an exported folder has them relative to itself.
func (d document) resolve(address string) error {
	base, err := url.Parse(strings.TrimSuffix(address, "/") + "/")
	if err != nil {
		return err
	}
	for name, r := range d.Versions {
		at, err := base.Parse(r.Dist.Tarball)
		if err != nil {
			delete(d.Versions, name) // it cannot be fetched
			continue
		}
		r.Dist.Tarball = at.String()
		d.Versions[name] = r
	}
	return nil
}

func (s Supplier) keep(name string, d document) error {
	if checkFolder(s.Address) == nil {
		return nil // it is at hand
	}
	if err := os.MkdirAll(filepath.Dir(s.kept(name)), 0o700); err != nil {
		return err
	}
	return home.WriteCache(s.kept(name), d)
}

// size returns how long the file of a package is, in bytes, or 0 if the registry does not say.
func (s Supplier) size(ctx context.Context, name string, d document, address string) (int64, error) {
	if bytes, ok := d.Sizes[address]; ok || s.Known {
		return bytes, nil
	}
	resp, err := s.route().ask(ctx, http.MethodHead, address, nil)
	var status statusError
	if errors.As(err, &status) { // it does not answer that; the download will show
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	resp.Body.Close()
	if d.Sizes == nil {
		d.Sizes = map[string]int64{}
	}
	d.Sizes[address] = max(0, resp.ContentLength)
	return d.Sizes[address], s.keep(name, d)
}

// release is one of a package that carries a program.
type release struct {
	published
	name    string // as the registry writes it
	number  version.Version
	program string // the program's version
}

// preview reports whether a registry's version is marked as one before a release (semver.org, 9).
func preview(name string) bool {
	name, _, _ = strings.Cut(name, "+")
	return strings.Contains(name, "-")
}

// releases returns what the registry has of the package that carries a kind's program, the newest first.
func (s Supplier) releases(ctx context.Context, c kind.Carrier) (d document, all []release, err error) {
	d, err = s.document(ctx, s.carriedBy(c))
	for name, p := range d.Versions {
		v, err := version.Parse(name)
		// Previews do not count, unless the package marks every release as one.
		if err != nil || preview(name) && !c.Marked || p.Dist.Integrity == "" {
			continue
		}
		all = append(all, release{p, name, v, pattern.Of(`\d+\.\d+\.\d+`).FindString(name)})
	}
	slices.SortFunc(all, func(a, b release) int {
		return cmp.Or(b.number.Compare(a.number), strings.Compare(b.name, a.name))
	})
	return d, all, err
}
