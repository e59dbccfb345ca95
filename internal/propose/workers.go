package propose

import (
	"slices"
	"strings"

	"dravit/internal/pattern"
)

// writeWorkers writes the workers that a Procfile or a package names.
func (d *draft) writeWorkers() {
	number := 0
	for line := range strings.Lines(string(d.read("Procfile"))) {
		number++
		name, command, ok := strings.Cut(strings.TrimSpace(line), ":")
		command = strings.TrimSpace(command)
		name = strings.ReplaceAll(name, "_", "-")
		taken := slices.ContainsFunc(d.Tables, func(t Table) bool { return t.Path == "part."+name })
		if !ok || command == "" || name == "release" || slices.Contains(d.reserved(), name) || taken ||
			strings.ContainsAny(command, "{}") || !pattern.Of(`^[a-z][a-z0-9-]{0,20}$`).MatchString(name) ||
			len(d.programs) == 0 {
			continue
		}
		t := d.table("part." + name)
		t.add("kind", d.workerKind(d.programs[0]), Likely, Evidence{"Procfile", number, "names it"})
		t.add("command", command, Likely)
		t.add("listens", false, Likely)
	}
}

// workerKind returns the kind of a part for a command of a program's: that of pages is a command like any other.
func (d *draft) workerKind(p program) string {
	if d.signs.code(p.shape.Kind).Pages != "" {
		return "custom"
	}
	return p.shape.Kind
}
