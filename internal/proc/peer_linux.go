package proc

import (
	"encoding/binary"
	"errors"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// ownerOf returns the user id of the process whose socket has local as its own address and remote as its peer's.
func ownerOf(local, remote netip.AddrPort) (int, error) {
	uid, err := diagOwner(local, remote)
	if err == nil {
		return uid, nil
	}
	return procOwner(local, remote) // no netlink in this sandbox
}

// diagOwner asks the kernel for one socket by its two ends (sock_diag(7), struct inet_diag_req_v2). A socket that its
// process has closed belongs to nobody: the kernel gives inode 0 and user 0, which is not root.
func diagOwner(local, remote netip.AddrPort) (int, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return 0, err
	}
	defer unix.Close(fd)
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 1}); err != nil {
		return 0, err
	}
	req := make([]byte, netlinkHeader+diagRequest)
	binary.NativeEndian.PutUint32(req, uint32(len(req)))
	binary.NativeEndian.PutUint16(req[4:], unix.SOCK_DIAG_BY_FAMILY)
	binary.NativeEndian.PutUint16(req[6:], unix.NLM_F_REQUEST)
	body := req[netlinkHeader:]
	body[0], body[1] = unix.AF_INET, unix.IPPROTO_TCP
	if local.Addr().Is6() {
		body[0] = unix.AF_INET6
	}
	binary.NativeEndian.PutUint32(body[4:], 1<<tcpConnected)
	id := body[8:] // struct inet_diag_sockid
	binary.BigEndian.PutUint16(id, local.Port())
	binary.BigEndian.PutUint16(id[2:], remote.Port())
	copy(id[4:], local.Addr().AsSlice())
	copy(id[20:], remote.Addr().AsSlice())
	binary.NativeEndian.PutUint64(id[40:], ^uint64(0)) // INET_DIAG_NOCOOKIE
	if err := unix.Sendto(fd, req, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return 0, err
	}
	buf := make([]byte, 8<<10)
	n, _, err := unix.Recvfrom(fd, buf, 0)
	if err != nil {
		return 0, err
	}
	messages, err := syscall.ParseNetlinkMessage(buf[:n])
	if err != nil {
		return 0, err
	}
	for _, m := range messages {
		if m.Header.Type == unix.SOCK_DIAG_BY_FAMILY && len(m.Data) >= diagMessage {
			uid, inode := binary.NativeEndian.Uint32(m.Data[64:]), binary.NativeEndian.Uint32(m.Data[68:])
			if inode == 0 {
				return 0, ErrPeerUnknown
			}
			return int(uid), nil
		}
	}
	return 0, ErrPeerUnknown
}

// procOwner finds the socket in /proc (proc(5)).
func procOwner(local, remote netip.AddrPort) (int, error) {
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		text, err := os.ReadFile(file)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return 0, err
		}
		for line := range strings.Lines(string(text)) {
			f := strings.Fields(line)
			if len(f) >= 10 && hexAddrPort(f[1]) == local && hexAddrPort(f[2]) == remote {
				if f[9] == "0" {
					return 0, ErrPeerUnknown
				}
				return strconv.Atoi(f[7])
			}
		}
	}
	return 0, ErrPeerUnknown
}

// hexAddrPort parses an address and a port in the kernel's form. It returns the zero value if they are malformed.
func hexAddrPort(text string) netip.AddrPort {
	host, port, _ := strings.Cut(text, ":")
	p, err := strconv.ParseUint(port, 16, 16)
	addr, badAddr := netip.ParseAddr(hexAddress(host))
	if err != nil || badAddr != nil {
		return netip.AddrPort{}
	}
	return netip.AddrPortFrom(addr, uint16(p))
}
