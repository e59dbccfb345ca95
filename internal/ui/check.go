package ui

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/stack"
	"dravit/internal/trace"
)

// dots draws a ladder: ● for a rung that holds, ○ for one that does not, · for one that was not asked, and a blank for
// one that the part's kind leaves out.
func (u *UI) dots(results []health.Result) string {
	var b strings.Builder
	for _, r := range health.Aligned(results) {
		switch {
		case r == nil:
			b.WriteString(" ")
		case r.Holds == nil:
			b.WriteString(u.dim("·"))
		case *r.Holds:
			b.WriteString(u.paint(green, "●"))
		case r.Advisory:
			b.WriteString(u.dim("-"))
		default:
			b.WriteString(u.paint(red, "○"))
		}
	}
	return b.String()
}

// misses explains the rungs that do not hold, the advisory ones aside.
func misses(results []health.Result) []string {
	var out []string
	for _, r := range results {
		if !r.Advisory && r.Holds != nil && !*r.Holds {
			out = append(out, r.Miss())
		}
	}
	return out
}

// untold explains what the system does not tell about a part.
func untold(results []health.Result) []string {
	var out []string
	for _, r := range results {
		if r.Rung == kind.Ours && r.Advisory && r.Holds != nil && !*r.Holds {
			out = append(out, "- "+r.Miss())
		}
	}
	return out
}

// unresolved reports whether the system's resolver does not find a site.
func unresolved(results []health.Result) bool {
	return slices.ContainsFunc(results, func(r health.Result) bool { return r.Advisory && r.Holds != nil && !*r.Holds })
}

// lost reports whether the system's resolver leads a site's name elsewhere, or nowhere.
func lost(sites []health.SiteResult) bool {
	return slices.ContainsFunc(sites, func(s health.SiteResult) bool {
		fell := health.FirstMiss(s.Rungs)
		return fell != nil && fell.Rung == kind.Resolves
	})
}

// advice explains the mark of the names that the system's resolver does not find, if there are any.
func (u *UI) advice(names int) {
	if names > 0 {
		u.say(u.dim("- resolves is advisory: the system's resolver does not know " + plural(names, "name") +
			"; browsers do, and curl from 7.77 on"))
	}
}

func sum(results []health.Result) string {
	ms := 0.0
	for _, r := range results {
		ms += r.MS
	}
	return milliseconds(ms)
}

// Check writes the ladder of every part and site.
func (u *UI) Check(name string, c stack.Checked) {
	state := lifecycle.Answers
	answering := 0
	var rows []row
	add := func(name, kindName string, s lifecycle.State, r []health.Result, because string) {
		if s == lifecycle.Answers {
			answering++
		}
		var n []string
		if s != lifecycle.Stopped {
			n = append(misses(r), untold(r)...)
		}
		if because != "" {
			n = []string{"because " + because + " does not answer"}
		}
		rows = append(rows, row{[]string{name, kindName, u.state(s), u.dots(r), sum(r)}, n})
	}
	for _, p := range c.Parts {
		state = lifecycle.Worse(state, p.State)
		add(p.Name, p.Kind, p.State, p.Rungs, p.BecauseOf)
		for _, r := range p.Requires {
			mark := u.paint(green, "●")
			if !r.Holds {
				mark = u.paint(red, "○")
			}
			last := &rows[len(rows)-1]
			last.notes = append(last.notes, mark+u.dim(" requires "+r.Sort+" "+r.Name+" "+r.Wanted+": "+r.Got))
		}
	}
	advisory := 0
	for _, s := range c.Sites {
		state = lifecycle.Worse(state, s.State)
		add(s.Name, "site", s.State, s.Rungs, s.BecauseOf)
		if unresolved(s.Rungs) {
			advisory++
		}
	}
	u.say(u.bold(name) + "  " + u.state(state) + fmt.Sprintf("  %d of %d answer", answering, len(rows)))
	u.table([]string{"part", "kind", "state", "rungs", "time"}, rows, 4)
	if len(c.DeepChecks) > 0 {
		u.say("")
		rows = nil
		for _, d := range c.DeepChecks {
			r := row{cells: []string{d.Subject.String(), d.Check, u.paint(green, "holds"), milliseconds(d.MS)}}
			if d.Holds == nil || !*d.Holds {
				r.cells[2], r.notes = u.paint(red, "does not hold"),
					[]string{"expected " + d.Expected + ", got " + d.Got}
				state = lifecycle.Worse(state, lifecycle.Unwell)
			}
			rows = append(rows, r)
		}
		u.table([]string{"part or site", "deep check", "", "time"}, rows, 3)
	}
	u.say("")
	u.say(u.dim("rungs of a part: alive open ours greets works; of a site: resolves reaches routed replies matches"))
	u.say(u.dim("● holds  ○ does not hold  · not asked  - does not hold, but is advisory  blank: of no meaning there"))
	if state != lifecycle.Stopped {
		u.advice(advisory)
		u.reachable(c.Reachable)
	}
	switch state {
	case lifecycle.Answers:
		if len(c.Sites) > 0 {
			u.Next("open " + c.Sites[0].URL)
		}
	case lifecycle.Stopped:
		u.Next("dravit start")
	default:
		if lost(c.Sites) && !slices.ContainsFunc(c.Parts, func(p stack.PartCheck) bool {
			return p.State != lifecycle.Answers
		}) {
			u.Next("dravit names hosts on, or dravit names resolver on")
			return
		}
		u.Next("dravit diagnose says why")
	}
}

// Trace writes the legs of one request, each with its share of the time.
func (u *UI) Trace(t trace.Trace) {
	state := lifecycle.Answers
	if !t.Answers {
		state = lifecycle.Unwell
	}
	u.say(u.bold(t.Site) + "  " + u.state(state) + "  " + t.URL + "  " + u.dim(milliseconds(t.MS)))
	var rows []row
	for _, l := range t.Legs {
		holds, took, share := u.dim("not asked"), "-", ""
		switch {
		case l.Holds == nil:
		case *l.Holds:
			holds, took = u.paint(green, "holds"), milliseconds(l.MS)
		case l.Advisory:
			holds, took = u.paint(yellow, "unknown"), milliseconds(l.MS)
		default:
			holds = u.paint(red, "does not hold")
		}
		if t.MS > 0 && l.Holds != nil && *l.Holds && l.Leg != "name" {
			share = strings.Repeat("▪", int(24*l.MS/t.MS+0.5))
		}
		var notes []string
		if l.Got != "" && (l.Leg != "name" || l.Holds != nil && !*l.Holds && !l.Advisory) {
			notes = []string{l.Got}
		}
		rows = append(rows, row{[]string{l.Leg, l.Who, cmp.Or(l.Version, "-"), holds, took, u.dim(share)}, notes})
	}
	u.table([]string{"leg", "who", "version", "", "time", "share"}, rows, 4)
	u.say("")
	u.say(u.dim("the time of a leg excludes the legs behind it; the system's resolver is " +
		"asked for the name beforehand"))
	if miss := t.FirstMiss(); miss != nil {
		u.Next("dravit diagnose says why " + miss.Who + " does not answer")
		return
	}
	u.Next("dravit check asks everything")
}
