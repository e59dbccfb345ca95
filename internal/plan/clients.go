package plan

import (
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// clients gives each runtime a module for every store that it uses and cannot reach yet. Where there is none, a store that it uses by name is a
// fault, and one that it uses since the stack has it is left out.
func (m *maker) clients(file map[string]stackfile.Part) {
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		client, ok := m.kinds[p.Kind].(kind.Client)
		if !ok {
			continue
		}
		for _, use := range slices.Clone(p.Uses) {
			j := slices.IndexFunc(m.plan.Parts, func(x Part) bool { return x.Name == use })
			if j < 0 {
				continue
			}
			m.client(p, m.plan.Parts[j], client.Clients(m.plan.Parts[j].Kind), file[p.Name].For(p.Kind).Uses != nil)
		}
	}
}

func (m *maker) client(p *Part, store Part, names []string, named bool) {
	has := func(name string) bool {
		return slices.ContainsFunc(p.Modules, func(x kind.Module) bool { return x.Name == name }) || slices.Contains(strings.Fields(p.Facts["built_in"]), name)
	}
	if len(names) == 0 || slices.ContainsFunc(names, has) {
		return
	}
	want, _ := m.wanted(p.Name, m.kinds[p.Kind], p.Want)
	program := kind.Program{Kind: p.Kind, Version: p.Version, Path: p.Program, Facts: p.Facts}
	for _, name := range names { // every one that there is: which of them the application calls, nobody said
		try := want
		try.Also = append(slices.Clone(want.Also), name)
		e := m.kinds[p.Kind].(kind.Extender).Extend(try, program, m.modules())
		if len(e.Missing) == 0 {
			want = try
			p.Modules = e.Load
			c := e.Chosen[slices.IndexFunc(e.Chosen, func(c kind.Choice) bool { return c.Name == name })]
			m.decide("part."+p.Name+".extensions."+name, or(c.File, "built in"), c.Rejected, "the part uses "+store.Name+", and its list names nothing to reach it with", c.Because)
		}
	}
	if slices.ContainsFunc(names, has) {
		return
	}
	what := p.Kind + " " + p.Version + " has no extension to reach " + store.Name
	if named {
		m.fault("part."+p.Name+".uses", what, "a "+store.Kind+" is reached with "+strings.Join(names, " or "), "install one of them, or take "+store.Name+" out of uses in "+stackfile.Name)
		return
	}
	p.Uses = slices.DeleteFunc(p.Uses, func(u string) bool { return u == store.Name })
	m.decide("part."+p.Name+".uses", strings.Join(p.Uses, ", "), []Option{{Option: store.Name, Because: what + " (" + strings.Join(names, ", ") + ")"}}, "every store of the stack that the runtime can reach")
}
