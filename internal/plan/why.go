package plan

import (
	"slices"
	"strings"
)

// Subjects returns everything that was decided or could not be, in the order of the decisions.
func (p Plan) Subjects() []string {
	all := []string{}
	for _, d := range p.Decisions {
		all = append(all, d.Subject)
	}
	for _, f := range p.Faults {
		if !slices.Contains(all, f.Subject) {
			all = append(all, f.Subject)
		}
	}
	return all
}

// Why returns the decision about a subject, or the fault in its place. A subject may be shortened: app.version means
// part.app.version, and app means it too, unless [requires] has a program app. If a subject is ambiguous, near holds
// the possible ones.
func (p Plan) Why(subject string) (d *Decision, f *Fault, near []string) {
	all := p.Subjects()
	match := func(fits func(full string) bool) []string {
		var found []string
		for _, s := range all {
			if fits(s) {
				found = append(found, s)
			}
		}
		return found
	}
	without := func(full string) string {
		_, rest, _ := strings.Cut(full, ".")
		return rest
	}
	for _, fits := range []func(string) bool{
		func(full string) bool { return full == subject },
		func(full string) bool { return without(full) == subject },
		func(full string) bool { return full == "part."+subject+".version" },
		func(full string) bool { return strings.HasSuffix(full, "."+subject) },
		func(full string) bool {
			return strings.HasPrefix(full, subject+".") || strings.HasPrefix(without(full), subject+".")
		},
	} {
		found := match(fits)
		if len(found) == 0 {
			continue
		}
		if len(found) > 1 {
			return nil, nil, found
		}
		for i := range p.Faults {
			if p.Faults[i].Subject == found[0] {
				return nil, &p.Faults[i], nil
			}
		}
		i := slices.IndexFunc(p.Decisions, func(d Decision) bool { return d.Subject == found[0] })
		return &p.Decisions[i], nil, nil
	}
	return nil, nil, nil
}
