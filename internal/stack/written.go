package stack

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/plan"
	"dravit/internal/project"
)

// writtenDown names the files of the project in which a port stands that a part had before: one that an installer
// wrote, say, which follows nothing.
func (s *Stack) writtenDown(changes []plan.Change) []string {
	was := map[int]plan.Change{}
	for _, c := range changes {
		port, err := strconv.Atoi(c.Was)
		if err == nil && strings.HasSuffix(c.Subject, ".port") {
			was[port] = c
		}
	}
	var out []string
	for _, m := range project.PortsIn(s.Dir, slices.Sorted(maps.Keys(was))) {
		c := was[m.Port]
		part := strings.TrimSuffix(strings.TrimPrefix(c.Subject, "part."), ".port")
		out = append(out, fmt.Sprintf("%s, line %d, contains the port %d, which part %s had before: it has %s now",
			m.File, m.Line,
			m.Port, part, c.Now))
	}
	return out
}
