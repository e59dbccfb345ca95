package debian

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Suite is what the repositories of one release have together: the release itself, its updates, and further
// repositories that are built for it.
type Suite []Index

// Find returns the packages of a name, the newest first, and those that provide it.
func (s Suite) Find(name string) (packages []Package, providers []Provider) {
	for _, x := range s {
		p, by := x.Find(name)
		packages, providers = append(packages, p...), append(providers, by...)
	}
	slices.SortStableFunc(packages, func(a, b Package) int { return Compare(b.Version, a.Version) })
	return packages, providers
}

// Names returns the names of packages that begin with a prefix, each once, sorted.
func (s Suite) Names(prefix string) []string {
	var names []string
	for _, x := range s {
		names = append(names, x.Names(prefix)...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// mostTries is how often a closure is begun anew, with what was learnt about versions.
const mostTries = 100

// Closure returns the named packages and all that they depend on, sorted by name. Dependencies on packages that left
// reports count as met. The newest version of each package is taken that meets all conditions; of alternatives, the
// first that the suite has; of providers, the first by name.
func (s Suite) Closure(roots []Relation, left func(name string) bool) ([]Package, error) {
	demands := map[string][]demanded{}
	for range mostTries {
		c := closure{
			suite:    s,
			left:     left,
			demands:  demands,
			chosen:   map[string]Package{},
			provided: map[string][]Provider{},
		}
		again, err := c.follow(roots)
		if err != nil {
			return nil, err
		}
		if !again {
			return slices.SortedFunc(maps.Values(c.chosen), func(a, b Package) int {
				return strings.Compare(a.Name, b.Name)
			}), nil
		}
	}
	return nil, fmt.Errorf("the packages of %s demand versions of each other that do not fit", roots[0].Name)
}

// demanded is a condition on a package's version, and who demands it.
type demanded struct {
	Relation
	by string
}

// closure is one attempt.
type closure struct {
	suite    Suite
	left     func(name string) bool
	demands  map[string][]demanded // outlive the attempt
	chosen   map[string]Package
	provided map[string][]Provider // by the chosen, by name
}

// follow chooses packages until every dependency is met. again: a package was chosen that another one refuses, and the
// next attempt knows that.
func (c *closure) follow(roots []Relation) (again bool, err error) {
	var todo []Package
	add := func(group []Relation, by string) error {
		p, isNew, err := c.meet(group, by)
		if isNew {
			todo = append(todo, p)
		}
		return err
	}
	for _, r := range roots {
		if err := add([]Relation{r}, ""); err != nil {
			return false, err
		}
	}
	for len(todo) > 0 {
		p := todo[0]
		todo = todo[1:]
		for _, group := range Relations(p.Depends) {
			err := add(group, p.Name)
			if errors.Is(err, errAgain) {
				return true, nil
			}
			if err != nil {
				return false, err
			}
		}
	}
	return false, nil
}

// errAgain says that an attempt has to begin anew.
var errAgain = errors.New("begin anew")

// meet returns the package that was chosen for a group of alternatives, if one had to be.
func (c *closure) meet(group []Relation, by string) (p Package, isNew bool, err error) {
	for _, r := range group {
		if c.has(r) {
			return p, false, nil
		}
	}
	for _, r := range group {
		if c.left(r.Name) {
			return p, false, nil
		}
		if _, here := c.chosen[r.Name]; here { // in a version that this one refuses
			if packages, _ := c.suite.Find(r.Name); !slices.ContainsFunc(packages, func(p Package) bool {
				return r.Allows(p.Version)
			}) {
				continue
			}
			c.demands[r.Name] = append(c.demands[r.Name], demanded{r, by})
			return p, false, errAgain
		}
		if p, found := c.pick(r); found {
			return c.choose(p), true, nil
		}
	}
	var words []string
	for _, r := range group {
		words = append(words, r.String())
		for _, d := range c.demands[r.Name] {
			words = append(words, "and "+d.by+" needs "+d.String())
		}
	}
	return p, false, fmt.Errorf("%s needs %s, which the source does not have", cmp.Or(by, "the program"),
		strings.Join(words, " or "))
}

// pick returns the newest package for a relation that meets all that is demanded of it, or one that provides it.
func (c *closure) pick(r Relation) (Package, bool) {
	packages, providers := c.suite.Find(r.Name)
	for _, p := range packages {
		if r.Allows(p.Version) && !slices.ContainsFunc(c.demands[r.Name], func(d demanded) bool {
			return !d.Allows(p.Version)
		}) {
			return p, true
		}
	}
	slices.SortFunc(providers, func(a, b Provider) int { return strings.Compare(a.Package, b.Package) })
	for _, by := range providers {
		if r.Operator != "" && (by.Version == "" || !r.Allows(by.Version)) || c.left(by.Package) {
			continue
		}
		if p, found := c.pick(Relation{Name: by.Package}); found && provides(p, r) {
			return p, true
		}
	}
	return Package{}, false
}

func provides(p Package, r Relation) bool {
	return slices.ContainsFunc(Relations(p.Provides), func(group []Relation) bool {
		return group[0].Name == r.Name && (r.Operator == "" || group[0].Version != "" && r.Allows(group[0].Version))
	})
}

func (c *closure) choose(p Package) Package {
	c.chosen[p.Name] = p
	for _, group := range Relations(p.Provides) {
		c.provided[group[0].Name] = append(c.provided[group[0].Name], Provider{p.Name, group[0].Version})
	}
	return p
}

// has reports whether a chosen package meets a relation.
func (c *closure) has(r Relation) bool {
	if p, ok := c.chosen[r.Name]; ok && r.Allows(p.Version) {
		return true
	}
	return slices.ContainsFunc(c.provided[r.Name], func(by Provider) bool {
		return r.Operator == "" || by.Version != "" && r.Allows(by.Version)
	})
}
