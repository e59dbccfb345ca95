// Package starting is the dialogue of a start: what the user has to be asked before, the start itself, and what is
// fetched or installed if a program is lacking. It prints nothing: an Asker asks and shows.
package starting

import (
	"context"
	"slices"

	"dravit/internal/stack"
	"dravit/internal/supply"
)

// Asker asks the user, and shows what takes long. The command line is one; tests answer by themselves.
type Asker interface {
	// Present reports whether there is a user who can be asked. Without one the answer to every question is no, unless
	// the user agreed before.
	Present() bool
	// Agreed reports whether the user agreed before to everything that concerns the project (--yes).
	Agreed() bool
	// Agree asks the user. The error is the context's: an interruption is no answer.
	Agree(ctx context.Context, q Question) (bool, error)
	// Password asks for the password of a server. given is false if the user leaves it as it is.
	Password(ctx context.Context, of stack.OutsideServer) (password string, given bool, err error)
	// Fetch runs get, which fetches what an offer names and tells how far it is.
	Fetch(o supply.Offer, get func(progress func(done int64)) error) error
	// Install runs a command of the system's package manager, at the user's terminal.
	Install(ctx context.Context, command string) error
	// Note shows a remark.
	Note(text string)
}

// Question is what the user agrees to, or not. One of Ask, Fetch and Install is set.
type Question struct {
	About string // a sentence before the question, or ""
	Ask   string
	// Opens: it opens this machine to others, so that an agreement from before is no answer.
	Opens   bool
	Fetch   []supply.Offer // whether to fetch these programs
	Install string         // whether to run this command
}

// Stack is what a start needs of a stack; *stack.Stack is one.
type Stack interface {
	MovedFrom() *stack.Moved
	TakeAlong(yes bool)
	Unasked() ([]string, error)
	OutsideServers(ctx context.Context) ([]stack.OutsideServer, error)
	Lacking(ctx context.Context, out stack.Started) ([]supply.Offer, error)
	Offered(ctx context.Context, out *stack.Started)
	Supply(ctx context.Context, o supply.Offer, progress func(done int64)) (supply.Tree, error)
}

// Start is one start of a stack.
type Start struct {
	Stack   Stack
	Ask     Asker
	Options stack.StartOptions
	AsNew   bool                             // a stack that seems to have been moved here stays where it was
	Getenv  func(name string) (string, bool) // of the user's environment
	// Bring starts the stack with the options, and shows its progress.
	Bring func(ctx context.Context, o stack.StartOptions) (stack.Started, error)

	out stack.Started
	err error // of Bring: what the last start said
}

// step is a part of a start; those that ask are in files of their own. An error ends the start.
type step func(ctx context.Context, s *Start) error

// first are the steps that ask about a stack which may not have run here yet, and steps those of every start, in their
// order.
var (
	first = []step{takeAlong, reach}
	steps = []step{passwords, bring, lacking}
)

// Run does all steps. The error of a stack that does not start for want of a plan is stack.ErrNoPlan; the plan is in
// the result then.
func (s *Start) Run(ctx context.Context) (stack.Started, error) {
	return s.run(ctx, slices.Concat(first, steps))
}

// Again is Run for a stack that was started before, or that nobody has to be asked about: it asks for passwords alone.
func (s *Start) Again(ctx context.Context) (stack.Started, error) { return s.run(ctx, steps) }

func (s *Start) run(ctx context.Context, all []step) (stack.Started, error) {
	for _, do := range all {
		if err := do(ctx, s); err != nil {
			return s.out, err
		}
	}
	return s.out, s.err
}

// bring starts the stack. Whether the result is good, later steps say.
func bring(ctx context.Context, s *Start) error {
	s.out, s.err = s.Bring(ctx, s.Options)
	return nil
}
