// Package supply gets versions of programs that the machine lacks: each into a folder of its own, its tree, which
// belongs to this user alone and is gone with the folder. What sources have, and how it becomes files, is in a package
// below for each format.
package supply

import (
	"context"
	"errors"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"cmp"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/trouble"
	"dravit/internal/version"
	"maps"
)

// Same reports whether two offers are of the same package.
func (o Offer) Same(other Offer) bool {
	return o.Package == other.Package && o.Release == other.Release && slices.Equal(o.Extensions, other.Extensions)
}

// ErrNotCarried says that no package carries programs of a kind for this system.
var ErrNotCarried = errors.New("no package carries it")

// Supplier gets programs for one user.
type Supplier struct {
	Here
	Sources []Source // of two that have the same version, the later one counts
}

// New returns what a source has to know of this machine. self is the dravit program.
func New(h *home.Home, self string) Here {
	return Here{Home: h, Self: self, OS: runtime.GOOS, Arch: runtime.GOARCH}
}

// Wish is what a program has to be.
type Wish struct {
	Allowed    func(version string) bool
	Extensions []string // it has to have
	Also       []string // extensions that it has if its suite has them
	Exact      *Locked  // nil: any that is allowed
}

// Allows reports whether a release of a package, with a program of that version, may be taken. A program may call
// itself otherwise than its package does, so of a locked one either word is enough: Differs compares all of it.
func (w Wish) Allows(number, release string) bool {
	if w.Exact != nil {
		return number == w.Exact.Version || release == w.Exact.Release
	}
	return w.Allowed(number)
}

// Find returns the newest version of a program that meets a wish, and its size. If there is none, the error says which
// there are; it is ErrNotCarried if no source can have one.
func (s Supplier) Find(ctx context.Context, r kind.Recipe, w Wish) (Offer, error) {
	if w.Exact != nil {
		w.Extensions, w.Also = w.Exact.Extensions, nil
	}
	var best Offer
	var because error
	for _, from := range s.Sources {
		if !from.Carries(r) {
			continue
		}
		o, err := from.Find(ctx, r, w)
		if err != nil {
			because = cmp.Or(because, err)
			continue
		}
		o.from = from
		if w.Exact != nil && w.Exact.Differs(o) == "" {
			return o, nil
		}
		if best.from == nil || w.Exact == nil && version.Compare(o.Version, best.Version) >= 0 {
			best = o
		}
	}
	switch {
	case best.from == nil:
		return Offer{}, cmp.Or(because, ErrNotCarried)
	case w.Exact != nil:
		return best, &trouble.Trouble{Code: trouble.NoProgram, What: "the source's " + best.Kind + " " + best.Version +
			" is not the one in " + LockFile, Because: w.Exact.Differs(best),
			Next: "dravit supply lock, after a start with what the source has now"}
	}
	return best, nil
}

// Available returns what the sources have of programs, by program, the newest first.
func (s Supplier) Available(ctx context.Context, recipes []kind.Recipe) (all []Offer) {
	for _, from := range s.Sources {
		all = append(all, from.Available(ctx, recipes)...)
	}
	at := map[string]int{}
	for i, r := range recipes {
		at[r.Name] = i
	}
	slices.SortStableFunc(all, func(a, b Offer) int {
		return cmp.Or(at[a.Kind]-at[b.Kind], version.Compare(b.Version, a.Version))
	})
	return all
}

// NoneFits says that a source has no allowed release of a program. series are those that it has.
func NoneFits(program string, series map[string]bool, where, next string) *trouble.Trouble {
	all := slices.SortedFunc(maps.Keys(series), version.Compare)
	because := where + " releases of " + strings.Join(all, ", ")
	if len(all) == 0 {
		because = "no source has it"
	}
	return &trouble.Trouble{Code: trouble.NoProgram, What: "no release of " + program + " fits", Because: because,
		Next: next}
}

// folder returns where an offer's tree is, or will be.
func (s Supplier) folder(o Offer) string {
	return s.Path("trees", filepath.Base(o.Kind)+"-"+o.Version+"-"+o.Name)
}
