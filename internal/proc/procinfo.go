package proc

import (
	"bytes"
	"encoding/binary"
	"net/netip"
)

// This file decodes what macOS answers about a process's open files: the structures of xnu's bsd/sys/proc_info.h, which
// libproc(3) fills in. All numbers are little-endian: every Mac is.

// Sizes of the structures, in bytes.
const (
	fdInfoSize     = 8    // struct proc_fdinfo
	fileInfoSize   = 24   // struct proc_fileinfo, before each of the two below
	vnodeInfoSize  = 1200 // struct vnode_fdinfowithpath
	socketInfoSize = 792  // struct socket_fdinfo
	unixPathSize   = 104  // sun_path of struct sockaddr_un
)

// Kinds of descriptors (PROX_FDTYPE_*), of sockets (SOCKINFO_*), and states of TCP (TSI_S_*).
const (
	vnodeDescriptor  = 1
	socketDescriptor = 2
	udpSocket        = 1
	tcpSocket        = 2
	unixSocket       = 3
	tsListen         = 1
	tsEstablished    = 4
	acceptsOption    = 0x2 // SO_ACCEPTCONN
	ipv4Flag         = 0x1 // INI_IPV4; a socket for both families has INI_IPV6, too
	familyFlags      = 0x3
)

// descriptor is one open file of a process.
type descriptor struct {
	number int
	kind   uint32
}

// vnode is an open file that has a place in a file system.
type vnode struct {
	device uint32
	inode  uint64
	path   string // "" if the file was removed
}

// socket is an open socket.
type socket struct {
	kind          uint32 // udpSocket, tcpSocket, unixSocket, or another
	listens       bool
	connected     bool // of TCP
	local, remote netip.AddrPort
	path          string // of a Unix socket: as its program bound it
}

// decodeDescriptors decodes the answer to PROC_PIDLISTFDS.
func decodeDescriptors(raw []byte) []descriptor {
	var all []descriptor
	for ; len(raw) >= fdInfoSize; raw = raw[fdInfoSize:] {
		all = append(all, descriptor{
			number: int(int32(binary.LittleEndian.Uint32(raw))),
			kind:   binary.LittleEndian.Uint32(raw[4:]),
		})
	}
	return all
}

// decodeVnode decodes the answer to PROC_PIDFDVNODEPATHINFO. It returns false if raw is too short.
func decodeVnode(raw []byte) (vnode, bool) {
	if len(raw) < vnodeInfoSize {
		return vnode{}, false
	}
	const path = fileInfoSize + 152 // after struct vnode_info
	stat := raw[fileInfoSize:]      // struct vinfo_stat
	return vnode{
		device: binary.LittleEndian.Uint32(stat),
		inode:  binary.LittleEndian.Uint64(stat[8:]),
		path:   text(raw[path:vnodeInfoSize]),
	}, true
}

// decodeSocket decodes the answer to PROC_PIDFDSOCKETINFO. It returns false if raw is too short.
func decodeSocket(raw []byte) (socket, bool) {
	if len(raw) < socketInfoSize {
		return socket{}, false
	}
	info := raw[fileInfoSize:] // struct socket_info
	s := socket{
		kind:    binary.LittleEndian.Uint32(info[232:]),
		listens: binary.LittleEndian.Uint16(info[164:])&acceptsOption != 0,
	}
	proto := info[240:] // the union soi_proto
	switch s.kind {
	case udpSocket, tcpSocket: // struct in_sockinfo; for TCP, its state follows
		s.remote = endpoint(proto[0:], proto[32:], proto[24])
		s.local = endpoint(proto[4:], proto[48:], proto[24])
		if s.kind == tcpSocket {
			state := binary.LittleEndian.Uint32(proto[80:])
			s.listens, s.connected = state == tsListen, state == tsEstablished
		}
	case unixSocket: // struct un_sockinfo: the struct sockaddr_un has its length and family before the path
		s.path = text(proto[18 : 18+unixPathSize])
	}
	return s, true
}

// endpoint decodes a port in network order and an address of 16 bytes, whose last four an IPv4 address takes.
func endpoint(port, address []byte, flags byte) netip.AddrPort {
	addr := netip.AddrFrom16([16]byte(address[:16])).Unmap()
	if flags&familyFlags == ipv4Flag {
		addr = netip.AddrFrom4([4]byte(address[12:16]))
	}
	return netip.AddrPortFrom(addr, binary.BigEndian.Uint16(port))
}

// text returns what stands before the first NUL.
func text(raw []byte) string {
	before, _, _ := bytes.Cut(raw, []byte{0})
	return string(before)
}
