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
	"dravit/internal/trouble"
)

// supplier returns who gets a kind's programs, or those of all kinds if it is nil: from the sources of the settings, or
// else of this machine's own clients. If known, it asks nobody: what sources said the last time counts.
func (m *Machine) supplier(ctx context.Context, k kind.Kind, known bool) (supply.Supplier, error) {
	set, err := settings.Read(m.Home)
	if err != nil {
		return supply.Supplier{}, err
	}
	program, err := self.Install(ctx, m.Home, func() bool { return true })
	if err != nil {
		return supply.Supplier{}, err
	}
	s := supply.New(m.Home, program.Link)
	s.Way, s.Known = supply.Way(set.Launch), known
	if k == nil || len(k.Traits().Packages.Servers) > 0 {
		if s.Repositories, err = repositories(set.Sources); err != nil {
			return s, err
		}
	}
	if m.From != "" {
		return s.From(m.From, m.Unsigned)
	}
	if k == nil || k.Traits().Carrier.Package != "" {
		base, _ := os.UserHomeDir() // without a home, the client npm is asked
		s.Address, err = registry(ctx, s, base, set.Sources)
		s.LogIn = supply.Credentials(base, os.Getenv)
		if public, secret := supply.Secret(s.Address); secret != "" {
			s.Address = public
			s.LogIn = func(address string) string {
				if strings.HasPrefix(address, strings.TrimSuffix(public, "/")+"/") {
					return secret
				}
				return ""
			}
		}
	}
	for i := range s.Repositories {
		r := &s.Repositories[i]
		r.Address, r.Secret = supply.Secret(r.Address)
	}
	if err != nil && len(s.Repositories) == 0 {
		return s, noSource(err.Error())
	}
	if s.Address == "" && len(s.Repositories) == 0 {
		return s, noSource("neither Dravit's settings nor this machine's package clients name one")
	}
	return s, nil
}

// registry returns the address of the npm-format registry. base is the user's home folder.
func registry(ctx context.Context, s supply.Supplier, base string, sources []settings.Source) (string, error) {
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
		address, err := s.AddressOf(ctx, base, os.Getenv)
		if errors.Is(err, supply.ErrNoSource) {
			return "", errors.New("neither Dravit's settings nor this machine's npm name a registry")
		}
		if err != nil {
			return "", err
		}
		source.Address = address
	}
	return source.Address, supply.CheckAddress(source.Address)
}

// repositories returns the Debian-format repositories: those of the settings, with what the machine's own client knows
// in place of what they leave out, or else those of the client.
func repositories(sources []settings.Source) ([]supply.Repository, error) {
	own, trusted := debian.Clients(debian.Here())
	known := func(s debian.Source) supply.Repository {
		r := supply.Repository{Address: s.Address, Suite: s.Suite, Components: s.Components, Keys: s.Keys,
			Expired: s.Expired}
		if r.Keys == nil {
			r.Keys = trusted
		}
		return r
	}
	var all []supply.Repository
	named := false
	for _, x := range sources {
		if x.Format != "debian" {
			continue
		}
		named = true
		if x.Off {
			continue
		}
		like := supply.Repository{Keys: trusted}
		if len(own) > 0 {
			like = known(own[0])
		}
		suites := x.Suites
		if suites == nil {
			suites = suitesOf(own, x.Address)
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
		if len(suites) == 0 {
			return nil, noSource("a [[source]] names no suites, and this machine's own client knows none for it")
		}
		for _, suite := range suites {
			r := like
			r.Suite = suite
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
