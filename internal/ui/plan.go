package ui

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/plan"
)

// Plan writes every decision with its reasons.
func (u *UI) Plan(p plan.Plan) {
	parts := len(p.Parts)
	for name := range p.Supply {
		if !strings.HasPrefix(name, plan.OfTool) {
			parts++
		}
	}
	u.say(u.bold(p.Stack) + "  " + plural(parts, "part") + ", " + plural(len(p.Sites), "site"))
	var rows []row
	for _, x := range p.Parts {
		program := x.Program
		if program == "" {
			program = u.dim(x.Origin)
		}
		rows = append(rows, row{[]string{x.Name, x.Kind, cmp.Or(x.Version, "-"), dash(x.Port), program},
			append(notes(p, aspects(about.Part(x.Name))), loading(p, x)...)})
	}
	for name, s := range p.Supply {
		size := bytesText(s.Bytes) + " to fetch"
		switch {
		case s.Bytes == 0:
			size = "here already"
		case s.Bytes < 0:
			size = "size unknown"
		}
		rows = append(rows, row{cells: []string{name, s.Kind, s.Version, "-",
			u.paint(yellow, "from supply: "+size+", "+printable(s.Source))}})
	}
	slices.SortFunc(rows, func(a, b row) int { return strings.Compare(a.cells[0], b.cells[0]) })
	if len(rows) > 0 {
		u.table([]string{"part", "kind", "version", "port", "program"}, rows, 3)
	}
	for _, n := range notes(p, about.Subject.RequiredName) {
		u.say("  " + u.dim(n))
	}
	rows = nil
	for _, s := range p.Sites {
		by := s.Server
		if s.App != "" {
			by += " + " + s.App
		}
		root := s.Root
		if root == "" {
			root = "-"
		}
		rows = append(rows, row{[]string{s.Name, s.URL, by, root}, notes(p, aspects(about.Site(s.Name)))})
	}
	if len(rows) > 0 {
		u.say("")
		u.table([]string{"site", "address", "served by", "root"}, rows)
	}
	if n := notes(p, ofStack); len(n) > 0 {
		u.say("")
		for _, l := range n {
			u.say(u.dim(l))
		}
	}
	u.passedOver(p.Notes)
	u.warn(p.Warnings)
	if len(p.Changes) > 0 {
		u.say("")
		u.Changed(p)
	}
	u.say("")
}

// passedOver writes what was found and is not used.
func (u *UI) passedOver(notes []string) {
	for _, n := range notes {
		for _, l := range wrap("skipped: "+n, Width()) {
			u.say(u.paint(yellow, l))
		}
	}
}

// warn writes the plan's warnings.
func (u *UI) warn(warnings []string) {
	for _, n := range warnings {
		for _, l := range wrap("note: "+n, Width()) {
			u.say(u.paint(yellow, l))
		}
	}
}

// Outdated writes what has changed since it was used.
func (u *UI) Outdated(sentences []string) { u.warn(sentences) }

// Warnings writes what the user should know of a plan that is carried out.
func (u *UI) Warnings(p plan.Plan) {
	u.passedOver(p.Notes)
	u.warn(p.Warnings)
}

// Changed writes what is different since the last good start, if anything is.
func (u *UI) Changed(p plan.Plan) {
	if len(p.Changes) > 0 {
		u.changed(p.Since, p.Changes)
	}
}

// maxChanges is how many changes are listed; the rest is counted.
const maxChanges = 12

func (u *UI) changed(when string, all []plan.Change) {
	since := ""
	if when != "" {
		since = " since the last good start, " + when
	}
	u.say(u.paint(yellow, "changed") + u.dim(since))
	for i, c := range all {
		if i == maxChanges {
			u.say(u.dim(fmt.Sprintf("  and %d more", len(all)-i)))
			return
		}
		for _, l := range wrap(c.Subject.String()+" was "+c.Was+", is "+c.Now+": "+c.Because, Width()-2) {
			u.say("  " + l)
		}
	}
}

// aspects returns which decisions are about an aspect of a thing, and which aspect that is.
func aspects(thing about.Subject) func(about.Subject) (string, bool) {
	return func(s about.Subject) (string, bool) { return s.Aspect(), s.Thing() == thing && s.Aspect() != "" }
}

// ofStack returns which decisions are about the stack's name or the gateway.
func ofStack(s about.Subject) (string, bool) {
	return s.String(), s == about.Stack || s.In(about.Gateway)
}

// notes are the reasons of some decisions, which names tells and names.
func notes(p plan.Plan, names func(about.Subject) (string, bool)) []string {
	var out []string
	for _, d := range p.Decisions {
		rest, ok := names(d.Subject)
		if !ok {
			continue
		}
		if rest == "kind" && len(d.Rejected) == 0 || rest == "way" || d.State != "" && d.State != kind.Misfit {
			continue // leave out the obvious; why shows it
		}
		out = append(out, rest+" "+d.Choice+": "+strings.Join(d.Because, "; "))
		for _, r := range d.Rejected {
			out = append(out, "not "+r.Option+": "+r.Because)
		}
	}
	return out
}

// loading lists the extensions that a part wants by name, and files with such names that do not fit.
func loading(p plan.Plan, x plan.PartPlan) []string {
	var names, out []string
	for _, d := range p.Decisions {
		name, ok := strings.CutPrefix(d.Subject.Aspect(), "extensions.")
		if !ok || d.Subject.Thing() != about.Part(x.Name) || d.State == kind.Misfit {
			continue
		}
		if len(d.Because) > 1 { // the last reason is how it fits, which is obvious
			name += " (" + d.Because[0] + ")"
		}
		names = append(names, name)
		for _, r := range d.Rejected {
			if filepath.Dir(r.Option) == filepath.Dir(d.Choice) || !filepath.IsAbs(r.Option) {
				out = append(out, "not "+r.Option+": "+r.Because)
			}
		}
	}
	if len(names) > 0 {
		out = append([]string{"extensions " + strings.Join(names, ", ")}, out...)
	}
	return out
}
