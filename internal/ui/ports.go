package ui

import (
	"cmp"
	"fmt"
	"time"

	"dravit/internal/stack"
	"dravit/internal/survey"
)

// Ports writes each port with its owner and its holder.
func (u *UI) Ports(all []stack.PortEntry) {
	count := map[stack.PortState]int{}
	var rows []row
	for _, e := range all {
		count[e.State]++
		state := u.dim(string(e.State))
		var notes []string
		switch e.State {
		case stack.PortHeld:
			state = u.paint(green, string(e.State))
		case stack.PortTaken:
			state = u.paint(red, string(e.State))
			notes = []string{"by " + holder(*e.Holder)}
		}
		rows = append(rows, row{[]string{fmt.Sprint(e.Port), e.Stack, e.Part, state}, notes})
	}
	u.say(plural(len(all), "port") + fmt.Sprintf("  %d held, %d free, %d taken", count[stack.PortHeld],
		count[stack.PortFree], count[stack.PortTaken]))
	if len(rows) > 0 {
		u.table([]string{"port", "stack", "part", "state"}, rows, 0)
	}
	u.say("")
	if count[stack.PortTaken] > 0 {
		u.Next("dravit start gives a part whose port is taken another one; dravit ports PORT tells more")
	} else {
		u.Next("dravit ports PORT shows who holds a port")
	}
}

// holder describes in a line who listens.
func holder(p survey.Port) string {
	text := cmp.Or(p.Program, "a program")
	if p.PID != 0 {
		text += fmt.Sprintf(", pid %d", p.PID)
	}
	if p.User != "" {
		text += ", user " + p.User
	}
	if p.Service != "" {
		text += ", service " + p.Service
	}
	if !p.Since.IsZero() {
		text += ", for " + duration(time.Since(p.Since))
	}
	if p.Stack != "" {
		text += ", of the stack " + p.Stack
	}
	text += ", on " + p.Address
	if p.Protocol == "udp" {
		text += " (UDP, which matters for the gateway's DNS port only)"
	}
	return text
}

// Port writes what is known about one port.
func (u *UI) Port(a stack.PortAnswer) {
	u.say(u.bold(fmt.Sprint(a.Port)))
	if len(a.Holders) == 0 {
		u.say("  no process listens there")
	}
	for _, h := range a.Holders {
		u.say("  held by " + holder(h))
	}
	if a.Stack != "" {
		u.say(fmt.Sprintf("  it belongs to part %s of the stack %s", a.Part, a.Stack))
	}
	switch {
	case a.Free:
		u.say("  a part that asks for it gets it")
	case a.Instead != 0:
		u.say(fmt.Sprintf("  a part that asks for it gets %d instead: %d is %s", a.Instead, a.Port, a.Because))
		u.say(u.dim("  a part that pins it cannot start"))
	default:
		u.say("  no part can have it: " + a.Because)
	}
}
