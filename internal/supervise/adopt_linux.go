package supervise

import "golang.org/x/sys/unix"

// adoptOrphans makes this process the parent of every descendant whose parent dies (prctl(2), PR_SET_CHILD_SUBREAPER).
func adoptOrphans() error { return unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }
