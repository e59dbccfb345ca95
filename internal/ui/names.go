package ui

import (
	"fmt"
	"strings"

	"dravit/internal/stack"
)

// Names writes every host name, and how to have the authority behind the certificates trusted and addresses without a port.
func (u *UI) Names(n stack.Names, trust, untrust, lowPorts string) {
	served := 0
	unknown := 0
	var rows []row
	for _, x := range n.Names {
		leads := u.paint(yellow, "unknown")
		switch {
		case x.Here:
			leads = "this machine"
		case len(x.Resolves) > 0:
			leads = u.paint(red, x.Resolves[0].String())
		default:
			unknown++
		}
		by := u.dim("stopped")
		if x.Served {
			served++
			by = x.Stack + " " + x.Part
		}
		address := x.URL + "  " + x.Secure
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
	if unknown > 0 {
		u.say(u.dim("unknown to the system's resolver; browsers and curl know names below localhost by themselves"))
	}
	switch {
	case n.Authority == "":
	case n.Trusted:
		u.say("certificates: the system trusts " + n.Authority)
		if untrust != "" {
			u.say("  " + u.dim("to take it back: "+untrust))
		}
	default:
		u.say("certificates: signed by " + n.Authority + ", which nothing trusts yet")
		if trust != "" {
			u.say("  " + u.dim("to trust it: "+trust))
			u.say("  " + u.dim("and to take it back: "+untrust))
		}
		u.say("  " + u.dim("a browser with a store of its own imports the file in its settings"))
	}
	if n.HTTP != 80 && n.HTTP != 0 && lowPorts != "" {
		u.say("addresses without a port: " + u.dim(lowPorts+", then stop every stack and start it again"))
	}
	if len(rows) == 0 {
		u.Next("dravit start gives a stack's sites their names")
	}
}
