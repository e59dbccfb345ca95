package ui

import (
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"dravit/internal/health"
	"dravit/internal/lifecycle"
	"dravit/internal/stack"
	"dravit/internal/trouble"
)

// Watch repaints a check in place, with the times of each ladder in the last checks. Afterwards the terminal is as it
// was before.
type Watch struct {
	u       *UI
	history map[string][]float64 // in ms; NaN if it did not hold
	looks   int
}

// maxHistory is how many checks are drawn.
const maxHistory = 24

// Watch begins to watch. End must be called.
func (u *UI) Watch() *Watch {
	// the alternate screen, without a cursor (xterm, terminfo smcup and civis)
	fmt.Fprint(u.Out, control("?1049", "h")+control("?25", "l"))
	return &Watch{u: u, history: map[string][]float64{}}
}

// End restores the terminal.
func (w *Watch) End() { fmt.Fprint(w.u.Out, control("?25", "h")+control("?1049", "l")) }

// Show paints the result of one check into a window of so many columns and rows.
func (w *Watch) Show(name string, c stack.Checked, at time.Time, columns, rows int) {
	w.looks++
	lines := w.paint(name, c, at, columns)
	if len(lines) > rows {
		lines = append(lines[:max(rows-1, 0)],
			w.u.dim(fmt.Sprintf("... %d more lines; they need a higher window", len(lines)-rows+1)))
	}
	var b strings.Builder
	b.WriteString(control("", "H"))
	for i, l := range lines {
		if i > 0 {
			b.WriteString("\n")
		}
		b.WriteString(ansi.Truncate(l, columns, "…") + control("", "K"))
	}
	b.WriteString(control("", "J"))
	fmt.Fprint(w.u.Out, b.String())
}

func (w *Watch) paint(name string, c stack.Checked, at time.Time, columns int) []string {
	u := w.u
	state := lifecycle.Answers
	answering, total := 0, 0
	type line struct {
		key, name, what, took, dots string
		state                       lifecycle.State
		misses                      []string
	}
	var all []line
	add := func(key, name, what string, s lifecycle.State, results []health.Result) {
		total++
		if s == lifecycle.Answers {
			answering++
		}
		state = lifecycle.Worse(state, s)
		ms := 0.0
		for _, r := range results {
			if !r.Advisory {
				ms += r.MS
			}
		}
		took := milliseconds(ms)
		if s != lifecycle.Answers {
			ms = math.NaN()
		}
		h := append(w.history[key], ms)
		w.history[key] = h[max(0, len(h)-maxHistory):]
		l := line{key: key, name: name, what: what, took: took, dots: u.dots(results), state: s}
		if s != lifecycle.Stopped {
			l.misses = misses(results)
		}
		all = append(all, l)
	}
	for _, p := range c.Parts {
		add("part."+p.Name, p.Name, p.Kind, p.State, p.Rungs)
	}
	for _, s := range c.Sites {
		add("site."+s.Name, s.Name, "site", s.State, s.Rungs)
	}
	widest, kinds := 4, 4
	for _, l := range all {
		widest, kinds = max(widest, len(l.name)), max(kinds, len(l.what))
	}
	widest = min(widest, max(8, columns-64))
	out := []string{u.bold(name) + "  " + u.state(state) + fmt.Sprintf("  %d of %d answer  ", answering, total) +
		u.dim(at.Format("15:04:05")), ""}
	pad := func(text string, width int) string {
		return text + strings.Repeat(" ", max(0, width-ansi.StringWidth(text)))
	}
	out = append(out, u.dim(pad("part", widest)+"  "+pad("kind", kinds)+"  "+pad("state", 8)+"  rungs  "+
		fmt.Sprintf("%8s", "time")+"  the last checks"))
	room := max(4, columns-widest-kinds-31) // for the times, of which the latest must be visible
	for _, l := range all {
		h := w.history[l.key]
		out = append(out,
			pad(ansi.Truncate(l.name, widest, "…"), widest)+"  "+pad(l.what, kinds)+"  "+pad(u.state(l.state), 8)+"  "+
				pad(l.dots, 5)+"  "+fmt.Sprintf("%8s", l.took)+"  "+u.spark(h[max(0, len(h)-room):]))
		for _, m := range l.misses {
			out = append(out, "  "+u.dim(m))
		}
	}
	for i, f := range c.Failures {
		if i == 0 {
			out = append(out, "")
		}
		if i < maxFailed {
			out = append(out, u.pageFailed(f))
		}
	}
	return append(out, "",
		u.dim("Ctrl-C ends; the last checks: higher took longer, ")+u.paint(red, "×")+u.dim(" did not answer"))
}

// Glance writes a check in one line: what does not answer, and why.
func (u *UI) Glance(name string, c stack.Checked, at time.Time) {
	state := lifecycle.Answers
	var wrong []string
	note := func(name string, s lifecycle.State, results []health.Result) {
		state = lifecycle.Worse(state, s)
		if s != lifecycle.Answers {
			wrong = append(wrong, strings.TrimSpace(name+" "+string(s)+" "+strings.Join(misses(results), "; ")))
		}
	}
	for _, p := range c.Parts {
		note(p.Name, p.State, p.Rungs)
	}
	for _, s := range c.Sites {
		note(s.Name, s.State, s.Rungs)
	}
	u.say(strings.TrimSpace(at.Format("15:04:05") + "  " + name + "  " + string(state) +
		"  " + trouble.List(wrong)))
	for _, f := range c.Failures {
		if at.Sub(f.Last) < freshFor { // each is said once or twice, not at every look
			u.PageFailed(f)
		}
	}
}

// maxFailed is how many failed pages a watch shows.
const maxFailed = 5

// freshFor is how long a failed page is shown with the looks that follow it.
const freshFor = 1500 * time.Millisecond

// bars are the eight heights.
var bars = []rune("▁▂▃▄▅▆▇█")

// spark draws times in proportion to the longest of them.
func (u *UI) spark(history []float64) string {
	most := 0.0
	for _, ms := range history {
		if !math.IsNaN(ms) {
			most = max(most, ms)
		}
	}
	var b strings.Builder
	for _, ms := range history {
		if math.IsNaN(ms) {
			b.WriteString(u.paint(red, "×"))
			continue
		}
		b.WriteRune(bars[min(len(bars)-1, int(ms/max(most, 1)*float64(len(bars)-1)+0.5))])
	}
	return b.String()
}
