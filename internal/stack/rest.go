package stack

import (
	"context"
	"errors"
	"time"

	"dravit/internal/data"
	"dravit/internal/keeper"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// restPatience is how long servers may take to stop for a mark or a rewind, and to answer afterwards.
const restPatience = 10 * time.Minute

// AtRest stops the servers of parts, calls do, and has them started again, also if this process dies: they are at rest
// as long as the keeper hears this process. If the keeper dies meanwhile, do goes on, and the next keeper's start waits
// for its end. A server that does not run stays so. Requests wait meanwhile. The parts are in the order of their names.
func (s *Stack) AtRest(ctx context.Context, parts []kind.Part, do func() error) error {
	held := func() error {
		release, err := hold(ctx, parts)
		if err != nil {
			return err
		}
		defer release()
		return do()
	}
	var all []string
	left := map[string]bool{} // parts with data that have to answer again
	for _, p := range parts {
		if s.Runs() && run.Seen(p).Alive() {
			all = append(all, p.Name)
			if p.Data != "" {
				left[p.Name] = true
			}
		}
	}
	if len(all) == 0 {
		return held()
	}
	program, err := s.install(ctx)
	if err != nil {
		return err
	}
	late := context.WithoutCancel(ctx) // what has begun is put right again
	var failed error
	err = s.withKeeper(late, program, func() error {
		return s.Keeper.Rest(late, s.ID, all, restPatience, held, func(e keeper.Event) bool {
			if e.Part == nil || !left[e.Part.Name] {
				return false
			}
			switch e.Part.State {
			case lifecycle.Answers:
				delete(left, e.Part.Name)
			case lifecycle.Failed:
				failed = &trouble.Trouble{Code: e.Part.Code, Because: e.Part.Because, Next: e.Part.Next,
					What: "the server of " + e.Part.Name + " did not start again"}
			}
			return len(left) == 0 || failed != nil
		})
	})
	return errors.Join(err, failed)
}

// hold takes the hold locks of parts. The caller must call release.
func hold(ctx context.Context, parts []kind.Part) (release func(), err error) {
	var held []func()
	release = func() {
		for _, done := range held {
			done()
		}
	}
	for _, p := range parts {
		if p.Data == "" {
			continue
		}
		done, err := data.Hold(ctx, p.Data)
		if err != nil {
			release()
			return nil, err
		}
		held = append(held, done)
	}
	return release, nil
}
