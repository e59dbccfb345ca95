package ledger

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// inodeOf returns what Mark.Inode holds, "" if there is no such folder (stat(2)).
func inodeOf(dir string) string {
	var s unix.Stat_t
	if err := unix.Stat(dir, &s); err != nil {
		return ""
	}
	return fmt.Sprintf("%d:%d:%d.%d", s.Dev, s.Ino, s.Btim.Sec, s.Btim.Nsec)
}
