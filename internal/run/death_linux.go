package run

import (
	"errors"

	"golang.org/x/sys/unix"
)

// waitForDeath returns when a child has died, and leaves it a zombie (waitid(2), WNOWAIT).
func waitForDeath(pid int) {
	for errors.Is(unix.Waitid(unix.P_PID, pid, nil, unix.WEXITED|unix.WNOWAIT, nil), unix.EINTR) {
	}
}
