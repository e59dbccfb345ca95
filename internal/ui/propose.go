package ui

import (
	"strings"

	"dravit/internal/stack"
	"dravit/internal/stackfile"
)

// Proposal writes a proposed stack file, and what this machine lacks for it.
func (u *UI) Proposal(p stack.Proposed) {
	u.say(u.bold(p.Plan.Stack) + "  " + p.Shape)
	u.say("")
	for line := range strings.Lines(p.Text) {
		line = strings.TrimRight(line, "\n")
		if strings.HasPrefix(line, "#") {
			u.say(u.dim(line))
			continue
		}
		code, comment := line, ""
		if i := strings.LastIndex(line, " # "); i >= 0 {
			code, comment = line[:i+1], line[i+1:]
		}
		u.say(code + u.dim(comment))
	}
	u.say("")
	for _, f := range p.Plan.Faults {
		for _, l := range wrap("this machine cannot run it yet: "+f.What+", because "+f.Because, Width()) {
			u.say(u.paint(yellow, l))
		}
		for _, l := range wrap("do: "+f.Next, Width()-2) {
			u.say("  " + l)
		}
	}
	u.warn(p.Plan.Warnings)
}

// ProposalWritten says what became of a proposal.
func (u *UI) ProposalWritten(p stack.Proposed, written bool) {
	switch {
	case !written:
		u.Next("dravit propose --yes writes it to " + stackfile.Name)
	case p.Plan.OK:
		u.Next("dravit start")
	default:
		u.Next("dravit plan, once the machine has what is missing")
	}
}

// ProposalBeside writes what a proposal has that the stack file lacks.
func (u *UI) ProposalBeside(p stack.Proposed) {
	u.say(u.bold(p.Plan.Stack) + "  has a " + stackfile.Name + " already")
	for _, n := range p.New {
		u.say("  it lacks  " + n)
	}
	if len(p.New) == 0 {
		u.say("  it has every part and extension that propose finds")
	}
}

// ProposalAdded says what became of what a stack file lacks.
func (u *UI) ProposalAdded(p stack.Proposed, added bool) {
	switch {
	case added:
		u.Next("dravit start")
	case p.Merged != "":
		u.Next("dravit propose --yes adds it; --json shows the whole proposal; --force overwrites the file")
	default:
		u.Next("dravit propose --json shows the whole proposal; --force overwrites the file")
	}
}
