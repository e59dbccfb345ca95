// Package custom knows parts that are a command of the project's own: a server that listens on the port it is given.
package custom

import (
	"dravit/internal/kind"
	"dravit/internal/kind/command"
)

// New returns the kind.
func New() kind.Server { return custom{} }

type custom struct{ command.Base }

func (custom) Name() string { return "custom" }
