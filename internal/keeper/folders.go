package keeper

import (
	"context"
	"errors"
	"time"

	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/proc"
)

// lookEvery is how often the keeper checks for new folders that become sites.
const lookEvery = 300 * time.Millisecond

// watch checks from now on for folders that become sites of the stack, or are sites no more. It replaces an earlier
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
			if err != nil { // try once more, from what is written
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

// refresh adds sites for new folders, and removes those of folders that are gone. It restarts nothing.
func (s *stackRunner) refresh(ctx context.Context) error {
	s.apply.Lock()
	defer s.apply.Unlock()
	if ctx.Err() != nil { // the stack was stopped or started again meanwhile
		return nil
	}
	err := ledger.Change(ctx, s.keeper.home, func(book *ledger.Ledger) error {
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
