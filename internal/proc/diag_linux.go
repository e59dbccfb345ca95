package proc

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"syscall"

	"golang.org/x/sys/unix"
)

const (
	tcpConnected  = 1  // TCP_ESTABLISHED of the kernel's net/tcp_states.h
	tcpListen     = 10 // TCP_LISTEN there
	udpUnbound    = 7  // TCP_CLOSE there: a UDP socket without a peer
	diagRequest   = 56 // sizeof(struct inet_diag_req_v2), sock_diag(7)
	diagMessage   = 72 // sizeof(struct inet_diag_msg)
	netlinkHeader = 16
)

// diagListeners asks the kernel for the sockets of one protocol in one state (sock_diag(7)).
func diagListeners(protocol byte, state uint32) ([]Listener, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 1}); err != nil {
		return nil, err
	}
	var all []Listener
	for _, family := range []byte{unix.AF_INET, unix.AF_INET6} {
		req := make([]byte, netlinkHeader+diagRequest)
		binary.NativeEndian.PutUint32(req, uint32(len(req)))
		binary.NativeEndian.PutUint16(req[4:], unix.SOCK_DIAG_BY_FAMILY)
		binary.NativeEndian.PutUint16(req[6:], unix.NLM_F_REQUEST|unix.NLM_F_DUMP)
		req[netlinkHeader], req[netlinkHeader+1] = family, protocol
		binary.NativeEndian.PutUint32(req[netlinkHeader+4:], 1<<state)
		if err := unix.Sendto(fd, req, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
			return nil, err
		}
		if all, err = receive(fd, all); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func receive(fd int, all []Listener) ([]Listener, error) {
	buf := make([]byte, 64<<10)
	for {
		n, _, err := unix.Recvfrom(fd, buf, 0)
		if err != nil {
			return nil, err
		}
		messages, err := syscall.ParseNetlinkMessage(buf[:n])
		if err != nil {
			return nil, err
		}
		for _, m := range messages {
			switch {
			case m.Header.Type == unix.NLMSG_DONE:
				return all, nil
			case m.Header.Type == unix.NLMSG_ERROR || len(m.Data) < diagMessage:
				return nil, fmt.Errorf("the kernel refuses to list sockets")
			}
			// struct inet_diag_msg: family, state, timer, retrans; then the socket's own port and address in network
			// order.
			length := 4
			if m.Data[0] == unix.AF_INET6 {
				length = 16
			}
			addr, _ := netip.AddrFromSlice(m.Data[8 : 8+length])
			all = append(all, Listener{
				Address:   addr.Unmap().String(),
				Port:      int(binary.BigEndian.Uint16(m.Data[4:])),
				peer:      int(binary.BigEndian.Uint16(m.Data[6:])),
				UID:       int(binary.NativeEndian.Uint32(m.Data[64:])),
				socketKey: uint64(binary.NativeEndian.Uint32(m.Data[68:])),
			})
		}
	}
}
