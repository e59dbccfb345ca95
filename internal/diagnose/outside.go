package diagnose

import (
	"slices"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// outside examines a server that somebody else runs: it can be gone, refuse the log-in, or work otherwise than it
// should.
func (d *doctor) outside(p PartFacts, said string) {
	name, subject, at := p.Spec.Name, about.Part(p.Spec.Name), p.Spec.Address()
	misses := func(rung kind.RungName) bool {
		return slices.ContainsFunc(p.Rungs, func(r health.Result) bool {
			return r.Rung == rung && r.Holds != nil && !*r.Holds
		})
	}
	switch {
	case misses(kind.Open):
		d.add(seen, cause.OutsideGone, subject, "no server answers at "+at+", where part "+name+" should be",
			"start that server, or correct part."+name+".outside in "+stackfile.Name, said)
	case misses(kind.Greets):
		remedy := "dravit start asks for its password, or takes it from " + stackfile.PasswordVariable(name)
		if p.Traits.Databases {
			remedy += "; or correct user and database of part " + name + " in " + stackfile.Name
		}
		d.add(seen, cause.OutsideRefused, subject, "the server of part "+name+" ("+at+") refuses the log-in", remedy,
			said)
	default:
		d.add(seen, cause.OutsideUnwell, subject,
			"the server of part "+name+" ("+at+") accepts the log-in, and does not work", "ask whoever runs it", said)
	}
}
