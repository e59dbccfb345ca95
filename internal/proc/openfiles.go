package proc

import (
	"net/netip"
	"path/filepath"
	"slices"
)

// openFiles answers who has which file and socket open, from what libproc(3) tells about each process: macOS has no
// list of sockets or locks that one could ask instead. Without root it tells of this user's processes only. The fields
// are asked anew for each answer; a process or descriptor that is gone yields nil.
type openFiles struct {
	processes   func() []int                 // this user's processes
	descriptors func(pid int) []byte         // PROC_PIDLISTFDS
	vnode       func(pid, number int) []byte // PROC_PIDFDVNODEPATHINFO
	socket      func(pid, number int) []byte // PROC_PIDFDSOCKETINFO
}

// eachVnode calls do for every file of a process that has a place in a file system, until do returns false.
func (o openFiles) eachVnode(pid int, do func(vnode) bool) {
	for _, d := range decodeDescriptors(o.descriptors(pid)) {
		if d.kind != vnodeDescriptor {
			continue
		}
		if v, ok := decodeVnode(o.vnode(pid, d.number)); ok && !do(v) {
			return
		}
	}
}

// eachSocket calls do for every socket of a process, until do returns false.
func (o openFiles) eachSocket(pid int, do func(socket) bool) {
	for _, d := range decodeDescriptors(o.descriptors(pid)) {
		if d.kind != socketDescriptor {
			continue
		}
		if s, ok := decodeSocket(o.socket(pid, d.number)); ok && !do(s) {
			return
		}
	}
}

// holders returns the processes that have this file open.
func (o openFiles) holders(device uint32, inode uint64) []int {
	var pids []int
	for _, pid := range o.processes() {
		o.eachVnode(pid, func(v vnode) bool {
			if v.device != device || v.inode != inode {
				return true
			}
			pids = append(pids, pid)
			return false
		})
	}
	return pids
}

// locks returns the lock files that a process has open: macOS does not tell which process holds a lock.
func (o openFiles) locks(pid int) []string {
	var paths []string
	o.eachVnode(pid, func(v vnode) bool {
		if filepath.Ext(v.path) == ".lock" && !slices.Contains(paths, v.path) {
			paths = append(paths, v.path)
		}
		return true
	})
	return paths
}

// ownsUnix reports whether one of the processes listens on a Unix socket.
func (o openFiles) ownsUnix(pids []int, path string) bool {
	resolved := RealPath(path)
	return slices.ContainsFunc(pids, func(pid int) bool {
		found := false
		o.eachSocket(pid, func(s socket) bool {
			found = s.kind == unixSocket && s.listens && (s.path == path || RealPath(s.path) == resolved)
			return !found
		})
		return found
	})
}

// tcpListeners returns the TCP sockets on which this user's processes listen, with the process as socketKey.
func (o openFiles) tcpListeners(uid int) []Listener {
	return o.listeners(uid, func(s socket) bool { return s.kind == tcpSocket && s.listens })
}

// udpListeners returns the UDP sockets of this user's processes that take packets from any sender.
func (o openFiles) udpListeners(uid int) []Listener {
	return o.listeners(uid, func(s socket) bool {
		return s.kind == udpSocket && s.local.Port() != 0 && s.remote.Port() == 0
	})
}

func (o openFiles) listeners(uid int, want func(socket) bool) []Listener {
	var all []Listener
	for _, pid := range o.processes() {
		o.eachSocket(pid, func(s socket) bool {
			l := Listener{
				Address:   s.local.Addr().String(),
				Port:      int(s.local.Port()),
				UID:       uid,
				socketKey: uint64(pid),
			}
			if want(s) && !slices.Contains(all, l) {
				all = append(all, l)
			}
			return true
		})
	}
	return all
}

// clients returns this user's processes that are connected to a TCP port, by the clients' own ports.
func (o openFiles) clients(port int) map[int]int {
	found := map[int]int{}
	for _, pid := range o.processes() {
		o.eachSocket(pid, func(s socket) bool {
			if s.connected && int(s.remote.Port()) == port {
				found[int(s.local.Port())] = pid
			}
			return true
		})
	}
	return found
}

// connected reports whether one of this user's processes has the TCP connection with these ends.
func (o openFiles) connected(local, remote netip.AddrPort) bool {
	return slices.ContainsFunc(o.processes(), func(pid int) bool {
		found := false
		o.eachSocket(pid, func(s socket) bool {
			found = s.kind == tcpSocket && s.local == local && s.remote == remote
			return !found
		})
		return found
	})
}
