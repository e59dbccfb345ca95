package repository

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"dravit/internal/debian"
	"dravit/internal/home"
	"dravit/internal/supply/fetch"
	"dravit/internal/trouble"
)

// accepted is what is kept of the list that a repository had when it was asked last.
type accepted struct {
	Date       time.Time `json:"date"`
	ValidUntil time.Time `json:"valid_until"`
	Codename   string    `json:"codename"`
	Lists      []string  `json:"lists"` // the names of the files with packages
}

// longestRelease is how long a list of files may be, in bytes.
const longestRelease = 16 << 20

// distribution is what repositories with the same codename have together.
type distribution struct {
	name   string
	hosts  []string
	lists  debian.Suite
	failed error // one of them does not serve, so none of the suite does
}

// ask asks all repositories, and returns what they have, sorted by name. Repositories of one release, its updates and
// its security fixes count as one suite.
func (s *Source) ask(ctx context.Context) []distribution {
	type answer struct {
		codename string
		lists    []debian.Index
		err      error
	}
	answers := make([]answer, len(s.Suites))
	var g errgroup.Group
	g.SetLimit(fetch.AtOnce)
	for i, r := range s.Suites {
		g.Go(func() error {
			a := &answers[i]
			a.codename, a.lists, a.err = s.lists(ctx, r)
			return nil
		})
	}
	_ = g.Wait() // each answer has its own error
	var all []distribution
	for i, r := range s.Suites {
		a := answers[i]
		name, _, _ := strings.Cut(cmp.Or(a.codename, r.Name), "-")
		at := slices.IndexFunc(all, func(x distribution) bool { return x.name == name })
		if at < 0 {
			at = len(all)
			all = append(all, distribution{name: name})
		}
		x := &all[at]
		x.lists = append(x.lists, a.lists...)
		if host := fetch.HostOf(r.Address); !slices.Contains(x.hosts, host) {
			x.hosts = append(x.hosts, host)
		}
		x.failed = cmp.Or(x.failed, a.err)
	}
	slices.SortFunc(all, func(a, b distribution) int { return strings.Compare(a.name, b.name) })
	return all
}

// lists returns the packages of a repository, from what was kept if the repository has nothing newer.
func (s *Source) lists(ctx context.Context, r Suite) (codename string, lists []debian.Index, err error) {
	dir := s.Said(r.Address, r.Name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", nil, err
	}
	var before accepted
	if err := home.ReadJSON(filepath.Join(dir, "accepted.json"), &before); err != nil {
		return "", nil, err
	}
	if s.Known {
		return before.Codename, before.known(r, dir), nil
	}
	release, err := r.release(ctx)
	if err != nil {
		return "", nil, s.refuse(r, err)
	}
	if err := r.is(release); err != nil {
		return "", nil, s.refuse(r, err)
	}
	if err := judge(r, release, before, time.Now()); err != nil {
		return "", nil, err
	}
	now := accepted{Date: release.Date, ValidUntil: release.ValidUntil,
		Codename: cmp.Or(release.Codename, release.Suite)}
	for _, component := range r.Components {
		name, sum, ok := listOf(release, component, debianArch(s.Arch))
		if !ok {
			continue // it has nothing for this architecture
		}
		data, err := r.list(ctx, release, name, sum, dir)
		if err != nil {
			return "", nil, s.refuse(r, err)
		}
		lists = append(lists, debian.Open(data, strings.TrimSuffix(r.Address, "/")))
		now.Lists = append(now.Lists, sum.SHA256)
	}
	for _, old := range before.Lists {
		if !slices.Contains(now.Lists, old) {
			_ = os.Remove(filepath.Join(dir, old+".index")) // it only takes room
		}
	}
	return now.Codename, lists, home.WriteJSON(filepath.Join(dir, "accepted.json"), now)
}

// known returns the packages that a repository had when it was asked last, if that still counts.
func (a accepted) known(r Suite, dir string) (lists []debian.Index) {
	if !r.Expired && !a.ValidUntil.IsZero() && a.ValidUntil.Before(time.Now()) {
		return nil
	}
	for _, name := range a.Lists {
		if data, err := os.ReadFile(filepath.Join(dir, name+".index")); err == nil {
			lists = append(lists, debian.Open(data, strings.TrimSuffix(r.Address, "/")))
		}
	}
	return lists
}

// refuse says that a repository does not serve.
func (*Source) refuse(r Suite, because error) error {
	var t *trouble.Trouble
	if errors.As(because, &t) {
		return because
	}
	next := "look at the [[source]] in Dravit's settings, or at the machine's own package client"
	if errors.Is(because, debian.ErrUnsigned) {
		next = "keyring = FILE in the [[source]] names the keys that sign it"
	}
	return &trouble.Trouble{Code: trouble.NoSource, What: "the source " + r.String() + " is not taken",
		Because: because.Error(), Next: next, Err: because}
}

func (r Suite) String() string { return r.Name + " of " + fetch.HostOf(r.Address) }

// is returns an error if a list of files is that of another suite. The same keys sign the lists of all suites, so
// somebody between could answer with an older release's.
func (r Suite) is(release debian.Release) error {
	base := func(name string) string { // "buster/updates" calls itself "buster"
		name, _, _ = strings.Cut(name, "/")
		return name
	}
	names := []string{release.Suite, release.Codename}
	if strings.HasSuffix(r.Name, "/") || slices.Contains(names, r.Name) || release.Suite+release.Codename == "" ||
		strings.Contains(r.Name, "/") && base(release.Codename) == base(r.Name) {
		return nil
	}
	return fmt.Errorf("its list is that of %s, and not of %s", cmp.Or(release.Codename, release.Suite), r.Name)
}

