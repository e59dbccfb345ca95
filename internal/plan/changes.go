package plan

import (
	"cmp"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
)

// changes returns what is different since the last good start: what runs, and what the stack file says.
func (m *maker) changes() {
	good := m.in.History.Good
	m.plan.Since = good.At
	if good.File != nil {
		m.edits(good.File, m.in.File.Values())
	}
	for _, name := range slices.Sorted(maps.Keys(good.Parts)) {
		was := good.Parts[name]
		if _, wanted := m.in.File.Parts[name]; !wanted && name != m.added {
			continue // the stack file has no such part any more
		}
		var now Chosen
		if i := slices.IndexFunc(m.plan.Parts, func(p PartPlan) bool { return p.Name == name }); i >= 0 {
			p := m.plan.Parts[i]
			now = Chosen{p.Kind, p.Version, p.Program}
			if p.Outside != "" {
				m.plan.Changes = append(m.plan.Changes, Change{
					Subject: about.Part(name),
					Was:     strings.TrimSpace(was.Kind + " " + was.Version),
					Now:     p.Kind + " at " + net.JoinHostPort(p.Outside, strconv.Itoa(p.Port)),
					Because: "the stack file names a server that somebody else runs; the part's data stay as they are",
				})
				continue
			}
		}
		if now == was {
			continue
		}
		c := Change{
			Subject: about.Part(name).At("version"),
			Was:     strings.TrimSpace(was.Kind + " " + was.Version),
			Now:     cmp.Or(strings.TrimSpace(now.Kind+" "+now.Version), "nothing"),
		}
		there := slices.IndexFunc(m.in.Survey.Programs, func(p kind.Program) bool {
			return p.Kind == was.Kind && p.Path == was.Program
		})
		switch {
		case was.Program == "" && now.Program == "" && now.Kind == was.Kind:
			c.Because = "Dravit itself was replaced"
		case was.Program == "":
			c.Because = "another program is used now"
		case there < 0:
			c.Because = was.Program + " is gone"
		case m.in.Survey.Programs[there].Version != was.Version:
			c.Because = was.Program + " became " + m.in.Survey.Programs[there].Version
		case slices.Contains(m.in.Consent.Upgrade, name):
			c.Because = "you agreed to the upgrade"
		default:
			c.Because = m.passedBy(c.Subject, &m.in.Survey.Programs[there])
		}
		if now.Kind == was.Kind && now.Version == was.Version {
			c.Was, c.Now = c.Was+" at "+was.Program, c.Now+" at "+now.Program
		}
		m.plan.Changes = append(m.plan.Changes, c)
	}
}

// passedBy says why a part no longer runs on a program that is still there.
func (m *maker) passedBy(subject about.Subject, p *kind.Program) string {
	for _, d := range m.plan.Decisions {
		if d.Subject != subject {
			continue
		}
		for _, o := range d.Rejected {
			if o.Option == option(p) {
				return p.Path + ": " + o.Because
			}
		}
	}
	return p.Path + " is still there, and was not chosen"
}

func (m *maker) edits(was, now map[string]string) {
	all := maps.Clone(was)
	maps.Copy(all, now)
	for _, path := range slices.Sorted(maps.Keys(all)) {
		before, after := was[path], now[path]
		if before == after {
			continue
		}
		if strings.HasPrefix(path, "env.") { // digests, of what may be secret
			switch {
			case before == "":
				after = "a value"
			case after == "":
				before = "a value"
			default:
				before, after = "a value", "another"
			}
		}
		m.plan.Edits = append(m.plan.Edits, Change{
			Subject: about.Parse(path),
			Was:     cmp.Or(before, "nothing"),
			Now:     cmp.Or(after, "nothing"),
			Because: "the stack file was edited",
		})
	}
}
