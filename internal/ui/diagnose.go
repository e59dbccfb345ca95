package ui

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dravit/internal/lifecycle"
	"dravit/internal/stack"
)

// Diagnosis writes the causes, each with its evidence and its remedy.
func (u *UI) Diagnosis(name string, d stack.Diagnosis) {
	state := lifecycle.Answers
	switch {
	case d.Stopped:
		state = lifecycle.Stopped
	case !d.Answers:
		state = lifecycle.Unwell
	}
	head := u.bold(name) + "  " + u.state(state)
	switch {
	case len(d.Causes) > 0:
		head += "  " + plural(len(d.Causes), "cause")
	case d.Answers:
		head += "  nothing is wrong"
	}
	u.say(head)
	width := 0
	for _, c := range d.Causes {
		width = max(width, len(c.Cause))
	}
	for i, c := range d.Causes {
		if i > 0 {
			u.say("")
		}
		u.block(u.paint(yellow, string(c.Cause))+strings.Repeat(" ", width-len(c.Cause)+2), width+2,
			c.Subject.String()+": "+c.What)
		for _, e := range c.Evidence {
			for _, l := range wrap(e, Width()-width-2) {
				u.say(strings.Repeat(" ", width+2) + u.dim(l))
			}
		}
		u.block(u.dim(strings.Repeat(" ", width-2)+"do  "), width+2, c.Remedy)
	}
	if len(d.Causes) > 0 {
		u.say("")
	}
	if len(d.Causes) > 0 && len(d.Changes) > 0 {
		u.changed(d.Since, d.Changes)
		u.say("")
	}
	for _, name := range slices.Sorted(maps.Keys(d.Exits)) {
		x := d.Exits[name]
		u.say(u.dim(fmt.Sprintf("part %s: %s ago, after %s, %s", name, duration(time.Since(x.At)),
			duration(time.Duration(x.RanMS)*time.Millisecond), x.How)))
	}
	switch {
	case d.Stopped:
		u.Next("dravit start")
	case d.Answers:
		u.Next("dravit check shows every rung")
	default:
		for _, c := range d.Causes {
			if c.Fix != nil {
				u.Next("dravit diagnose --fix carries out what can do no harm, after asking")
				return
			}
		}
		u.Next("dravit check shows every rung; dravit logs shows what the servers wrote")
	}
}

// block writes a text behind a head, and wraps it in its own column.
func (u *UI) block(head string, indent int, text string) {
	for i, l := range wrap(text, Width()-indent) {
		if i == 0 {
			u.say(head + strings.TrimSpace(l))
			continue
		}
		u.say(strings.Repeat(" ", indent) + strings.TrimSpace(l))
	}
}
