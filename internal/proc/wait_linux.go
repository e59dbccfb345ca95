package proc

import (
	"context"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// Wait returns when the process has ended or the context ends, also if it is no child of this one (pidfd_open(2)). A
// process that has died and that nobody has waited for yet has ended.
func (id Identity) Wait(ctx context.Context) {
	fd, err := unix.PidfdOpen(id.PID, unix.PIDFD_NONBLOCK)
	if err != nil || !id.Alive() {
		if err == nil {
			unix.Close(fd)
		}
		for id.Alive() && Sleep(ctx, waitEvery) == nil { // Linux before 5.10 does not tell
		}
		return
	}
	f := os.NewFile(uintptr(fd), "pidfd")
	defer f.Close()
	stop := context.AfterFunc(ctx, func() { _ = f.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	raw, err := f.SyscallConn()
	if err == nil {
		err = raw.Read(func(fd uintptr) bool {
			events := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}} //nolint:gosec // a small number
			n, err := unix.Poll(events, 0)
			return err == nil && n > 0
		})
	}
	for err != nil && ctx.Err() == nil && id.Alive() && Sleep(ctx, waitEvery) == nil {
	}
}
