package plan

import (
	"cmp"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// lack is a store that a runtime cannot reach.
type lack struct{ store, because string }

// reach gives a candidate a module for every store that the part uses and its list names nothing for. A store that the
// part uses by name must be reached: the returned text says which is not. One that it uses since the stack has it may
// be lacking.
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
	for _, store := range m.plan.Parts { // those are decided before runtimes
		names := runtime.Clients(store.Kind)
		if len(names) == 0 || slices.ContainsFunc(names, has) ||
			want.Uses != nil && !slices.Contains(want.Uses, store.Name) {
			continue
		}
		for _, name := range names { // every one that there is: which of them the application calls, nobody said
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
		why := "it has no extension to reach " + store.Name + " (" + strings.Join(names, ", ") + ")"
		if want.Uses != nil {
			return why
		}
		c.lacks = append(c.lacks, lack{store.Name, why})
	}
	return ""
}

// without takes the stores that a runtime cannot reach out of those that it uses.
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
	m.decide("part."+p.Name+".uses", cmp.Or(strings.Join(p.Uses, ", "), "none"), rejected,
		"every store of the stack that the runtime can reach")
}
