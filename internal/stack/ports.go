package stack

import (
	"slices"
	"strings"

	"dravit/internal/ledger"
	"dravit/internal/plan"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
)

// PortState is the state of a port that belongs to a part.
type PortState string

const (
	PortHeld  PortState = "held"  // by the part that it belongs to
	PortFree  PortState = "free"  // kept for it
	PortTaken PortState = "taken" // by another process
)

// PortEntry is one port of the ledger.
type PortEntry struct {
	Port   int          `json:"port"`
	Stack  string       `json:"stack"`
	Part   string       `json:"part"`
	State  PortState    `json:"state"`
	Holder *survey.Port `json:"holder,omitempty"`
}

// Ports returns every port of the ledger, with the process that holds it now.
func (m *Machine) Ports() ([]PortEntry, error) {
	book, err := ledger.Read(m.Home)
	if err != nil {
		return nil, err
	}
	named := map[int]bool{book.HTTPPort: true, book.HTTPSPort: true, book.DNSPort: true}
	for _, s := range book.Stacks {
		for _, port := range s.Ports {
			named[port] = true
		}
	}
	held, err := m.portsHeld(book, named)
	if err != nil {
		return nil, err
	}
	foreign := map[int]bool{}
	for _, h := range held {
		foreign[h.Port] = named[h.Port] && h.Stack == ""
	}
	held = survey.Holders(held, foreign)
	all := []PortEntry{}
	add := func(id, stack, part string, port int) {
		e := PortEntry{Port: port, Stack: stack, Part: part, State: PortFree}
		for _, h := range held {
			switch {
			case h.Port != port || h.Protocol != "tcp" && part != "resolver":
			case h.Stack == id:
				e.State = PortHeld
			case e.State == PortFree:
				e.State, e.Holder = PortTaken, &h
			}
		}
		all = append(all, e)
	}
	for part, port := range map[string]int{"http": book.HTTPPort, "https": book.HTTPSPort, "resolver": book.DNSPort} {
		if port != 0 {
			add(plan.GatewayOwner, plan.GatewayOwner, part, port)
		}
	}
	for id, s := range book.Stacks {
		for part, port := range s.Ports {
			add(id, s.Name, part, port)
		}
	}
	slices.SortFunc(all, func(a, b PortEntry) int {
		if a.Port != b.Port {
			return a.Port - b.Port
		}
		return strings.Compare(a.Stack+a.Part, b.Stack+b.Part)
	})
	return all, nil
}

// PortAnswer is what is known about one port.
type PortAnswer struct {
	Port    int           `json:"port"`
	Holders []survey.Port `json:"holders"` // the processes that listen; several if they have different addresses
	Stack   string        `json:"stack"`   // the owner in the ledger, or ""
	Part    string        `json:"part"`
	Free    bool          `json:"free"`              // a part may have it
	Because string        `json:"because,omitempty"` // why not
	Instead int           `json:"instead,omitempty"` // the port that a part would get instead
}

// Port returns who holds a port, which stack owns it, and which port a part would get that asks for it.
func (m *Machine) Port(port int) (PortAnswer, error) {
	book, err := ledger.Read(m.Home)
	if err != nil {
		return PortAnswer{}, err
	}
	out := PortAnswer{Port: port, Holders: []survey.Port{}}
	for id, s := range book.Stacks {
		for part, p := range s.Ports {
			if p == port {
				out.Stack, out.Part = book.Stacks[id].Name, part
			}
		}
	}
	switch port {
	case book.HTTPPort:
		out.Stack, out.Part = plan.GatewayOwner, "http"
	case book.HTTPSPort:
		out.Stack, out.Part = plan.GatewayOwner, "https"
	case book.DNSPort:
		out.Stack, out.Part = plan.GatewayOwner, "resolver"
	}
	s := &Stack{Machine: m}
	in, err := s.input(&stackfile.File{}, survey.Survey{Host: survey.HostNow()}, book)
	if err != nil {
		return out, err
	}
	held, err := m.portsHeld(book, map[int]bool{port: true})
	if err != nil {
		return out, err
	}
	held = survey.Holders(held, map[int]bool{port: true})
	in.Survey.Ports = held
	for _, h := range held {
		if h.Port == port {
			if other, ok := book.Stacks[h.Stack]; ok {
				h.Stack = other.Name
			}
			out.Holders = append(out.Holders, h)
		}
	}
	out.Because, out.Instead = plan.Port(in, port)
	out.Free = out.Because == ""
	return out, nil
}
