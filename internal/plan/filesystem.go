package plan

import "fmt"

// fileSystem warns about a project on a file system that lacks something.
func (m *maker) fileSystem() {
	lacks := m.in.Project.FileSystem
	if lacks == nil {
		return
	}
	warn := func(what string) {
		m.plan.Warnings = append(m.plan.Warnings,
			fmt.Sprintf("the project is on a file system (%s) %s", lacks.Name, what))
	}
	if lacks.NoModes {
		warn("without owners and modes: other accounts may read what it contains, and chmod and chown change nothing")
	}
	if lacks.NoNotices {
		warn("that sends no notice of changes from elsewhere: a program that waits for them has to poll")
	}
}
