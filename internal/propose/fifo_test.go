package propose

import "golang.org/x/sys/unix"

func mkfifo(name string) error { return unix.Mkfifo(name, 0o600) }
