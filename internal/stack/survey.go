package stack

import (
	"context"

	"dravit/internal/gateway"
	"dravit/internal/home"
	"dravit/internal/keeper"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/plan"
	"dravit/internal/proc"
	"dravit/internal/run"
	"dravit/internal/settings"
	"dravit/internal/stackfile"
	"dravit/internal/supply"
	"dravit/internal/survey"
)

// surveyor returns a survey of this machine. It runs no program in the project's folder ("": there is none).
func (m *Machine) surveyor(project string) (survey.Machine, error) {
	set, err := settings.Read(m.Home)
	machine := survey.Here(m.Kinds, set, m.Home.Path("survey.json"))
	if err != nil {
		return machine, err
	}
	machine.Project = project
	trees, err := supply.Trees(m.Home)
	for _, t := range trees {
		machine.Supplied = append(machine.Supplied, survey.Supplied{Path: t.Program, Launch: string(t.Way)})
	}
	return machine, err
}

// Look surveys the machine as far as plans need it.
func (s *Stack) Look(ctx context.Context, requires map[string]stackfile.Require) (survey.Survey, error) {
	machine, err := s.surveyor(s.Dir)
	if err != nil {
		return survey.Survey{}, err
	}
	return machine.Look(ctx, requires)
}

// lookFor surveys the machine for the programs that a plan for a stack file can be about: those of its kinds and of the
// kinds that the parts had at the last start, and the web server that is built in.
func (s *Stack) lookFor(ctx context.Context, file *stackfile.File) (survey.Survey, error) {
	machine, err := s.surveyor(s.Dir)
	if err != nil {
		return survey.Survey{}, err
	}
	var good plan.Good
	if s.ID != "" {
		if err := home.ReadDerived(s.goodFile(), &good); err != nil {
			return survey.Survey{}, err
		}
	}
	named := map[string]bool{}
	for _, part := range file.Parts {
		for _, k := range part.Kind {
			named[k] = true
		}
	}
	for _, was := range good.Parts {
		named[was.Kind] = true
	}
	machine.Kinds = nil
	for _, k := range s.Kinds {
		if t := k.Traits(); named[t.Name] || t.Role == kind.RoleWeb && t.Serve != nil {
			machine.Kinds = append(machine.Kinds, k)
		}
	}
	return machine.Look(ctx, file.Requires)
}

// Survey surveys everything, with the process that holds each port and with what the user may do. dir is the folder
// that the user is in.
func (m *Machine) Survey(ctx context.Context, dir string) (survey.Survey, error) {
	project := ""
	if resolved, err := ledger.RealDir(dir); err == nil {
		project, _ = stackfile.Find(resolved) // "": outside any project
	}
	machine, err := m.surveyor(project)
	if err != nil {
		return survey.Survey{}, err
	}
	s, err := machine.Whole(ctx)
	if err != nil {
		return s, err
	}
	book, err := ledger.Read(m.Home)
	if err != nil {
		return s, err
	}
	if s.Ports, err = m.portsHeld(book, nil); err != nil {
		return s, err
	}
	s.Ports = survey.Holders(s.Ports, nil)
	for i, p := range s.Ports { // show names, not ids
		if other, ok := book.Stacks[p.Stack]; ok {
			s.Ports[i].Stack = other.Name
		}
	}
	s.Supply = m.suppliables(ctx)
	return s, nil
}

// portsHeld returns the ports on which a process listens, with the stack whose live part holds each. named is as for
// survey.Ports.
func (m *Machine) portsHeld(book *ledger.Ledger, named map[int]bool) ([]survey.Port, error) {
	held, err := survey.Ports(named)
	if err != nil {
		return nil, err
	}
	listens := map[int]bool{}
	for _, p := range held {
		listens[p.Port] = true
	}
	return survey.Owned(held, m.livePorts(book, listens)), nil
}

// livePorts returns which stack's live part holds a port, for each of those on which a process listens. Whether a part
// is alive that ended badly, only a list of all processes tells: nobody asks that of a part on whose port nobody
// listens.
func (m *Machine) livePorts(book *ledger.Ledger, listens map[int]bool) map[int]string {
	live, doors := map[int]string{}, map[int]string{}
	var look run.Look
	door := gateway.Seen(m.Home)
	for id, s := range book.Stacks {
		for part, port := range s.Ports {
			switch {
			case plan.IsNetworkKey(part):
				doors[port] = id
			case !listens[port]:
			case look.Alive(kind.Part{Lock: m.Home.Stack(id, "state", part+".lock")}),
				keeper.HoldsPort(m.Home, id, part):
				live[port] = id
			}
		}
	}
	if !door.Alive() {
		return live
	}
	for _, port := range []int{book.HTTPPort, book.HTTPSPort, book.DNSPort} {
		live[port] = plan.GatewayOwner
	}
	if len(doors) == 0 {
		return live
	}
	outside, _ := proc.NetworkListeners() // a port without a known process counts as another user's
	for l, pid := range outside {
		if id := doors[l.Port]; id != "" && door.Includes(pid) {
			live[l.Port] = id
		}
	}
	return live
}
