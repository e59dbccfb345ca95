// Package custom is the kind for a command of the project that is a server and listens on the port it is given.
package custom

import (
	"sync"

	"dravit/internal/kind"
	"dravit/internal/kind/command"
)

// New returns the kind.
func New() kind.Kind { return custom{} }

type custom struct{ command.Base }

var _ kind.Kind = custom{}

var traits = sync.OnceValue(func() *kind.Traits { return command.Traits("custom", "", nil, command.Symptoms()) })

func (custom) Traits() *kind.Traits { return traits() }
