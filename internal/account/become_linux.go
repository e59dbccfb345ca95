package account

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// program opens the running program, so that the account can run it also where it lies in a folder of root's own.
func program() (string, func(), error) {
	f, err := os.Open("/proc/self/exe")
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d", f.Fd()), func() { f.Close() }, nil
}

// reachable opens /proc/self to the account again: a process that changed its user is closed to itself.
func reachable() error { return unix.Prctl(unix.PR_SET_DUMPABLE, 1, 0, 0, 0) }
