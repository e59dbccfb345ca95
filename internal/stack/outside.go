package stack

import (
	"context"
	"slices"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/stackfile"
)

// OutsideServer is a server that somebody else runs and that a part of the stack stands for.
type OutsideServer struct {
	Part, Kind string
	Address    string // host:port
	Known      bool   // the user has given its password
	// Refusal is what the server says if it refuses the password that the user gave, else "".
	Refusal string
}

// OutsideServers returns the servers of the stack file that need a password. It asks those whose password is known
// whether they still accept it.
func (s *Stack) OutsideServers(ctx context.Context) ([]OutsideServer, error) {
	file, err := s.file()
	if err != nil {
		return nil, err
	}
	var out []OutsideServer
	for _, name := range file.PartNames() {
		k, server := s.outside(file.Parts[name])
		if k == nil || k.Exports(kind.Part{}).NoLogin {
			continue
		}
		x := OutsideServer{Part: name, Kind: k.Traits().Name, Address: server.Address()}
		if s.ID != "" {
			x.Known, err = materialise.OutsidePasswordKnown(s.Home, s.ID, name, server.Host, server.Port)
			if err != nil {
				return nil, err
			}
		}
		if x.Known {
			if x.Refusal, err = s.refusal(ctx, x); err != nil {
				return nil, err
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// outside returns the server that a part stands for, and its kind; nil: Dravit runs the part.
func (s *Stack) outside(p stackfile.PartConfig) (kind.Kind, stackfile.Server) {
	for _, name := range p.Kind {
		k, server := s.Kinds.Of(name), p.For(name).OutsideServer()
		if k != nil && server.Port != 0 && server.Is(name) && slices.Contains(k.Traits().Keys, "outside") {
			return k, server
		}
	}
	return nil, stackfile.Server{}
}

// refusal asks a server whether it accepts the log-in of the last start. It returns what the server says if it does
// not.
func (s *Stack) refusal(ctx context.Context, o OutsideServer) (string, error) {
	spec, err := s.spec()
	if err != nil {
		return "", err
	}
	p, ok := spec.Part(o.Part)
	if !ok || p.Outside == "" || p.Address() != o.Address {
		return "", nil
	}
	fell := health.FirstMiss(health.Climb(ctx, health.LadderOf(s.Kinds.Of(p.Kind), p)))
	if fell == nil || fell.Rung != kind.Greets {
		return "", ctx.Err()
	}
	return fell.Got, ctx.Err()
}

// keepPasswords keeps the passwords that the user gave for the servers of a plan.
func (s *Stack) keepPasswords(p plan.Plan, passwords map[string]string) error {
	for _, x := range p.Parts {
		password, given := passwords[x.Name]
		if x.Outside == "" || !given {
			continue
		}
		if err := materialise.SetOutsidePassword(s.Home, s.ID, x.Name, x.Outside, x.Port, password); err != nil {
			return err
		}
	}
	return nil
}
