package proc

import (
	"context"
	"errors"
	"time"

	"golang.org/x/sys/unix"
)

// Wait returns when the process has ended or the context ends, also if it is no child of this one (kqueue(2),
// NOTE_EXIT). A process that has died and that nobody has waited for yet has ended.
func (id Identity) Wait(ctx context.Context) {
	queue, err := unix.Kqueue()
	if err == nil {
		defer unix.Close(queue)
		change := unix.Kevent_t{Filter: unix.EVFILT_PROC, Flags: unix.EV_ADD, Fflags: unix.NOTE_EXIT}
		change.Ident = uint64(id.PID)
		_, err = unix.Kevent(queue, []unix.Kevent_t{change}, nil, nil)
	}
	for id.Alive() && ctx.Err() == nil {
		if err != nil {
			_ = Sleep(ctx, waitEvery)
			continue
		}
		short := unix.NsecToTimespec((20 * time.Millisecond).Nanoseconds()) // so that the end of the context is seen
		n, err := unix.Kevent(queue, nil, make([]unix.Kevent_t, 1), &short)
		if n > 0 || err != nil && !errors.Is(err, unix.EINTR) {
			return
		}
	}
}
