package stack

import (
	"cmp"
	"context"
	"errors"
	"os"
	"slices"
	"strings"

	"dravit/internal/debian"
	"dravit/internal/kind"
	"dravit/internal/self"
	"dravit/internal/settings"
	"dravit/internal/supply"
	"dravit/internal/supply/fetch"
	"dravit/internal/supply/registry"
	"dravit/internal/supply/repository"
	"dravit/internal/trouble"
)

// supplier returns who gets a program, or every program if recipe is nil: from the sources of the settings, or else of
// this machine's own clients. If known, it asks nobody: what sources said the last time counts.
func (m *Machine) supplier(ctx context.Context, recipe *kind.Recipe, known bool) (supply.Supplier, error) {
	set, err := settings.Read(m.Home)
	if err != nil {
		return supply.Supplier{}, err
	}
	program, err := self.Install(ctx, m.Home, func() bool { return true })
	if err != nil {
		return supply.Supplier{}, err
	}
	here := supply.New(m.Home, program.Link)
	here.Way, here.Known = supply.Way(set.Launch), known
	s := supply.Supplier{Here: here}
	packages := &repository.Source{Here: here}
	if recipe == nil || len(recipe.Packages.Servers) > 0 {
		if packages.Suites, err = suites(set.Sources); err != nil {
			return s, err
		}
	}
	releases := &registry.Source{Here: here}
	if m.From != "" {
		s.Sources = []supply.Source{packages, releases}
		return s.From(m.From, m.Unsigned)
	}
	if len(packages.Suites) > 0 {
		s.Sources = append(s.Sources, packages)
	}
	if recipe == nil || recipe.Carrier.Package != "" {
		base, _ := os.UserHomeDir() // without a home, the client npm is asked
		releases.Address, err = registryAt(ctx, here, base, set.Sources)
		releases.LogIn = registry.Credentials(base, os.Getenv)
		if public, secret := fetch.Secret(releases.Address); secret != "" {
			releases.Address = public
			releases.LogIn = func(address string) string {
				if strings.HasPrefix(address, strings.TrimSuffix(public, "/")+"/") {
					return secret
				}
				return ""
			}
		}
		if releases.Address != "" {
			s.Sources = append(s.Sources, releases)
		}
	}
	for i := range packages.Suites {
		x := &packages.Suites[i]
		x.Address, x.Secret = fetch.Secret(x.Address)
	}
	switch {
	case err != nil && len(packages.Suites) == 0:
		return s, noSource(err.Error())
	case len(s.Sources) == 0:
		return s, noSource("neither Dravit's settings nor this machine's package clients name one")
	}
	return s, nil
}

// registryAt returns the address of the npm-format registry. base is the user's home folder.
func registryAt(ctx context.Context, here supply.Here, base string, sources []settings.Source) (string, error) {
	source := settings.Source{}
	for _, x := range sources {
		if x.Format == "npm" {
			source = x
		}
	}
	if source.Off {
		return "", errors.New("the settings switch it off")
	}
	if source.Address == "" {
		address, err := registry.AddressOf(ctx, here, base, os.Getenv)
		if errors.Is(err, registry.ErrNoSource) {
			return "", errors.New("neither Dravit's settings nor this machine's npm name a registry")
		}
		if err != nil {
			return "", err
		}
		source.Address = address
	}
	return source.Address, fetch.CheckAddress(source.Address)
}

// suites returns those of the Debian-format repositories: those of the settings, with what the machine's own client
// knows in place of what they leave out, or else those of the client.
func suites(sources []settings.Source) ([]repository.Suite, error) {
	own, trusted := debian.Clients(debian.Here())
	known := func(s debian.Source) repository.Suite {
		r := repository.Suite{Address: s.Address, Name: s.Suite, Components: s.Components, Keys: s.Keys,
			Expired: s.Expired}
		if r.Keys == nil {
			r.Keys = trusted
		}
		return r
	}
	var all []repository.Suite
	named := false
	for _, x := range sources {
		if x.Format != "debian" {
			continue
		}
		named = true
		if x.Off {
			continue
		}
		like := repository.Suite{Keys: trusted}
		if len(own) > 0 {
			like = known(own[0])
		}
		names := x.Suites
		if names == nil {
			names = suitesOf(own, x.Address)
		}
		like.Address, like.Expired, like.Unsigned = cmp.Or(x.Address, like.Address), x.Expired, x.Unsigned
		if x.Components != nil {
			like.Components = x.Components
		} else if len(own) == 0 {
			like.Components = []string{"main"}
		}
		if x.Keyring != "" {
			text, err := os.ReadFile(x.Keyring)
			if err != nil {
				return nil, noSource("its keyring cannot be read: " + err.Error())
			}
			like.Keys = [][]byte{text}
		}
		if len(names) == 0 {
			return nil, noSource("a [[source]] names no suites, and this machine's own client knows none for it")
		}
		for _, name := range names {
			r := like
			r.Name = name
			all = append(all, r)
		}
	}
	for _, s := range own {
		if !named {
			all = append(all, known(s))
		}
	}
	return all, nil
}

// suitesOf returns the suites that the machine's own client has at an address; if it has none there, as at another
// mirror, or address is "", those of its first source.
func suitesOf(own []debian.Source, address string) []string {
	at := func(address string) (suites []string) {
		for _, s := range own {
			if strings.TrimSuffix(s.Address, "/") == strings.TrimSuffix(address, "/") && !slices.Contains(suites,
				s.Suite) {
				suites = append(suites, s.Suite)
			}
		}
		return suites
	}
	suites := at(address)
	if len(suites) == 0 && len(own) > 0 {
		return at(own[0].Address)
	}
	return suites
}

func noSource(because string) error {
	return &trouble.Trouble{Code: trouble.NoSource, What: "there is no source for programs", Because: because,
		Next: "[[source]] in Dravit's settings.toml: docs/supply.md"}
}
