package keeper

import (
	"context"
	"slices"
	"sync"
)

// A lease keeps parts stopped that a command has stopped to work with their files. It belongs to the command's
// connection, and ends with it: a command that dies leaves nothing behind that a start would wait for.
type lease struct {
	parts []string
	over  chan struct{} // closed when it has ended
}

// lease keeps the named parts from starting until the returned function is called, which may be called twice.
func (s *stackRunner) lease(parts []string) (end func()) {
	l := &lease{parts, make(chan struct{})}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.leases = append(s.leases, l)
	return sync.OnceFunc(func() {
		s.mu.Lock()
		s.leases = slices.DeleteFunc(s.leases, func(x *lease) bool { return x == l })
		s.mu.Unlock()
		close(l.over)
	})
}

// atRest waits until no lease keeps a part stopped, or ctx ends.
func (s *stackRunner) atRest(ctx context.Context, part string) {
	for {
		s.mu.Lock()
		i := slices.IndexFunc(s.leases, func(l *lease) bool { return slices.Contains(l.parts, part) })
		var over chan struct{}
		if i >= 0 {
			over = s.leases[i].over
		}
		s.mu.Unlock()
		if over == nil {
			return
		}
		select {
		case <-over:
		case <-ctx.Done():
			return
		}
	}
}
