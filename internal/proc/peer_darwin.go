package proc

import (
	"net/netip"

	"github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"
)

// ownerOf returns the user id of the process whose socket has local as its own address and remote as its peer's.
func ownerOf(local, remote netip.AddrPort) (int, error) {
	conns, err := net.Connections("tcp")
	if err != nil {
		return 0, err
	}
	for _, c := range conns {
		if c.Laddr.Port != uint32(local.Port()) || c.Raddr.Port != uint32(remote.Port()) ||
			c.Laddr.IP != local.Addr().String() {
			continue
		}
		p, err := process.NewProcess(c.Pid)
		if err != nil {
			return 0, err
		}
		uids, err := p.Uids()
		if err != nil || len(uids) == 0 {
			return 0, ErrPeerUnknown
		}
		return int(uids[0]), nil
	}
	return 0, ErrPeerUnknown
}
