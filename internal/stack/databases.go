package stack

import (
	"dravit/internal/databases"
	"dravit/internal/materialise"
)

var _ databases.Host = (*Stack)(nil)

// Databases returns what the commands on the stack's data work on. The error is ErrNeverStarted if it has none yet.
func (s *Stack) Databases() (*databases.Stack, error) {
	spec, err := s.spec()
	if err != nil {
		return nil, err
	}
	if spec.ID == "" {
		return nil, ErrNeverStarted
	}
	return s.databases(spec), nil
}

func (s *Stack) databases(spec materialise.Spec) *databases.Stack {
	return &databases.Stack{Host: s, Home: s.Home, ID: s.ID, Name: s.Name, Dir: s.Dir, Kinds: s.Kinds,
		Parts: spec.Parts}
}