// judge refuses a list of files that is older than the one that was accepted before, or that has expired.
func judge(r Suite, release debian.Release, before accepted, now time.Time) error {
	if release.Date.Before(before.Date) {
		return &trouble.Trouble{Code: trouble.NoSource, What: "the source " + r.String() + " is not taken",
			Because: fmt.Sprintf(
				"its list is of %s, and one of %s was seen before: somebody may hold back newer packages",
				day(release.Date),
				day(before.Date),
			),
			Next: "another mirror, or wait for this one"}
	}
	if !r.Expired && !release.ValidUntil.IsZero() && release.ValidUntil.Before(now) {
		return &trouble.Trouble{Code: trouble.NoSource, What: "the source " + r.String() + " is not taken",
			Because: "its list has expired on " + day(release.ValidUntil),
			Next:    "another mirror, or expired = true in the [[source]] of Dravit's settings"}
	}
	return nil
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }

// release fetches the list of files, and checks who signed it.
func (r Suite) release(ctx context.Context) (debian.Release, error) {
	if r.Unsigned && !strings.HasPrefix(r.Address, "file:") {
		return debian.Release{}, errors.New("unsigned = true is for a folder only")
	}
	keys, err := debian.ReadKeyrings(r.Keys)
	if err != nil && !r.Unsigned {
		return debian.Release{}, fmt.Errorf("its keyring cannot be read (%w): %w", err, debian.ErrUnsigned)
	}
	var status fetch.StatusError
	text, err := r.small(ctx, "InRelease")
	if err == nil && !r.Unsigned {
		return debian.ReadInRelease(text, keys)
	}
	if err != nil && !errors.As(err, &status) {
		return debian.Release{}, err
	}
	if err != nil {
		text, err = r.small(ctx, "Release")
	}
	if err != nil {
		return debian.Release{}, err
	}
	if r.Unsigned {
		return debian.ReadUnsigned(text)
	}
	signature, err := r.small(ctx, "Release.gpg")
	if err != nil {
		return debian.Release{}, fmt.Errorf("%w: %w", debian.ErrUnsigned, err)
	}
	return debian.ReadRelease(text, signature, keys)
}

// route returns how the repository is asked.
func (r Suite) route() fetch.Route {
	x := fetch.Signed
	if r.Secret != "" {
		x.LogIn = func(address string) string {
			if strings.HasPrefix(address, strings.TrimSuffix(r.Address, "/")+"/") {
				return r.Secret
			}
			return ""
		}
	}
	return x
}

// at returns the address of a file of the suite.
func (r Suite) at(name string) string {
	return strings.TrimSuffix(r.Address, "/") + "/dists/" + r.Name + "/" + name
}

func (r Suite) small(ctx context.Context, name string) ([]byte, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, 2*fetch.StallAfter, errors.New("it took too long"))
	defer cancel()
	resp, err := r.route().Ask(ctx, http.MethodGet, r.at(name), nil)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, longestRelease))
	if err != nil {
		return nil, fetch.Unreached(fetch.HostOf(r.Address), fetch.Because(ctx, err))
	}
	return text, nil
}

// formats are the forms of a list, the one that is read fastest first.
var formats = []string{".gz", ".xz", ""}

// listOf returns the name of the list of a component's packages, and its digest.
func listOf(release debian.Release, component, arch string) (name string, sum debian.Sum, ok bool) {
	for _, format := range formats {
		name = component + "/binary-" + arch + "/Packages" + format
		if sum, ok = release.Files[name]; ok {
			return name, sum, true
		}
	}
	return "", sum, false
}

// list returns a list in its compact form, from the folder if it is there already.
func (r Suite) list(ctx context.Context, release debian.Release, name string, sum debian.Sum, dir string) (
	[]byte, error) {
	kept := filepath.Join(dir, sum.SHA256+".index")
	if data, err := os.ReadFile(kept); err == nil {
		return data, nil
	}
	want, err := hex.DecodeString(sum.SHA256)
	if err != nil {
		return nil, err
	}
	address := r.at(name)
	if release.ByHash {
		address = r.at(filepath.Dir(name) + "/by-hash/SHA256/" + sum.SHA256)
	}
	file := filepath.Join(dir, sum.SHA256+".part")
	err = r.route().Get(ctx, address, file, sha256.New(), want, sum.Bytes, func(int64) {})
	var status fetch.StatusError
	if release.ByHash && errors.As(err, &status) { // it says so, and has it under its name only
		err = r.route().Get(ctx, r.at(name), file, sha256.New(), want, sum.Bytes, func(int64) {})
	}
	if err != nil {
		return nil, err
	}
	in, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	plain, err := debian.Plain(in, filepath.Ext(name))
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	data, err := debian.Parse(plain)
	if err != nil {
		return nil, err
	}
	return data, errors.Join(home.WriteFile(kept, data, 0o600), os.Remove(file))
}

// debianArch returns an architecture as Debian names it.
func debianArch(goarch string) string {
	switch goarch {
	case "386":
		return "i386"
	case "arm":
		return "armhf"
	case "ppc64le":
		return "ppc64el"
	}
	return goarch
}
