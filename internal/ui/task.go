package ui

import (
	"cmp"
	"time"

	"dravit/internal/stack"
)

// Tasks writes the tasks of a stack with their last runs.
func (u *UI) Tasks(tasks []stack.TaskStatus) {
	if len(tasks) == 0 {
		u.say(u.dim("the stack has no tasks"))
		u.Next("add a [[task]] to dravit.toml; docs/stack-file.md explains its keys")
		return
	}
	var rows []row
	for _, t := range tasks {
		r := row{cells: []string{t.Name, cmp.Or(t.Part, "-"), t.When, "never", "-", "-"}}
		if last := t.Last; last != nil {
			r.cells[3] = duration(time.Since(last.At)) + " ago"
			r.cells[4] = duration(time.Duration(last.TookMS) * time.Millisecond)
			r.cells[5] = u.paint(green, "done")
			if last.Failed() {
				r.cells[5] = u.paint(red, "failed")
				r.notes = append(r.notes, last.How+"; its output is in "+t.Log)
			}
		}
		rows = append(rows, r)
	}
	u.table([]string{"task", "part", "runs at", "last run", "took", "result"}, rows, 4)
	u.say("")
	u.Next("dravit task NAME runs one")
}
