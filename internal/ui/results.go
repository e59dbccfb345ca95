package ui

import (
	"cmp"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/plan"
	"dravit/internal/stack"
)

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// Plan writes every decision with its reasons.
func (u *UI) Plan(p plan.Plan) {
	u.say(u.bold(p.Stack) + "  " + plural(len(p.Parts), "part") + ", " + plural(len(p.Sites), "site"))
	var rows []row
	for _, x := range p.Parts {
		program := x.Program
		if program == "" {
			program = u.dim(x.Origin)
		}
		rows = append(rows, row{[]string{x.Name, x.Kind, cmp.Or(x.Version, "-"), dash(x.Port), program}, append(notes(p, "part."+x.Name+"."), loading(p, x)...)})
	}
	if len(rows) > 0 {
		u.table([]string{"part", "kind", "version", "port", "program"}, rows, 3)
	}
	for _, n := range notes(p, "requires.") {
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
		rows = append(rows, row{[]string{s.Name, s.URL, by, root}, notes(p, "site."+s.Name+".")})
	}
	if len(rows) > 0 {
		u.say("")
		u.table([]string{"site", "address", "served by", "root"}, rows)
	}
	if n := append(notes(p, "name"), notes(p, "gateway.")...); len(n) > 0 {
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
		for _, l := range wrap("passed over: "+n, maxWidth) {
			u.say(u.paint(yellow, l))
		}
	}
}

// warn writes what the user should know.
func (u *UI) warn(warnings []string) {
	for _, n := range warnings {
		for _, l := range wrap("note: "+n, maxWidth) {
			u.say(u.paint(yellow, l))
		}
	}
}

// Warnings writes what the user should know of a plan.
func (u *UI) Warnings(p plan.Plan) { u.warn(p.Warnings) }

// reachable writes what other machines may reach.
func (u *UI) reachable(all []stack.Reach) {
	for _, r := range all {
		who := "the site " + r.Site
		if r.Site == "" {
			who = "part " + r.Part
		}
		at := strings.Join(r.URLs, " ")
		if at == "" {
			at = fmt.Sprintf("port %d, though this machine has no address of its own now", r.Port)
		}
		text := "other machines may reach " + who + ": " + at
		switch {
		case !r.Open:
			text = fmt.Sprintf("other machines do not reach %s: nothing of ours listens on port %d; dravit ports %d", who, r.Port, r.Port)
		case !r.Agreed:
			text += "; nobody agreed to it: have it listen on 127.0.0.1"
		}
		for _, l := range wrap(text, maxWidth) {
			if !r.Open || !r.Agreed {
				l = u.paint(yellow, l)
			}
			u.say(l)
		}
	}
	if len(all) == 0 {
		u.say(u.dim("reachable from this machine only"))
	}
}

// Changed writes what became different since the last good start, if anything did.
func (u *UI) Changed(p plan.Plan) {
	if len(p.Changes) > 0 {
		u.changed(p.Since, p.Changes)
	}
}

// maxChanges is how many changes are told before the rest is counted.
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
		for _, l := range wrap(c.Subject+" was "+c.Was+", is "+c.Now+": "+c.Because, maxWidth-2) {
			u.say("  " + l)
		}
	}
}

// notes are the reasons of the decisions below a subject.
func notes(p plan.Plan, prefix string) []string {
	var out []string
	for _, d := range p.Decisions {
		rest, ok := strings.CutPrefix(d.Subject, prefix)
		if !ok {
			continue
		}
		if rest == "" || prefix == "gateway." {
			rest = d.Subject
		}
		if rest == "kind" && len(d.Rejected) == 0 || strings.HasPrefix(rest, "extensions.") && !strings.HasPrefix(d.Choice, "unfit: ") {
			continue // what goes without saying; why tells it
		}
		out = append(out, rest+" "+d.Choice+": "+strings.Join(d.Because, "; "))
		for _, r := range d.Rejected {
			out = append(out, "not "+r.Option+": "+r.Because)
		}
	}
	return out
}

