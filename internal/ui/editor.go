package ui

import (
	"cmp"
	"fmt"
	"net"
	"strconv"

	"dravit/internal/stack"
)

// Editor writes what an editor has to know about a stack.
func (u *UI) Editor(e stack.Editor) {
	u.say(u.bold(e.Stack))
	var rows []row
	for _, r := range e.Runtimes {
		debugger := "off"
		if d := r.Debugger; d != nil {
			debugger = fmt.Sprintf("%s at %s", d.Name, net.JoinHostPort(d.Host, strconv.Itoa(d.Port)))
		}
		rows = append(rows, row{[]string{r.Part, r.Kind, r.Version, debugger}, []string{r.Program}})
	}
	if len(rows) > 0 {
		u.table([]string{"runtime", "kind", "version", "debugger"}, rows)
		u.say("")
	}
	rows = nil
	for _, s := range e.Stores {
		at := s.Socket
		if s.Port != 0 {
			at = net.JoinHostPort(s.Host, strconv.Itoa(s.Port))
		}
		rows = append(rows, row{cells: []string{s.Part, s.Kind, cmp.Or(s.Version, "-"), cmp.Or(at, "-"),
			cmp.Or(s.Database, "-"), cmp.Or(s.User, "-"), cmp.Or(s.PasswordIn, "-")}})
	}
	if len(rows) > 0 {
		u.table([]string{"store", "kind", "version", "address", "database", "user", "password in"}, rows)
		u.say("")
	}
	u.Next("dravit env prints the variables, with the passwords")
}
