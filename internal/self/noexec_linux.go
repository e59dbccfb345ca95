package self

import "golang.org/x/sys/unix"

// runsNothing reports whether programs below a folder cannot be started, as its file system is mounted noexec.
func runsNothing(dir string) bool {
	var s unix.Statfs_t
	return unix.Statfs(dir, &s) == nil && s.Flags&unix.ST_NOEXEC != 0
}
