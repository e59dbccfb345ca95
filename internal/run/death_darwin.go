package run

import (
	"errors"

	"golang.org/x/sys/unix"
)

// waitForDeath returns when a child has died, and leaves it a zombie (kqueue(2), NOTE_EXIT).
func waitForDeath(pid int) {
	queue, err := unix.Kqueue()
	if err != nil {
		return
	}
	defer unix.Close(queue)
	change := unix.Kevent_t{Filter: unix.EVFILT_PROC, Flags: unix.EV_ADD, Fflags: unix.NOTE_EXIT}
	change.Ident = uint64(pid)
	events := make([]unix.Kevent_t, 1)
	for {
		_, err := unix.Kevent(queue, []unix.Kevent_t{change}, events, nil)
		if !errors.Is(err, unix.EINTR) {
			return
		}
	}
}
