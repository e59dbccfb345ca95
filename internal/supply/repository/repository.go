// Package repository takes programs from Debian-format repositories, which sign what they say: a program's package, and
// all that it depends on, in one folder, in which the program starts with its own libraries.
package repository

import (
	"cmp"
	"context"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/debian"
	"dravit/internal/kind"
	"dravit/internal/supply"
)

// Source is some suites of repositories.
type Source struct {
	supply.Here
	Suites []Suite
}

// Suite is one suite of a repository.
type Suite struct {
	Address    string // http, https, or the file address of a folder, without a password (see Secret)
	Secret     string // the value of the header Authorization for it, or ""
	Name       string
	Components []string
	Keys       [][]byte // that may sign it, each binary or armored
	Expired    bool     // it is taken after it has expired, too
	Unsigned   bool     // nobody has to sign it: for a folder of the user's own only
}

// Format implements supply.Source.
func (*Source) Format() string { return "debian" }

// Carries implements supply.Source.
func (s *Source) Carries(r kind.Recipe) bool {
	return len(s.Suites) > 0 && len(r.Packages.Servers) > 0 && s.OS == "linux"
}

// Find implements supply.Source.
func (s *Source) Find(ctx context.Context, r kind.Recipe, w supply.Wish) (supply.Offer, error) {
	suites := s.ask(ctx)
	all, failed := candidates(suites, r.Packages)
	series := map[string]bool{}
	var because error
	var other supply.Offer // of the version that a lock names, but not just that
	for _, c := range all {
		series[firstTwo(c.version)] = true
		if !w.Allows(c.version, c.server.Version) {
			continue
		}
		closure, extensions, err := closure(c, r.Packages, w)
		if err != nil {
			because = cmp.Or(because, err)
			continue
		}
		o := c.offer(r)
		o.Packages, o.Extensions, o.Integrity, o.Of = closure, extensions, id(closure), c.series
		o.Name = o.Integrity[:12]
		for _, p := range closure {
			if _, err := os.Stat(s.shelf(p)); err != nil {
				o.Bytes += p.Bytes
			}
		}
		if w.Exact == nil || w.Exact.Differs(o) == "" {
			return o, nil
		}
		if other.Kind == "" {
			other = o
		}
	}
	switch {
	case other.Kind != "":
		return other, nil // the Supplier says in what it differs
	case because == nil && failed != nil: // what did not answer may have it
		return supply.Offer{}, failed
	}
	err := supply.NoneFits(r.Name, series, "the sources have",
		"ask for another version, or add a suite that has it: docs/supply.md")
	if because != nil {
		err.Because = because.Error()
	}
	return supply.Offer{}, err
}

// Available implements supply.Source.
func (s *Source) Available(ctx context.Context, all []kind.Recipe) (offers []supply.Offer) {
	suites := s.ask(ctx)
	for _, r := range all {
		if !s.Carries(r) {
			continue
		}
		found, _ := candidates(suites, r.Packages)
		for _, c := range found {
			offers = append(offers, c.offer(r))
		}
	}
	return offers
}

// Keeps implements supply.Source.
func (s *Source) Keeps(folder string) bool {
	return slices.ContainsFunc(s.Suites, func(x Suite) bool { return s.Said(x.Address, x.Name) == folder })
}

// exportKey is the key of this format in supply.Exported: a list of exportedSuite.
const exportKey = "repositories"

// exportedSuite is a suite, with some of its packages.
type exportedSuite struct {
	Address    string   `json:"address"`
	Suite      string   `json:"suite"`
	Components []string `json:"components"`
	Folder     string   `json:"folder"` // below the exported one
}

// From implements supply.Source. What comes from the folder is checked with the keys that the suites have.
func (s *Source) From(dir string, x supply.Exported, unsigned bool) (supply.Source, error) {
	var exported []exportedSuite
	if ok, err := x.Read(exportKey, &exported); !ok || err != nil || len(exported) == 0 {
		return nil, err
	}
	var keys [][]byte
	for _, own := range s.Suites {
		keys = append(keys, own.Keys...)
	}
	from := &Source{Here: s.Here}
	for _, e := range exported {
		r := Suite{Keys: keys}
		for _, own := range s.Suites {
			if own.Address == e.Address && own.Name == e.Suite {
				// What is taken without a signature from a folder of the user's own is not so from one that came along.
				r = Suite{Keys: own.Keys, Expired: own.Expired, Unsigned: own.Unsigned && unsigned}
			}
		}
		r.Name, r.Components = e.Suite, e.Components
		r.Address = (&url.URL{Scheme: "file", Path: filepath.Join(dir, filepath.Base(e.Folder))}).String()
		from.Suites = append(from.Suites, r)
	}
	return from, nil
}

func firstTwo(number string) string {
	words := strings.SplitN(number, ".", 3)
	return strings.Join(words[:min(2, len(words))], ".")
}

// offer returns what is known of a candidate without what else its tree consists of.
func (c candidate) offer(r kind.Recipe) supply.Offer {
	return supply.Offer{Kind: r.Name, Version: c.version, Package: c.server.Name, Release: c.server.Version,
		Source: strings.Join(c.in.hosts, ", "), Suite: c.in.name}
}

// Lay implements supply.Source: it puts the packages of an offer on their shelves, and composes a tree of them.
func (s *Source) Lay(ctx context.Context, o supply.Offer, r kind.Recipe, t *supply.Laid,
	progress func(done int64)) error {
	if err := s.stock(ctx, o.Packages, progress); err != nil {
		return err
	}
	return s.compose(ctx, o, r, t)
}

func items(packages []debian.Package) (all []supply.Item) {
	for _, x := range packages {
		all = append(all, supply.Item{Name: x.Name, Version: x.Version, Arch: x.Arch, SHA256: x.SHA256, File: x.File,
			Address: x.Base})
	}
	return all
}
