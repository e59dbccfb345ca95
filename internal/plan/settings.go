package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"dravit/internal/setting"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// settings sets what applications require of their runtimes and databases, where nobody has said otherwise: values of
// Dravit's own that fall short are raised. What is written in the stack file and does not meet a requirement is a
// fault.
func (m *maker) settings() {
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		r := p.Want.Requires
		if r == nil {
			continue
		}
		m.raise(p, p.Name, r.Settings)
		for j := range m.plan.Parts {
			if store := &m.plan.Parts[j]; m.kinds[store.Kind].Traits().Databases &&
				slices.Contains(p.Uses, store.Name) {
				m.raise(store, p.Name, r.Database)
			}
		}
	}
}

// raise brings a part's settings to what an application of the part named by demands.
func (m *maker) raise(p *PartPlan, by string, wanted map[string]stackfile.Text) {
	own := m.kinds[p.Kind].Traits().Settings
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		want, err := setting.Parse(string(wanted[name]))
		if err != nil {
			continue // the stack file was read already
		}
		subject := "part." + p.Name + ".settings." + name
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
		if known && !want.Meets(name, now) { // of one that is not known, a check will tell
			p.Want.Settings = maps.Clone(p.Want.Settings)
			if p.Want.Settings == nil {
				p.Want.Settings = map[string]stackfile.Text{}
			}
			p.Want.Settings[name] = stackfile.Text(want.Value)
			m.decide(subject, want.Value, []Option{{Option: now,
				Because: fmt.Sprintf("the application of part %s requires %s", by, wanted[name])}},
				"the least that meets the requirement")
		}
	}
}
