package stack

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/supply"
	"dravit/internal/survey"
	"dravit/internal/tool"
	"dravit/internal/trouble"
	"dravit/internal/version"
)

// Offer returns what a source has of a kind's program for a condition, such as "18" or ">= 16, < 20"; "": any.
// Extensions are those that it is to have.
func (m *Machine) Offer(ctx context.Context, kindName, condition string, extensions []string) (supply.Offer, error) {
	allowed, err := version.ParseConstraint(condition)
	if condition == "" {
		allowed, err = version.Constraint{}, nil
	}
	if err != nil {
		return supply.Offer{}, &trouble.Trouble{Code: trouble.BadName, What: "that is no version: " + condition,
			Because: err.Error(), Next: `a version is a prefix, such as 18, or comparisons: ">= 16, < 20"`}
	}
	if kindName == "mysql" { // a program of that name is carried, and is another server's client
		return supply.Offer{}, &trouble.Trouble{Code: trouble.BadName, What: "MySQL cannot be supplied",
			Because: "no source of Debian's format has its server; what is called mysql there is MariaDB's client",
			Next:    "dravit supply mariadb"}
	}
	return m.offer(ctx, kindName, supply.Wish{Extensions: extensions,
		Allowed: func(v string) bool { return condition == "" || allowed.Allows(v) }})
}

func (m *Machine) offer(ctx context.Context, kindName string, w supply.Wish) (supply.Offer, error) {
	recipe := m.recipe(kindName)
	if !recipe.Suppliable() {
		return supply.Offer{}, &trouble.Trouble{Code: trouble.BadName, What: "no program of kind " + kindName +
			" can be supplied", Because: "the kinds that can are " + strings.Join(m.suppliable(), ", "),
			Next: "install it by the system's own packages"}
	}
	s, err := m.supplier(ctx, &recipe, false)
	if err != nil {
		return supply.Offer{}, err
	}
	offer, err := s.Find(ctx, recipe, w)
	if errors.Is(err, supply.ErrNotCarried) {
		return offer, &trouble.Trouble{Code: trouble.NoProgram, What: "no package has " + kindName + " for this system",
			Because: "it is " + s.OS + " on " + s.Arch, Next: "install it by the system's own packages"}
	}
	return offer, err
}

// recipe returns how to fetch the program of the kind of that name, or the command-line program. If there is none, it
// is not suppliable.
func (m *Machine) recipe(name string) kind.Recipe {
	if k := m.Kinds.Of(name); k != nil {
		return kind.RecipeOf(k)
	}
	recipe, _ := tool.Of(name)
	return recipe
}

func (m *Machine) suppliable() []string {
	all := tool.Names()
	for _, k := range m.Kinds {
		if kind.RecipeOf(k).Suppliable() {
			all = append(all, k.Traits().Name)
		}
	}
	return all
}

// Supply gets what an offer names. progress is called with the bytes that were fetched.
func (m *Machine) Supply(ctx context.Context, o supply.Offer, progress func(done int64)) (supply.Tree, error) {
	recipe := m.recipe(o.Kind)
	s, err := m.supplier(ctx, &recipe, false)
	if err != nil {
		return supply.Tree{}, err
	}
	return s.Get(ctx, o, recipe, progress)
}

// Discard deletes trees, packages that no tree has any more, and what is kept of sources that are no longer named.
func (m *Machine) Discard(ctx context.Context, trees ...supply.Tree) error {
	if err := supply.Discard(ctx, m.Home, trees...); err != nil {
		return err
	}
	s, err := m.supplier(ctx, nil, true)
	if err != nil {
		return nil // which sources are named is unknown, or none is
	}
	return s.Forget()
}

// Export writes what supplied programs consist of into a folder from which a machine without a network is supplied.
// report is called with the bytes that were fetched.
func (m *Machine) Export(ctx context.Context, all []Supplied, dir string, report func(done int64)) (
	supply.Exported, error) {
	var trees []supply.Tree
	for _, t := range all {
		trees = append(trees, t.Tree)
	}
	s, err := m.supplier(ctx, nil, false)
	if err != nil {
		return supply.Exported{}, err
	}
	return s.Export(ctx, trees, dir, report)
}

