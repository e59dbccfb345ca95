// Package ui decides how results look on a terminal.
package ui

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"

	"dravit/internal/lifecycle"
	"dravit/internal/pattern"
	"dravit/internal/trouble"
)

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// UI writes results to Out and progress and messages to Err.
type UI struct {
	Out, Err io.Writer
	Plain    bool // no colour, nothing that repaints
	live     bool // Err is a terminal
}

// New returns a UI on the standard streams. Plain also holds with NO_COLOR, TERM=dumb, or without a terminal.
func New(plain bool) *UI {
	u := &UI{Out: screen{os.Stdout}, Err: screen{os.Stderr}, Plain: plain}
	if os.Getenv("NO_COLOR") != "" || os.Getenv("TERM") == "dumb" || !term.IsTerminal(int(os.Stdout.Fd())) {
		u.Plain = true
	}
	u.live = !plain && os.Getenv("TERM") != "dumb" && term.IsTerminal(int(os.Stderr.Fd()))
	return u
}

// A line of a text has at least minWidth and at most maxWidth columns.
const (
	minWidth = 40
	maxWidth = 100
)

// The colours are the terminal's own: its user chose them to be readable.
const (
	red    = "1"
	green  = "2"
	yellow = "3"
	grey   = "8;5;8" // with the leading 3: the eighth colour of the palette (ECMA-48 SGR 38)
)

func (u *UI) paint(colour, text string) string {
	if u.Plain || text == "" {
		return text
	}
	return style("3"+colour, text)
}

func (u *UI) dim(text string) string { return u.paint(grey, text) }

func (u *UI) bold(text string) string {
	if u.Plain {
		return text
	}
	return style("1", text)
}

func (u *UI) state(s lifecycle.State) string {
	switch s {
	case lifecycle.Answers:
		return u.paint(green, string(s))
	case lifecycle.Failed, lifecycle.Unwell:
		return u.paint(red, string(s))
	case lifecycle.Stopped, lifecycle.Asleep:
		return u.dim(string(s))
	}
	return u.paint(yellow, string(s))
}

// row is one line of a table, with lines below it that explain it.
type row struct {
	cells []string
	notes []string
}

// table writes rows with two spaces between columns and no frame. right lists the columns with numbers, which are
// aligned to the right.
func (u *UI) table(head []string, rows []row, right ...int) {
	widths := make([]int, len(head))
	for i, h := range head {
		widths[i] = ansi.StringWidth(h)
	}
	for _, r := range rows {
		for i, c := range r.cells {
			widths[i] = max(widths[i], ansi.StringWidth(c))
		}
	}
	isRight := map[int]bool{}
	for _, i := range right {
		isRight[i] = true
	}
	line := func(cells []string) string {
		var b strings.Builder
		for i, c := range cells {
			gap := strings.Repeat(" ", widths[i]-ansi.StringWidth(c))
			if i > 0 {
				b.WriteString("  ")
			}
			if isRight[i] {
				b.WriteString(gap + c)
			} else {
				b.WriteString(c + gap)
			}
		}
		return strings.TrimRight(b.String(), " ")
	}
	u.say(u.dim(line(head)))
	for _, r := range rows {
		u.say(line(r.cells))
		for _, n := range r.notes {
			for _, l := range wrap(n, Width()-4) {
				u.say("  " + u.dim(l))
			}
		}
	}
}

// Line writes one line of a result.
func (u *UI) Line(line string) { u.say(line) }

func (u *UI) say(line string) { fmt.Fprintln(u.Out, line) }

// wrap breaks a text at its spaces into lines of at most width columns; a longer word has a line to itself. The later
// lines are indented by two spaces. Lines of a stack file in the text (trouble.Paste) stay as they are.
func wrap(text string, width int) []string { return wrapIndented(text, width, "  ") }

func wrapIndented(text string, width int, indent string) []string {
	text, verbatim, _ := strings.Cut(text, trouble.Paste)
	var lines []string
	line := ""
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '\n' || r == '\t' }) {
		switch {
		case line == "":
			line = word
		case ansi.StringWidth(line)+1+ansi.StringWidth(word) <= width:
			line += " " + word
		default:
			lines = append(lines, line)
			line = indent + word
		}
	}
	lines = append(lines, line)
	for l := range strings.SplitSeq(verbatim, trouble.Paste) {
		if l != "" {
			lines = append(lines, indent+l) // as it is: it is there to be pasted
		}
	}
	return lines
}

// Wrap breaks a text at its spaces into lines of at most width columns; a longer word has a line to itself. It returns
// nil for an empty text.
func Wrap(text string, width int) []string {
	if text == "" {
		return nil
	}
	return wrapIndented(text, width, "")
}

// Next writes the last line of an output: what to do next.
func (u *UI) Next(text string) {
	for i, l := range wrap(text, Width()-len("next: ")) {
		if i == 0 {
			u.say(u.dim("next: ") + l)
			continue
		}
		u.say("    " + l)
	}
}

// Width returns how many columns a line may have: those of the terminal, at least 40 and at most 100; without a
// terminal 100.
func Width() int {
	for _, f := range []*os.File{os.Stdout, os.Stderr} {
		if columns, _, err := term.GetSize(int(f.Fd())); err == nil && columns > 0 {
			return min(max(columns, minWidth), maxWidth)
		}
	}
	return maxWidth
}

// Note writes a message to Err.
func (u *UI) Note(text string) { fmt.Fprintln(u.Err, text) }

func milliseconds(ms float64) string {
	if ms < 10 {
		return fmt.Sprintf("%.1f ms", ms)
	}
	return fmt.Sprintf("%.0f ms", ms)
}

func duration(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%.0f ms", float64(d.Microseconds())/1000)
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0f h", d.Hours())
	}
	return fmt.Sprintf("%.0f days", d.Hours()/24)
}

func megabytes(n int64) string {
	if n == 0 {
		return "-"
	}
	return fmt.Sprintf("%.0f MB", float64(n)/1e6)
}

func dash(n int) string {
	if n == 0 {
		return "-"
	}
	return fmt.Sprint(n)
}

// LogLine writes one line of a part's log, without control characters.
func (u *UI) LogLine(part string, width int, line string, at time.Time) {
	when := ""
	if !timed().MatchString(line) {
		switch now := time.Now(); {
		case at.IsZero():
			when = strings.Repeat(" ", len("15:04:05")) + "  "
		case now.Sub(at) < 20*time.Hour:
			when = at.Format("15:04:05") + "  "
		default:
			when = at.Format("2006-01-02 15:04:05") + "  "
		}
	}
	u.say(u.dim(fmt.Sprintf("%-*s", width, part)+"  "+when) + printable(line))
}

// timed matches lines that begin with a time of their own, as servers and frameworks write it.
var timed = pattern.New(`^.{0,60}?(\d{4}[-/]\d\d[-/]\d\d[T ]\d\d:\d\d|\d\d[/-][A-Z][a-z]{2}[/-]\d{4}[: ]\d\d:\d\d|` +
	`[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d|\b\d\d:\d\d:\d\d\b|\d\d [A-Z][a-z]{2} \d{4} \d\d:\d\d)`)
