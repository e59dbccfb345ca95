package keeper

import (
	"context"
	"errors"
	"time"

	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/proc"
)

// lookEvery is how often folders are looked at that may be new sites.
const lookEvery = 300 * time.Millisecond

// watch looks, from now on, for folders that become sites of the stack or are sites no more, in place of an earlier
// watch. The caller holds apply.
func (s *stackRunner) watch(spec materialise.Spec) {
	s.watching()
	s.watching = func() {}
	if !spec.Each {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	s.watching = cancel
	s.keeper.parts.Go(func() {
		said := ""
		folders, err := materialise.ReadFolders(s.keeper.home, s.id)
		for proc.Sleep(ctx, lookEvery) == nil {
			if err != nil { // once more from what is written
				folders, err = materialise.ReadFolders(s.keeper.home, s.id)
			}
			if err == nil && folders.Changed() {
				err = s.refresh(ctx)
			}
			if err != nil && err.Error() != said {
				said = err.Error()
				s.keeper.log.Error("folders that are sites", "stack", s.id, "error", err)
			}
		}
	})
}

// refresh serves new folders, and those that are gone no longer. Nothing is restarted.
func (s *stackRunner) refresh(ctx context.Context) error {
	s.apply.Lock()
	defer s.apply.Unlock()
	if ctx.Err() != nil { // stopped, or started anew, meanwhile
		return nil
	}
	err := ledger.Change(s.keeper.home, func(book *ledger.Ledger) error {
		spec, err := materialise.Again(s.keeper.home, s.id, book, s.keeper.kinds)
		if errors.Is(err, materialise.ErrSame) {
			return ledger.ErrUnchanged
		}
		if err == nil {
			s.updateSites(spec)
		}
		return err
	})
	if err != nil {
		return err
	}
	s.keeper.gateway.reroute()
	return nil
}