// Lacking returns the offers for what a start without a plan lacks. What no source helps is left out; the error says
// why for the first of that.
func (s *Stack) Lacking(ctx context.Context, out Started) ([]supply.Offer, error) {
	var offers []supply.Offer
	var because error
	for part, find := range s.wishes(out.input, out.Plan) {
		offer, err := s.offer(ctx, find.kind, find.wish)
		if err != nil && find.wish.Exact != nil && !out.input.Consent.Locked {
			find.wish.Exact = nil // the lock does not hold here: the plan says so
			offer, err = s.offer(ctx, find.kind, find.wish)
		}
		if err != nil {
			because = cmp.Or(because, fmt.Errorf("%s: %w", part, err))
			continue
		}
		if !slices.ContainsFunc(offers, func(o supply.Offer) bool { return o.Same(offer) }) {
			offers = append(offers, offer)
		}
	}
	return offers, because
}

// suppliables returns what sources had of the programs of all kinds when they were asked last.
func (m *Machine) suppliables(ctx context.Context) (all []survey.Suppliable) {
	from, err := m.supplier(ctx, nil, true)
	if err != nil {
		return nil
	}
	var recipes []kind.Recipe
	for _, k := range m.Kinds {
		recipes = append(recipes, kind.RecipeOf(k))
	}
	for _, o := range from.Available(ctx, recipes) {
		all = append(all, survey.Suppliable{Kind: o.Kind, Version: o.Version, Suite: o.Suite, Source: o.Source})
	}
	return all
}

// wish is what a part needs that has no program.
type wish struct {
	kind string
	wish supply.Wish
}

// wishes returns what a source should have for each lack of a plan, in order. What no package carries is
// left out.
func (s *Stack) wishes(in plan.Input, p plan.Plan) iter.Seq2[string, wish] {
	lock, _ := supply.ReadLock(s.Dir) // the plan was made from it
	return func(yield func(string, wish) bool) {
		for _, l := range p.Lacks {
			var w wish
			i := slices.IndexFunc(l.Kinds, func(name string) bool {
				return s.recipe(name).Suppliable()
			})
			switch _, carried := tool.Of(l.Tool); {
			case carried:
				w = wish{l.Tool, supply.Wish{Allowed: plan.AcceptsTool(in, l.Tool),
					Exact: exact(lock.Tools[l.Tool], l.Tool)}}
			case i >= 0:
				w = wish{l.Kinds[i], supply.Wish{Allowed: plan.Accepts(in, s.Kinds.ByName(), l.Part, l.Kinds[i]),
					Exact: exact(lock.Parts[l.Part], l.Kinds[i])}}
				w.wish.Extensions, w.wish.Also = plan.Extensions(in, s.Kinds.ByName(), l.Part, l.Kinds[i])
			default:
				continue
			}
			if !yield(l.Key, w) {
				return
			}
		}
	}
}

// Offered adds to a start without a plan what sources are known to have for what it lacks. It asks none.
func (s *Stack) Offered(ctx context.Context, out *Started) {
	if out.input.Offers = s.offered(ctx, out.input, out.Plan); len(out.input.Offers) > 0 {
		out.Plan = plan.Make(out.input, s.Kinds.ByName())
	}
}

// offered returns what sources are known to have for the parts of a plan that no program fits. It asks none: it reads
// what they said the last time.
func (s *Stack) offered(ctx context.Context, in plan.Input, p plan.Plan) map[string]plan.Supply {
	if p.OK {
		return nil
	}
	from, err := s.supplier(ctx, nil, true)
	if err != nil {
		return nil
	}
	found := map[string]plan.Supply{}
	for part, find := range s.wishes(in, p) {
		o, err := from.Find(ctx, s.recipe(find.kind), find.wish)
		if err == nil {
			size := o.Bytes
			if size == 0 && o.Packages == nil {
				size = -1
			}
			found[part] = plan.Supply{Kind: o.Kind, Version: o.Version, Source: o.Source, Bytes: size}
		}
	}
	return found
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
			spec, err := materialise.Read(m.Home, id, m.Kinds)
			if err == nil && (slices.Contains(spec.Tools, t.Program) ||
				slices.ContainsFunc(spec.Parts, func(p kind.Part) bool { return p.Program == t.Program })) {
				x.Stacks = append(x.Stacks, entry.Name)
			}
		}
		slices.Sort(x.Stacks)
		all = append(all, x)
	}
	return all, nil
}
