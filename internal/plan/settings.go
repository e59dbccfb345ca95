package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/setting"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// settings applies what applications require of their runtimes and databases: it raises Dravit's own values that are
// too low. A value in the stack file that does not meet a requirement is a fault.
func (m *maker) settings() {
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		r := p.Want.Requires
		if r == nil {
			continue
		}
		m.raise(p, p.Name, r.Settings)
		for j := range m.plan.Parts {
			if store := &m.plan.Parts[j]; m.kinds[store.Kind].Traits().Databases && store.Outside == "" &&
				slices.Contains(p.Uses, store.Name) {
				m.raise(store, p.Name, r.Database)
			}
		}
	}
}

// raise raises a part's settings to what the application of the part by requires.
func (m *maker) raise(p *PartPlan, by string, wanted map[string]stackfile.Text) {
	own := m.kinds[p.Kind].Traits().Settings
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		want, err := setting.Parse(string(wanted[name]))
		if err != nil {
			continue // the reader of the stack file checked it
		}
		subject := about.Part(p.Name).At("settings").At(name)
		if said, set := p.Want.Settings[name]; set {
			if !want.Meets(name, string(said)) {
				m.fault(trouble.Contradiction, subject, fmt.Sprintf("the setting %s of part %s is %s", name, p.Name,
					said), fmt.Sprintf("the application of part %s requires %s", by, wanted[name]),
					"correct one of the two in "+stackfile.Name)
			}
			continue
		}
		now, known := own[name]
		if !known {
			now, known = own[strings.ReplaceAll(name, "_", "-")]
		}
		if known && !want.Meets(name, now) { // a check will show a value that is not known here
			p.Want.Settings = maps.Clone(p.Want.Settings)
			if p.Want.Settings == nil {
				p.Want.Settings = map[string]stackfile.Text{}
			}
			p.Want.Settings[name] = stackfile.Text(want.Value)
			m.decide(subject, want.Value, []Option{{Option: now,
				Because: fmt.Sprintf("the application of part %s requires %s", by, wanted[name])}},
				"the smallest value that meets the requirement")
		}
	}
}
