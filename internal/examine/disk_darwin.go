package examine

import "golang.org/x/sys/unix"

func inMemory(unix.Statfs_t) bool { return false }

func readOnly(st unix.Statfs_t) bool { return st.Flags&unix.MNT_RDONLY != 0 }
