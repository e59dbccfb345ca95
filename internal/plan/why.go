package plan

import (
	"slices"
	"strings"

	"dravit/internal/about"
)

// Subjects returns everything that was decided or could not be, in the order of the decisions.
func (p Plan) Subjects() []about.Subject {
	all := []about.Subject{}
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

// Why returns the decision about a subject that a user names, or the fault in its place. A subject may be shortened:
// app.version means part.app.version, and app means it too, unless [requires] has a program app. If a name is
// ambiguous, near holds the possible subjects.
func (p Plan) Why(named string) (d *Decision, f *Fault, near []about.Subject) {
	without := func(full string) string {
		_, rest, _ := strings.Cut(full, ".")
		return rest
	}
	for _, fits := range []func(full string) bool{
		func(full string) bool { return full == named },
		func(full string) bool { return without(full) == named },
		func(full string) bool { return full == about.Part(named).At("version").String() },
		func(full string) bool { return strings.HasSuffix(full, "."+named) },
		func(full string) bool {
			return strings.HasPrefix(full, named+".") || strings.HasPrefix(without(full), named+".")
		},
	} {
		found := slices.DeleteFunc(p.Subjects(), func(s about.Subject) bool { return !fits(s.String()) })
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
