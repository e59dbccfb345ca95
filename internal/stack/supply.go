package stack

import (
	"context"
	"errors"
	"os"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/settings"
	"dravit/internal/supply"
	"dravit/internal/trouble"
	"dravit/internal/version"
)

// supplier returns who gets programs: from the source of the settings, or else of this machine's own client.
func (m *Machine) supplier(ctx context.Context) (supply.Supplier, error) {
	set, err := settings.Read(m.Home)
	if err != nil {
		return supply.Supplier{}, err
	}
	source := settings.Source{}
	if len(set.Sources) > 0 {
		source = set.Sources[0]
	}
	if source.Off {
		return supply.Supplier{}, noSource("the settings switch it off")
	}
	if source.Address == "" {
		base, _ := os.UserHomeDir() // without a home, the client npm is asked
		source.Address, err = supply.AddressOf(ctx, base, os.Getenv)
	}
	if errors.Is(err, supply.ErrNoSource) {
		return supply.Supplier{}, noSource("neither Dravit's settings nor this machine's npm name a registry")
	}
	if err == nil {
		err = supply.CheckAddress(source.Address)
	}
	if err != nil {
		return supply.Supplier{}, noSource(err.Error())
	}
	return supply.New(m.Home, source.Address), nil
}

func noSource(because string) error {
	return &trouble.Trouble{Code: trouble.NoSource, What: "there is no source for programs", Because: because,
		Next: "[[source]] in Dravit's settings.toml: docs/supply.md"}
}

// Offer returns what a source has of a kind's program for a condition, such as "18" or ">= 16, < 20"; "": any.
func (m *Machine) Offer(ctx context.Context, kindName, condition string) (supply.Offer, error) {
	allowed, err := version.ParseConstraint(condition)
	if condition == "" {
		allowed, err = version.Constraint{}, nil
	}
	if err != nil {
		return supply.Offer{}, &trouble.Trouble{Code: trouble.BadName, What: "that is no version: " + condition,
			Because: err.Error(), Next: `a version is a prefix, such as 18, or comparisons: ">= 16, < 20"`}
	}
	return m.offer(ctx, kindName, func(v string) bool { return condition == "" || allowed.Allows(v) })
}

func (m *Machine) offer(ctx context.Context, kindName string, allowed func(string) bool) (supply.Offer, error) {
	k := m.Kinds.Of(kindName)
	if k == nil || k.Traits().Carrier.Package == "" {
		return supply.Offer{}, &trouble.Trouble{Code: trouble.BadName, What: "no program of kind " + kindName +
			" can be supplied", Because: "the kinds that can are " + strings.Join(m.suppliable(), ", "),
			Next: "install it by the system's own packages"}
	}
	s, err := m.supplier(ctx)
	if err != nil {
		return supply.Offer{}, err
	}
	offer, err := s.Find(ctx, k, allowed)
	if errors.Is(err, supply.ErrNotCarried) {
		return offer, &trouble.Trouble{Code: trouble.NoProgram, What: "no package has " + kindName + " for this system",
			Because: "it is " + s.OS + " on " + s.Arch, Next: "install it by the system's own packages"}
	}
	return offer, err
}

func (m *Machine) suppliable() []string {
	var all []string
	for _, k := range m.Kinds {
		if k.Traits().Carrier.Package != "" {
			all = append(all, k.Traits().Name)
		}
	}
	return all
}

// Supply gets what an offer names. report is called with the bytes that were fetched.
func (m *Machine) Supply(ctx context.Context, o supply.Offer, report func(Bytes)) (supply.Tree, error) {
	s, err := m.supplier(ctx)
	if err != nil {
		return supply.Tree{}, err
	}
	return s.Get(ctx, o, m.Kinds.Of(o.Kind), func(done int64) { report(Bytes{done, o.Bytes}) })
}

// Lacking returns the offers for parts of a plan for which this machine has no program. Parts that no source helps are
// left out.
func (s *Stack) Lacking(ctx context.Context, consent plan.Consent) ([]supply.Offer, error) {
	in, p, err := s.Plan(ctx, consent)
	if err != nil {
		return nil, err
	}
	var offers []supply.Offer
	for _, fault := range p.Faults {
		part, ok := strings.CutPrefix(fault.Subject, "part.")
		if !ok || fault.Code != trouble.NoProgram {
			continue
		}
		for _, name := range in.File.Parts[part].Kind {
			k := s.Kinds.Of(name)
			if k == nil || k.Traits().Carrier.Package == "" {
				continue
			}
			offer, err := s.offer(ctx, name, plan.Accepts(in, s.Kinds.ByName(), part, name))
			if err != nil {
				return offers, err
			}
			if !slices.ContainsFunc(offers, func(o supply.Offer) bool { return o.Same(offer) }) {
				offers = append(offers, offer)
			}
			break
		}
	}
	return offers, nil
}

// Supplied is a tree, and who uses it.
type Supplied struct {
	supply.Tree
	Stacks []string `json:"stacks"` // their names
}

// Supplies returns the trees that there are.
func (m *Machine) Supplies() ([]Supplied, error) {
	trees, err := supply.Trees(m.Home)
	if err != nil {
		return nil, err
	}
	book, err := ledger.Read(m.Home)
	if err != nil {
		return nil, err
	}
	all := []Supplied{}
	for _, t := range trees {
		x := Supplied{t, []string{}}
		for id, entry := range book.Stacks {
			spec, err := materialise.Read(m.Home, id)
			if err == nil && slices.ContainsFunc(spec.Parts, func(p kind.Part) bool { return p.Program == t.Program }) {
				x.Stacks = append(x.Stacks, entry.Name)
			}
		}
		slices.Sort(x.Stacks)
		all = append(all, x)
	}
	return all, nil
}
