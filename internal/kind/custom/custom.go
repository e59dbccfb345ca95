// Package custom knows parts that are a command of the project's own: a server that listens on the port it is given.
package custom

import (
	"fmt"
	"slices"
	"strings"
	"syscall"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// New returns the kind.
func New() kind.Server { return custom{} }

type custom struct{ kind.Defaults }

func (custom) Name() string                    { return "custom" }
func (custom) Role() kind.Role                 { return kind.App }
func (custom) Keys() []string                  { return []string{"command", "port"} }
func (custom) Needs(stackfile.Part) kind.Needs { return kind.Needs{Port: true, PortBase: 18000} }

func (custom) Fit(want stackfile.Part, _ kind.Program) string {
	if want.Command == "" {
		return "it has no command"
	}
	return ""
}

func (custom) Exports(p kind.Part) kind.Exports {
	return kind.Exports{URL: fmt.Sprintf("http://%s:%d", kind.Host, p.Port)}
}

// Command runs the text in a shell, in the project's folder. {port} stands for the port and {dravit} for the dravit program.
func (custom) Command(p kind.Part) kind.Command {
	text := strings.NewReplacer("{port}", fmt.Sprint(p.Port), "{dravit}", "'"+strings.ReplaceAll(p.Self, "'", `'\''`)+"'").Replace(p.Want.Command)
	return kind.Command{Path: "/bin/sh", Args: []string{"-c", text}, Dir: p.Project,
		Env: append(slices.Clone(p.Env), fmt.Sprintf("PORT=%d", p.Port), "HOST="+kind.Host), Stop: syscall.SIGTERM}
}

func (custom) Ladder(p kind.Part) []kind.Rung {
	address := fmt.Sprintf("%s:%d", kind.Host, p.Port)
	if len(p.Sites) > 0 { // it speaks HTTP, since sites are proxied to it
		return health.HTTP(p, "tcp", address)
	}
	ground, _ := health.Ground(p, "tcp", address)
	return ground
}
