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

// AtRest stops the servers of parts, calls do, and starts them again, also if this process dies: the keeper restarts
// the parts, and waits with their start until do has returned. A server that does not run stays so. Requests wait
// meanwhile. The parts are in the order of their names. A part without data is restarted too, but may be back before do
// has returned.
func (s *Stack) AtRest(ctx context.Context, parts []kind.Part, do func() error) error {
	release, err := hold(ctx, parts)
	if err != nil {
		return err
	}
	defer release()
	r := rest{states: make(chan lifecycle.Status, 1000), ended: make(chan error, 1), left: map[string]bool{}}
	var all []string
	var served []kind.Part
	for _, p := range parts {
		if s.Runs() && run.Seen(p).Alive() {
			all = append(all, p.Name)
			if p.Data != "" {
				served = append(served, p)
				r.left[p.Name] = true
			}
		}
	}
	if len(all) == 0 {
		return do()
	}
	program, err := s.install(ctx)
	if err != nil {
		return err
	}
	late, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	go func() {
		r.ended <- s.withKeeper(late, program, func() error {
			return s.Keeper.Again(late, s.ID, all, restPatience, r.note)
		})
	}()
	for _, p := range served {
		for run.Seen(p).Alive() {
			select {
			case err := <-r.ended:
				return errors.Join(err, errors.New("the server of "+p.Name+" was not stopped"))
			case <-time.After(5 * time.Millisecond):
			}
		}
	}
	for len(r.states) > 0 {
		<-r.states // from before
	}
	err = do()
	release()
	return errors.Join(err, r.over())
}

// hold takes the hold locks of parts. release may be called twice.
func hold(ctx context.Context, parts []kind.Part) (release func(), err error) {
	var held []func()
	release = func() {
		for _, done := range held {
			done()
		}
		held = nil
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

// rest is the time during which servers are stopped.
type rest struct {
	states chan lifecycle.Status // of parts
	ended  chan error            // of the keeper's answer
	left   map[string]bool       // parts that do not answer yet
}

func (r rest) note(e keeper.Event) {
	if e.Part != nil && r.left[e.Part.Name] {
		select {
		case r.states <- *e.Part:
		default: // nobody listens before the servers have stopped
		}
	}
}

// over waits until the servers answer again.
func (r rest) over() error {
	back := map[string]bool{}
	for len(back) < len(r.left) {
		select {
		case s := <-r.states:
			switch s.State {
			case lifecycle.Answers:
				back[s.Name] = true
			case lifecycle.Failed:
				return &trouble.Trouble{Code: s.Code, What: "the server of " + s.Name + " did not start again",
					Because: s.Because, Next: s.Next}
			}
		case err := <-r.ended:
			if err != nil || len(r.states) == 0 {
				return err
			}
			r.ended <- nil // the states that came before it
		}
	}
	return nil
}
