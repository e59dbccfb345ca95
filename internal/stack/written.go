package stack

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/diagnose"
	"dravit/internal/ledger"
	"dravit/internal/plan"
	"dravit/internal/project"
)

// writtenDown names the files of the project that contain a port which a part had at the last good start, and has no
// more: one that an installer wrote, say, which follows nothing.
func (s *Stack) writtenDown(changes []plan.Change) []string {
	was, now := map[string]int{}, map[string]int{}
	for _, c := range changes {
		part, isPart := c.Subject.PartName()
		before, err := strconv.Atoi(c.Was)
		if !isPart || c.Subject.Aspect() != "port" || err != nil {
			continue
		}
		was[part] = before
		now[part], _ = strconv.Atoi(c.Now) // it has a port, as it had one
	}
	var out []string
	for _, x := range s.oldPorts(was, now) {
		out = append(out, fmt.Sprintf("%s, line %d, contains the port %d, which part %s had before: it has %d now",
			x.File, x.Line, x.Was, x.Part, x.Now))
	}
	return out
}

// formerPorts returns the lines of the project's files that contain the port that a part had before it moved.
func (s *Stack) formerPorts() ([]diagnose.OldPort, error) {
	book, err := ledger.Read(s.Home)
	if err != nil {
		return nil, err
	}
	own := book.Stacks[s.ID]
	former := maps.Clone(own.Former)
	maps.DeleteFunc(former, func(name string, _ int) bool { return strings.Contains(name, ".") }) // a debugger's, say
	return s.oldPorts(former, own.Ports), nil
}

// oldPorts returns the lines of the project's files that contain one of some former ports. was and now are by part.
func (s *Stack) oldPorts(was, now map[string]int) []diagnose.OldPort {
	part := map[string]string{}
	for name, port := range was {
		part[strconv.Itoa(port)] = name
	}
	var out []diagnose.OldPort
	for _, m := range project.Mentions(s.Dir, slices.Sorted(maps.Keys(part))) {
		name := part[m.Word]
		out = append(out, diagnose.OldPort{File: m.File, Line: m.Line, Part: name, Was: was[name], Now: now[name]})
	}
	return out
}
