package home

import (
	"errors"
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// Share takes a shared lock on an open file for as long as it is open.
func Share(f *os.File) error { return flock(f, unix.LOCK_SH|unix.LOCK_NB) }

// ErrPeer says that the process at the other end of a socket belongs to another user.
var ErrPeer = errors.New("the other end of the socket belongs to another user")

// CheckPeer returns ErrPeer if the process at the other end of a Unix socket is not this user's.
func CheckPeer(conn net.Conn) error {
	uc, ok := conn.(*net.UnixConn)
	if !ok {
		return ErrPeer
	}
	raw, err := uc.SyscallConn()
	if err != nil {
		return err
	}
	uid, failed := -1, error(nil)
	if err := raw.Control(func(fd uintptr) { uid, failed = peerUID(int(fd)) }); err != nil {
		return err
	}
	if failed != nil {
		return failed
	}
	if uid != os.Geteuid() {
		return ErrPeer
	}
	return nil
}

// OwnPeers returns a listener that closes connections of other users.
func OwnPeers(l net.Listener) net.Listener { return ownPeers{l} }

type ownPeers struct{ net.Listener }

func (l ownPeers) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if CheckPeer(conn) == nil {
			return conn, nil
		}
		conn.Close()
	}
}
