package ledger

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// inodeOf returns what Mark.Inode holds, "" if the system does not tell a folder's birth (statx(2)).
func inodeOf(dir string) string {
	var s unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, dir, 0, unix.STATX_INO|unix.STATX_BTIME, &s)
	if err != nil || s.Mask&unix.STATX_BTIME == 0 {
		return ""
	}
	return fmt.Sprintf("%d:%d:%d:%d.%d", s.Dev_major, s.Dev_minor, s.Ino, s.Btime.Sec, s.Btime.Nsec)
}
