package ui

import (
	"strings"

	"github.com/charmbracelet/x/ansi"

	"dravit/internal/kind"
)

// Mails writes a list of messages.
func (u *UI) Mails(mails []kind.Mail) {
	u.say(plural(len(mails), "mail"))
	var rows []row
	for _, m := range mails {
		to, subject := printable(strings.Join(m.To, ", ")), printable(m.Subject)
		cells := []string{clock(m.At), ansi.Truncate(to, 30, "…"), ansi.Truncate(subject, 44, "…")}
		rows = append(rows, row{cells: cells})
	}
	if len(rows) > 0 {
		u.table([]string{"caught", "to", "subject"}, rows)
	}
}

// Mail writes one message: its head, then its text, or its HTML if it has no text.
func (u *UI) Mail(m kind.Mail) {
	for _, line := range [][2]string{{"from", m.From}, {"to", strings.Join(m.To, ", ")}, {"subject", m.Subject},
		{"caught", clock(m.At)}, {"files", strings.Join(m.Files, ", ")}} {
		if line[1] != "" {
			u.say(u.dim(line[0]+strings.Repeat(" ", 9-len(line[0]))) + printable(line[1]))
		}
	}
	text := m.Text
	if text == "" {
		text = m.HTML
	}
	u.say("")
	for line := range strings.Lines(text) {
		u.say(printable(strings.TrimRight(line, "\r\n")))
	}
}
