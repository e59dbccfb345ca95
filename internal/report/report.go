// Package report describes a stack in one HTML file that loads nothing: its parts, what answers, how it started, and
// the reasons for the decisions. Its pictures can also be written as SVG.
package report

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"dravit/internal/health"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/stack"
)

// Data is what a report shows.
type Data struct {
	Spec    materialise.Spec
	Checked stack.Checked
	Plan    plan.Plan
	Starts  []stack.StartRecord // the latest last
	At      time.Time
	Version string // Dravit's
}

// the state of a part or site as the check found it, or "" if it was not asked
func (d Data) stateOf(name string) lifecycle.State {
	for _, p := range d.Checked.Parts {
		if p.Name == name {
			return p.State
		}
	}
	return lifecycle.Stopped
}

func (d Data) siteState(name string) lifecycle.State {
	for _, s := range d.Checked.Sites {
		if s.Name == name {
			return s.State
		}
	}
	return lifecycle.Stopped
}

// State is the stack's.
func (d Data) State() lifecycle.State {
	if len(d.Checked.Parts) == 0 {
		return lifecycle.Stopped
	}
	state := d.Checked.Parts[0].State
	for _, p := range d.Checked.Parts {
		state = lifecycle.Worse(state, p.State)
	}
	for _, s := range d.Checked.Sites {
		state = lifecycle.Worse(state, s.State)
	}
	return state
}

//go:embed report.html
var text string

type ladder struct {
	Name, Kind string
	State      lifecycle.State
	Aligned    []*health.Result // the rungs; nil: a blank
	MS         float64
	Miss       string
}

// page is what the template sees.
type page struct {
	Data
	Style                       template.CSS
	Topology, Timeline, History template.HTML
	Ladders                     []ladder
	Total, Answering            int
	Last                        *stack.StartRecord
}

// HTML returns the report.
func HTML(d Data) ([]byte, error) {
	t, err := template.New("report").Funcs(template.FuncMap{
		"dot":    dot,
		"ms":     milliseconds,
		"took":   func(ms int64) string { return milliseconds(float64(ms)) },
		"mb":     func(n int64) string { return fmt.Sprintf("%d MB", (n+500_000)/1_000_000) },
		"when":   func(t time.Time) string { return t.Local().Format("2 January 2006, 15:04") },
		"joined": func(all []string) string { return strings.Join(all, "; ") },
	}).Parse(text)
	if err != nil {
		return nil, err
	}
	p := page{
		Data:     d,
		Style:    template.CSS(colours),
		Topology: template.HTML(topology(d)),
		Timeline: template.HTML(timeline(d)),
		History:  template.HTML(history(d)),
	}
	if n := len(d.Starts); n > 0 {
		p.Last = &d.Starts[n-1]
	}
	add := func(name, kindName string, state lifecycle.State, rungs []health.Result) {
		l := ladder{Name: name, Kind: kindName, State: state, Aligned: health.Aligned(rungs)}
		for _, r := range rungs {
			l.MS += r.MS
		}
		if fell := health.FirstMiss(rungs); fell != nil {
			l.Miss = fell.Miss()
		}
		p.Total++
		if state == lifecycle.Answers {
			p.Answering++
		}
		p.Ladders = append(p.Ladders, l)
	}
	for _, x := range d.Checked.Parts {
		add(x.Name, x.Kind, x.State, x.Rungs)
	}
	for _, x := range d.Checked.Sites {
		add(x.Name, "site", x.State, x.Rungs)
	}
	var b bytes.Buffer
	err = t.Execute(&b, p)
	return b.Bytes(), err
}

// Pictures are the names of the pictures that SVG can draw.
var Pictures = []string{"topology", "timeline", "starts"}

// SVG draws one of Pictures.
func SVG(d Data, picture string) ([]byte, error) {
	draw, ok := map[string]func(Data) string{"topology": topology, "timeline": timeline, "starts": history}[picture]
	if !ok {
		return nil, fmt.Errorf("there is no picture %q; the pictures are %s", picture, strings.Join(Pictures, ", "))
	}
	svg := draw(d)
	if svg == "" {
		return nil, fmt.Errorf("there is nothing to draw yet: the stack was never started")
	}
	head, rest, _ := strings.Cut(svg, ">")
	return []byte(`<?xml version="1.0" encoding="UTF-8"?>` + "\n" + head +
		` xmlns="http://www.w3.org/2000/svg"><style>svg { background: var(--paper); font-family: system-ui, ` +
		`sans-serif; }` + colours + "</style>" + rest), nil
}

// dot draws a rung, or a blank of the same width for nil.
func dot(r *health.Result) template.HTML {
	if r == nil {
		return `<span class="blank" aria-hidden="true">●</span>`
	}
	word, class := "not asked", "unasked"
	switch {
	case r.Holds == nil:
	case *r.Holds:
		word, class = "holds", "holds"
	case r.Advisory:
		word, class = "does not hold; advisory", "advisory"
	default:
		word, class = "does not hold", "falls"
	}
	sign := map[string]string{"unasked": "·", "holds": "●", "advisory": "-", "falls": "○"}[class]
	return template.HTML(fmt.Sprintf(`<span class="%s" title="%s: %s" aria-label="%s %s">%s</span>`, class,
		r.Rung, word, r.Rung, word, sign))
}

func milliseconds(ms float64) string {
	switch {
	case ms == 0:
		return "0"
	case ms >= 9995:
		return fmt.Sprintf("%.0f s", ms/1000)
	case ms >= 1000:
		return fmt.Sprintf("%.1f s", ms/1000)
	case ms >= 10:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f ms", ms)
}
