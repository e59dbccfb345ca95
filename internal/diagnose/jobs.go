package diagnose

import (
	"fmt"
	"strings"
	"time"

	"dravit/internal/about"
	"dravit/internal/requests"
)

// settled is how long a worker may try again what it needs, after its start, before what it says counts.
const settled = 3 * time.Second

// jobs finds out whether a worker that lives fails at its jobs: its log has errors from the last minutes. What it wrote
// while it started, when what it needs may not have been there yet, does not count.
func (d *doctor) jobs(p PartFacts) {
	var text strings.Builder
	var last time.Time
	for _, l := range p.Recent {
		if l.At.Before(p.Status.Since.Add(settled)) || d.f.Now.Sub(l.At) > requests.Recent {
			continue
		}
		text.WriteString(l.Text + "\n")
		last = l.At
	}
	speaker := Speaker{Spec: p.Spec, Traits: p.Traits, Said: text.String()}
	x, fails := speaker.explain(true)
	if !fails {
		return
	}
	for _, l := range p.Recent { // when it was written last
		if len(x.Evidence) > 0 && strings.HasSuffix(x.Evidence[0], ": "+strings.TrimSpace(l.Text)) {
			last = l.At
		}
	}
	if line := d.f.Lines[x.Place]; line != "" {
		x.Evidence[len(x.Evidence)-1] = x.Place + ": " + oneLine(line)
	}
	what := "jobs of the worker " + p.Spec.Name + " fail: " + strings.TrimPrefix(x.What,
		ownCode)
	c := d.add(written, x.Cause, about.Part(p.Spec.Name), what, x.Remedy, append(x.Evidence,
		fmt.Sprintf("%s in the last 10 minutes, last %s ago", times(failures(text.String())),
			max(0, d.f.Now.Sub(last)).Round(time.Second)))...)
	c.Place = x.Place
}

// failures counts the errors with a stack in a text, at least one.
func failures(text string) int {
	most := 1
	for _, t := range tracebacks {
		most = max(most, len(t.head().FindAllStringIndex(text, -1)))
	}
	return most
}

// times says how often something happened.
func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}
