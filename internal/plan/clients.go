package plan

import (
	"cmp"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// lack is a store that a runtime cannot reach.
type lack struct{ store, because string }

// reach adds to a candidate a module for every store that the part uses and that no module of its list reaches. If the
// stack file names the store, the part must reach it: the returned text says which one it does not. A store that the
// part uses by default may be out of reach.
func (m *maker) reach(c *candidate, k kind.Kind, want stackfile.PartConfig) string {
	runtime, ok := k.(kind.Runtime)
	if !ok {
		return ""
	}
	has := func(name string) bool {
		return slices.ContainsFunc(c.extended.Load, func(x kind.Module) bool {
			return x.Name == name
		}) || slices.Contains(strings.Fields(c.program.Facts["built_in"]), name)
	}
	for _, store := range m.plan.Parts { // stores are decided before runtimes
		names := runtime.Clients(store.Kind)
		if len(names) == 0 || slices.ContainsFunc(names, has) ||
			want.Uses != nil && !slices.Contains(want.Uses, store.Name) {
			continue
		}
		for _, name := range names { // add all of them: which one the application uses is not known
			try := want
			try.Also = append(slices.Clone(want.Also), name)
			if e := runtime.Extend(try, *c.program, m.modules()); len(e.Missing) == 0 {
				want, c.extended = try, e
				c.reaches = append(c.reaches, [2]string{name, store.Name})
			}
		}
		if slices.ContainsFunc(names, has) {
			continue
		}
		why := "it has no extension to connect to " + store.Name + " (" + strings.Join(names, ", ") + ")"
		if want.Uses != nil {
			return why
		}
		c.lacks = append(c.lacks, lack{store.Name, why})
	}
	return ""
}

// without removes the stores that a runtime cannot reach from those that it uses.
func (m *maker) without(p *PartPlan) {
	lacks := m.lacks[p.Name]
	if len(lacks) == 0 {
		return
	}
	var rejected []Option
	for _, l := range lacks {
		p.Uses = slices.DeleteFunc(p.Uses, func(u string) bool { return u == l.store })
		rejected = append(rejected, Option{Option: l.store, Because: l.because})
	}
	m.decide(about.Part(p.Name).At("uses"), cmp.Or(strings.Join(p.Uses, ", "), "none"), rejected,
		"every database, cache and mail catcher of the stack that the runtime can connect to")
}
