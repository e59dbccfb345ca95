package diagnose

import (
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
)

// places adds to the causes that a runtime's error shows where in the project's own code it is.
func (d *doctor) places() {
	for i := range d.all {
		c := &d.all[i]
		if c.Place != "" || len(c.Pages) > 0 || c.rank != written {
			continue
		}
		part, text := d.spoken(c.Subject)
		x, ok := exceptionIn(text, part)
		if !ok || x.place == "" || !general[c.Cause] && !strings.Contains(x.what+strings.Join(c.Evidence, "\n"),
			keyOf(*c)) {
			continue
		}
		c.Place = x.place
		at := "in " + x.place
		if line := d.f.Lines[x.place]; line != "" {
			at = x.place + ": " + oneLine(line)
		}
		c.Evidence = append(c.Evidence, at)
		if general[c.Cause] {
			c.What = ownCode + x.what
		}
		if corrected[c.Cause] {
			c.Remedy = "correct " + x.place
		}
	}
}

// keyOf returns what a cause's error must have in common with one that has a place, to be the same.
func keyOf(c Cause) string {
	if len(c.Evidence) == 0 {
		return "\n"
	}
	_, said, _ := strings.Cut(c.Evidence[0], ": ")
	return said
}

// spoken returns the part behind a subject, and what it wrote lately.
func (d *doctor) spoken(subject about.Subject) (part kind.Part, text string) {
	p, ok := d.partOf(d.appOf(subject))
	if !ok {
		return part, ""
	}
	for _, s := range d.f.Sites {
		if subject == about.Site(s.Spec.Name) {
			name := p.Spec.Name
			if text = s.NowLogs[name]; text == "" {
				text = s.SinceLogs[name]
			}
			return p.Spec, text + "\n" + s.Page
		}
	}
	return p.Spec, p.Log
}
