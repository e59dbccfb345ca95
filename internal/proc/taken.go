package proc

import (
	"errors"

	"golang.org/x/sys/unix"
)

// Taken reports whether a program listens on a TCP port of this machine, whoever's it is. It finds out by binding the
// port, without listening, for a moment. A port that this user may not open is not taken.
func Taken(port int) bool {
	// With SO_REUSEADDR, which lets connections that have ended not count, some systems give an address though another
	// program has every address, or the other way round: so ask for each.
	for _, at := range []unix.Sockaddr{
		&unix.SockaddrInet4{Port: port, Addr: [4]byte{127, 0, 0, 1}},
		&unix.SockaddrInet4{Port: port},
		&unix.SockaddrInet6{Port: port, Addr: [16]byte{15: 1}},
		&unix.SockaddrInet6{Port: port},
	} {
		if errors.Is(bind(at), unix.EADDRINUSE) {
			return true
		}
	}
	return false
}

// bind binds an address, and lets it go.
func bind(at unix.Sockaddr) error {
	family := unix.AF_INET
	if _, six := at.(*unix.SockaddrInet6); six {
		family = unix.AF_INET6
	}
	fd, err := unix.Socket(family, unix.SOCK_STREAM, 0)
	if err != nil {
		return err // a machine without this family
	}
	defer unix.Close(fd)
	unix.CloseOnExec(fd)
	if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1); err != nil {
		return err
	}
	return unix.Bind(fd, at)
}