// loading names the extensions that a part wants by name, and those files of their names that lie in the way and do not fit.
func loading(p plan.Plan, x plan.Part) []string {
	var names, out []string
	for _, d := range p.Decisions {
		name, ok := strings.CutPrefix(d.Subject, "part."+x.Name+".extensions.")
		if !ok || strings.HasPrefix(d.Choice, "unfit: ") {
			continue
		}
		if !strings.HasPrefix(d.Because[0], "built for") && !strings.HasPrefix(d.Because[0], "it is built in") {
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

// Status writes what the keeper sees of a stack.
func (u *UI) Status(s stack.Status) {
	u.say(u.bold(s.Name) + "  " + u.state(s.State))
	now := time.Now()
	var rows []row
	for _, p := range s.Parts {
		proved := "-"
		if !p.ProvedAt.IsZero() && p.State != kind.Stopped {
			proved = duration(now.Sub(p.ProvedAt)) + " ago"
		}
		var n []string
		if p.Because != "" {
			n = append(n, p.Because)
		}
		if p.Restarts > 0 {
			n = append(n, "restarted "+plural(p.Restarts, "time"))
		}
		if p.Next != "" {
			n = append(n, "next: "+p.Next)
		}
		rows = append(rows, row{[]string{p.Name, p.Kind, cmp.Or(p.Version, "-"), u.state(p.State), dash(p.PID), dash(p.Port), megabytes(p.Memory), proved}, n})
	}
	u.table([]string{"part", "kind", "version", "state", "pid", "port", "memory", "proved"}, rows, 4, 5, 6, 7)
	if len(s.Sites) > 0 {
		u.say("")
		rows = nil
		for _, x := range s.Sites {
			rows = append(rows, row{cells: []string{x.Name, x.URL}})
		}
		u.table([]string{"site", "address"}, rows)
	}
	u.passedOver(s.Notes)
	u.say("")
	if s.State != kind.Stopped {
		u.reachable(s.Reachable)
	}
	switch s.State {
	case kind.Answers:
		u.Next("dravit check asks every part now")
	case kind.Stopped:
		u.Next("dravit start")
	default:
		u.Next("dravit check shows which rung does not hold; dravit diagnose says why")
	}
}

// dots draws a ladder: a filled dot for a rung that holds, an open one for a rung that does not, a point for one not asked.
func (u *UI) dots(results []health.Result) string {
	var b strings.Builder
	for _, r := range results {
		switch {
		case r.Holds == nil:
			b.WriteString(u.dim("·"))
		case *r.Holds:
			b.WriteString(u.paint(green, "●"))
		case r.Advisory:
			b.WriteString(u.paint(yellow, "○"))
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
			out = append(out, fmt.Sprintf("%s: expected %s, got %s", r.Rung, r.Expected, r.Got))
		}
	}
	return out
}

// unresolved tells whether the system's resolver does not find a site.
func unresolved(results []health.Result) bool {
	return slices.ContainsFunc(results, func(r health.Result) bool { return r.Advisory && r.Holds != nil && !*r.Holds })
}

// lost tells whether the system's resolver leads a site's name elsewhere, or nowhere.
func lost(sites []stack.SiteCheck) bool {
	return slices.ContainsFunc(sites, func(s stack.SiteCheck) bool {
		fell := health.Fell(s.Rungs)
		return fell != nil && fell.Rung == kind.Resolves
	})
}

func sum(results []health.Result) string {
	ms := 0.0
	for _, r := range results {
		ms += r.MS
	}
	return milliseconds(ms)
}

// Check writes every ladder.
func (u *UI) Check(name string, c stack.Checked) {
	state := kind.Answers
	answering := 0
	var rows []row
	add := func(name, kindName string, s kind.State, r []health.Result) {
		if s == kind.Answers {
			answering++
		}
		var n []string
		if s != kind.Stopped {
			n = misses(r)
		}
		rows = append(rows, row{[]string{name, kindName, u.state(s), u.dots(r), sum(r)}, n})
	}
	for _, p := range c.Parts {
		state = kind.Worse(state, p.State)
		add(p.Name, p.Kind, p.State, p.Rungs)
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
		state = kind.Worse(state, s.State)
		add(s.Name, "site", s.State, s.Rungs)
		if unresolved(s.Rungs) {
			advisory++
		}
	}
	u.say(u.bold(name) + "  " + u.state(state) + fmt.Sprintf("  %d of %d answer", answering, len(rows)))
	u.table([]string{"part", "kind", "state", "rungs", "time"}, rows, 4)
	if len(c.Deeds) > 0 {
		u.say("")
		rows = nil
		for _, d := range c.Deeds {
			r := row{cells: []string{d.Subject, d.Deed, u.paint(green, "holds"), milliseconds(d.MS)}}
			if d.Holds == nil || !*d.Holds {
				r.cells[2], r.notes = u.paint(red, "does not hold"), []string{"expected " + d.Expected + ", got " + d.Got}
				state = kind.Worse(state, kind.Unwell)
			}
			rows = append(rows, r)
		}
		u.table([]string{"of", "deep proof", "", "time"}, rows, 3)
	}
	u.say("")
	u.say(u.dim("rungs of a part: alive open ours greets works; of a site: resolves reaches routed replies matches"))
	u.say(u.dim("● holds  ○ does not  · not asked"))
	if advisory > 0 && state != kind.Stopped {
		u.say(u.dim("resolves is advisory: the system's resolver does not know " + plural(advisory, "name") + "; browsers and curl do"))
	}
	if state != kind.Stopped {
		u.reachable(c.Reachable)
	}
	switch state {
	case kind.Answers:
		if len(c.Sites) > 0 {
			u.Next("open " + c.Sites[0].URL)
		}
	case kind.Stopped:
		u.Next("dravit start")
	default:
		if lost(c.Sites) && !slices.ContainsFunc(c.Parts, func(p stack.PartCheck) bool { return p.State != kind.Answers }) {
			u.Next("dravit names hosts on, or dravit names resolver on")
			return
		}
		u.Next("dravit diagnose says why")
	}
}

// Trace writes the way of one request, leg by leg, each with its share of the time.
func (u *UI) Trace(t stack.Trace) {
	state := kind.Answers
	if !t.Answers {
		state = kind.Unwell
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
	u.say(u.dim("the time of a leg is its own, without that of the legs behind it; the name is asked of the system's resolver beforehand"))
	if fell := t.Fell(); fell != nil {
		u.Next("dravit diagnose says why " + fell.Who + " does not answer")
		return
	}
	u.Next("dravit check asks everything")
}

// Progress shows a start on its way.
type Progress struct {
	u     *UI
	began time.Time
	said  map[string]kind.State
	busy  map[string]string
	tick  *time.Ticker
	lines chan kind.Status
	ended chan struct{}
}

// Progress begins to show a start. End must be called.
func (u *UI) Progress() *Progress {
	p := &Progress{u: u, began: time.Now(), said: map[string]kind.State{}, busy: map[string]string{}, tick: time.NewTicker(100 * time.Millisecond),
		lines: make(chan kind.Status), ended: make(chan struct{})}
	go p.run()
	return p
}

// Report takes a part's new state.
func (p *Progress) Report(s kind.Status) { p.lines <- s }

// End ends the showing.
func (p *Progress) End() {
	close(p.lines)
	<-p.ended
	p.tick.Stop()
}

func (p *Progress) run() {
	defer close(p.ended)
	for {
		select {
		case s, ok := <-p.lines:
			p.erase()
			if !ok {
				return
			}
			p.take(s)
		case <-p.tick.C:
			p.show()
		}
	}
}

// take writes a line for each part that has come to rest, and keeps the others for the line at the bottom.
func (p *Progress) take(s kind.Status) {
	if s.State == kind.Answers && s.Since.Before(p.began) {
		return // it ran before
	}
	switch s.State {
	case kind.Answers, kind.Failed, kind.Unwell, kind.Pausing:
		delete(p.busy, s.Name)
		if p.said[s.Name] == s.State {
			return
		}
		p.said[s.Name] = s.State
		fmt.Fprintf(p.u.Err, "%s  %-12s  %-20s  %s\n", p.u.dim(fmt.Sprintf("%7s", duration(time.Since(p.began)))), s.Name, strings.TrimSpace(s.Kind+" "+s.Version), p.u.state(s.State))
	default:
		p.busy[s.Name] = string(s.State)
	}
}

func (p *Progress) show() {
	if !p.u.live || len(p.busy) == 0 {
		return
	}
	var words []string
	for _, name := range slices.Sorted(maps.Keys(p.busy)) {
		words = append(words, p.busy[name]+" "+name)
	}
	text := fmt.Sprintf("%7s  %s", duration(time.Since(p.began)), strings.Join(words, ", "))
	if len(text) > 79 {
		text = text[:76] + "..."
	}
	p.erase()
	fmt.Fprint(p.u.Err, p.u.dim(text))
}

func (p *Progress) erase() {
	if p.u.live {
		fmt.Fprint(p.u.Err, "\r\x1b[K")
	}
}

// Started writes what a start came to, once all parts answer.
func (u *UI) Started(name string, s stack.Started, took time.Duration) {
	head := u.bold(name) + "  " + u.state(kind.Answers)
	if len(s.Begun) == 0 {
		head += "  nothing to start: every part runs already"
	} else {
		head += fmt.Sprintf("  %s started in %s", plural(len(s.Begun), "part"), duration(took))
	}
	u.say(head)
	var rows []row
	for _, site := range s.Sites {
		rows = append(rows, row{cells: []string{site.Name, site.URL, u.dots(site.Rungs), sum(site.Rungs)}})
	}
	if len(rows) > 0 {
		u.table([]string{"site", "address", "rungs", "time"}, rows, 3)
	}
}

// Stopped writes what a stop ended.
func (u *UI) Stopped(name string, parts []kind.Status) {
	if len(parts) == 0 {
		u.say(u.bold(name) + "  " + u.state(kind.Stopped) + "  nothing was running")
		return
	}
	var names []string
	for _, p := range parts {
		names = append(names, p.Name)
	}
	slices.Sort(names)
	u.say(u.bold(name) + "  " + u.state(kind.Stopped) + "  " + plural(len(parts), "part") + " ended: " + strings.Join(names, ", ") + "; data stays")
}
