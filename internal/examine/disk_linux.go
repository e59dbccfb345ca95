package examine

import "golang.org/x/sys/unix"

func inMemory(st unix.Statfs_t) bool { return st.Type == unix.TMPFS_MAGIC }

func readOnly(st unix.Statfs_t) bool { return st.Flags&unix.ST_RDONLY != 0 }
