package starting

import (
	"context"
	"errors"
	"fmt"

	"dravit/internal/stack"
	"dravit/internal/supply"
)

// lacking fetches, or has the system install, what a start without a plan lacks, after a yes, and starts once more.
// What sources are known to have is added to a plan that stays impossible.
func lacking(ctx context.Context, s *Start) error {
	if !errors.Is(s.err, stack.ErrNoPlan) {
		return nil
	}
	got, err := s.get(ctx)
	if err != nil {
		return err
	}
	if got {
		s.out, s.err = s.Bring(ctx, s.Options)
	}
	if errors.Is(s.err, stack.ErrNoPlan) {
		s.Stack.Offered(ctx, &s.out)
	}
	return nil
}

// get gets what is lacking, and reports whether it did.
func (s *Start) get(ctx context.Context) (bool, error) {
	if !s.Ask.Agreed() && !s.Ask.Present() {
		return false, nil
	}
	offers, err := s.Stack.Lacking(ctx, s.out)
	if err != nil && ctx.Err() == nil { // the plan's own fault says what is missing
		s.Ask.Note("no source helps: " + err.Error())
	}
	if len(offers) == 0 || ctx.Err() != nil {
		return s.install(ctx)
	}
	agreed, err := s.Ask.Agree(ctx, Question{Fetch: offers})
	if err != nil || !agreed {
		return false, err
	}
	return true, Fetch(ctx, s.Stack, s.Ask, offers)
}

// install has the system's own package manager install what is lacking. It asks a person only: --yes does not agree to
// changes of the system.
func (s *Start) install(ctx context.Context) (bool, error) {
	command := s.out.Plan.Install
	if s.Ask.Agreed() || !s.Ask.Present() || ctx.Err() != nil || command == "" {
		return false, ctx.Err()
	}
	agreed, err := s.Ask.Agree(ctx, Question{Install: command})
	if err != nil || !agreed {
		return false, err
	}
	if err := s.Ask.Install(ctx, command); err != nil {
		return false, fmt.Errorf("%s: %w", command, err)
	}
	return true, nil
}

// Supplier fetches what an offer names; Stack and *stack.Machine are some.
type Supplier interface {
	Supply(ctx context.Context, o supply.Offer, progress func(done int64)) (supply.Tree, error)
}

// Fetch gets what offers name, each whole or not at all.
func Fetch(ctx context.Context, from Supplier, ask Asker, offers []supply.Offer) error {
	for _, o := range offers {
		err := ask.Fetch(o, func(progress func(done int64)) error {
			_, err := from.Supply(ctx, o, progress)
			return err
		})
		if err != nil {
			return fmt.Errorf("supplying %s %s: %w", o.Kind, o.Version, err)
		}
	}
	return nil
}
