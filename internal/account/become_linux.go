package account

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// maxGroups is how many groups setgroups(2) takes (NGROUPS_MAX).
const maxGroups = 65536

// program opens the running program. The account can then run it even if it is in a folder that only root may enter.
func program() (string, func(), error) {
	f, err := os.Open("/proc/self/exe")
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d", f.Fd()), func() { f.Close() }, nil
}

// reachable opens /proc/self to the account again: a process that changed its user may not read its own entry.
func reachable() error { return unix.Prctl(unix.PR_SET_DUMPABLE, 1, 0, 0, 0) }
