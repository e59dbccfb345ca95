package ui

import (
	"fmt"
	"strings"

	"dravit/internal/stack"
	"dravit/internal/stackfile"
)

// Names writes every host name with what the system knows about it, the certificate authority, and how to get addresses
// without a port.
func (u *UI) Names(n stack.Names, lowPorts string) {
	served := 0
	// names that the system's resolver does not lead here: those that browsers resolve themselves, and others
	local, lost := 0, 0
	var rows []row
	for _, x := range n.Names {
		leads := u.paint(yellow, "unknown")
		if !x.Here && strings.HasSuffix(x.Name, "."+stackfile.DefaultSuffix) {
			local++
			leads = u.dim("unknown")
		} else if !x.Here {
			lost++
		}
		switch {
		case x.Here:
			leads = "this machine"
		case len(x.Resolves) > 0:
			leads = u.paint(red, x.Resolves[0].String())
		}
		by := u.dim("stopped")
		if x.Served {
			served++
			by = x.Stack + " " + x.Part
		}
		address := x.URL + "  " + x.HTTPSURL
		if strings.HasPrefix(x.Name, "*") {
			address = ""
		}
		rows = append(rows, row{[]string{x.Name, leads, by}, []string{address}})
	}
	u.say(plural(len(rows), "name") + "  " + u.dim(fmt.Sprintf("%d served", served)))
	for i := range rows {
		if rows[i].notes[0] == "" {
			rows[i].notes = nil
		}
	}
	if len(rows) > 0 {
		u.table([]string{"name", "resolver says", "served by"}, rows)
	}
	u.say("")
	if local > 0 {
		u.say(u.dim("unknown to the system's resolver; browsers resolve *.localhost themselves, " +
			"as does curl from 7.77 on"))
	}
	if n.InHosts > 0 {
		u.say("hosts file: has " + plural(n.InHosts, "name") + " of ours" +
			u.dim("; dravit names hosts off takes them out"))
	}
	if n.InSystem {
		u.say("resolver: the system's resolver asks Dravit's" + u.dim("; dravit names resolver off takes it back"))
	}
	switch {
	case n.Authority == "":
	case n.Trusted:
		u.say("certificates: the system accepts those of " + n.Authority +
			u.dim("; dravit names certificate off takes it back"))
	default:
		u.say("certificates: signed by an authority which no program trusts yet")
		u.say("  " + n.Authority)
		u.say("  " + u.dim("dravit names certificate on shows what would change that, and asks"))
	}
	if n.HTTP != 80 && n.HTTP != 0 && lowPorts != "" {
		u.say("addresses without a port: " + u.dim("run this, then stop every stack and start it again"))
		u.say("  " + u.dim(lowPorts))
	}
	switch {
	case lost > 0:
		u.Next("dravit names hosts on, or dravit names resolver on: " + plural(lost, "name") +
			" would resolve to this machine")
	case len(rows) == 0:
		u.Next("start a stack: its sites get their names then")
	}
}
