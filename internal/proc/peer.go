package proc

import (
	"errors"
	"net"
	"net/netip"
	"os"
)

// ErrPeerUnknown says that the system does not tell which process is at the other end of a connection.
var ErrPeerUnknown = errors.New("the system does not tell who is at the other end")

// PeerUser returns the user id of the process at the other end of a TCP connection within this machine. here and there
// are the connection's two addresses, as this end sees them.
func PeerUser(here, there net.Addr) (uid int, err error) {
	local, err := addrPort(here)
	if err != nil {
		return 0, err
	}
	remote, err := addrPort(there)
	if err != nil {
		return 0, err
	}
	return ownerOf(remote, local)
}

// SameUser reports whether the process at the other end of a TCP connection belongs to this user, or to root, who may
// do everything that this user may. If the system does not tell, it returns false.
func SameUser(here, there net.Addr) bool {
	uid, err := PeerUser(here, there)
	return err == nil && (uid == os.Geteuid() || uid == 0)
}

func addrPort(a net.Addr) (netip.AddrPort, error) {
	if a == nil {
		return netip.AddrPort{}, ErrPeerUnknown
	}
	at, err := netip.ParseAddrPort(a.String())
	if err != nil || !at.Addr().IsLoopback() {
		return netip.AddrPort{}, ErrPeerUnknown
	}
	return netip.AddrPortFrom(at.Addr().Unmap(), at.Port()), nil
}

// OwnClients returns a listener that accepts connections of this user's processes only. It writes refusal, if not "",
// to the others before it closes their connections.
func OwnClients(l net.Listener, refusal string) net.Listener { return ownClients{l, refusal} }

type ownClients struct {
	net.Listener
	refusal string
}

func (l ownClients) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil || SameUser(conn.LocalAddr(), conn.RemoteAddr()) {
			return conn, err
		}
		_, _ = conn.Write([]byte(l.refusal)) // a client that does not read it is refused all the same
		conn.Close()
	}
}
