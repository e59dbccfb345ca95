package ui

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"dravit/internal/trouble"
)

// Failure is an error as the user reads it: what happened, because of what, and what to do next.
type Failure struct {
	Exit    int          `json:"-"`
	Code    trouble.Code `json:"code,omitempty"` // what happened, for programs; see docs/json.md
	What    string       `json:"what"`
	Because string       `json:"because,omitempty"`
	Next    string       `json:"next,omitempty"`
	Also    []string     `json:"also,omitempty"`   // further things that are wrong, a sentence each
	Detail  string       `json:"detail,omitempty"` // lines that show the place, or the end of a log
}

func (f *Failure) Error() string {
	text := f.What
	if f.Because != "" {
		text += ": " + f.Because
	}
	return text
}

// Failure writes an error.
func (u *UI) Failure(f *Failure) {
	fmt.Fprintln(u.Err, u.paint(red, "dravit: ")+f.What)
	part := func(label, text string) {
		for i, l := range wrap(text, Width()-11) {
			if i > 0 {
				label = strings.Repeat(" ", len(label))
			}
			fmt.Fprintln(u.Err, "  "+u.dim(label)+"  "+l)
		}
	}
	if f.Because != "" {
		part("because", f.Because)
	}
	for _, also := range f.Also {
		part("   also", also)
	}
	if f.Detail != "" {
		for l := range strings.Lines(f.Detail) {
			u.detail(strings.TrimRight(l, "\n"))
		}
	}
	if f.Next != "" {
		part("   next", f.Next)
	}
}

// longestDetail is how many lines of the terminal one line of a detail may take: what it says may stand at its end.
const longestDetail = 4

// detail writes a line of a detail: as it is if it fits, else over several lines of the terminal.
func (u *UI) detail(line string) {
	if ansi.StringWidth(line) <= Width()-4 {
		fmt.Fprintln(u.Err, "    "+line)
		return
	}
	text := strings.TrimLeft(line, " ")
	indent := strings.Repeat(" ", 4+len(line)-len(text))
	lines := wrap(text, max(20, Width()-len(indent)))
	for i, l := range lines[:min(len(lines), longestDetail)] {
		if l = ansi.Truncate(l, Width()-len(indent), "..."); i == longestDetail-1 && len(lines) > longestDetail {
			l = ansi.Truncate(l, Width()-len(indent)-3, "") + "..."
		}
		fmt.Fprintln(u.Err, indent+l)
	}
}
