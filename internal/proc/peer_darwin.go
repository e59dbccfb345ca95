package proc

import (
	"net/netip"
	"os"
)

// ownerOf returns the user id of the process whose socket has local as its own address and remote as its peer's. macOS
// shows the sockets of this user's processes only.
func ownerOf(local, remote netip.AddrPort) (int, error) {
	if thisMac.connected(local, remote) {
		return os.Geteuid(), nil
	}
	return 0, ErrPeerUnknown
}
