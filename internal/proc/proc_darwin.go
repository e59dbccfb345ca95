package proc

import (
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/sys/unix"
)

// ListsEverybody says whether Listeners has the sockets of other users, too.
const ListsEverybody = false

// BootID returns a text that changes with every boot, and does not when the clock is set.
var BootID = sync.OnceValue(func() string {
	session, _ := unix.Sysctl("kern.bootsessionuuid") // every macOS since 10.7 has it
	return session
})

func startOf(pid int) (uint64, error) {
	info, err := unix.SysctlKinfoProc("kern.proc.pid", pid)
	if err != nil {
		return 0, err
	}
	if info.Proc.P_stat == zombie {
		return 0, os.ErrProcessDone
	}
	return started(info), nil
}

// LockHolders returns the processes of this user that have a file open: macOS does not tell which of them holds its
// lock.
func LockHolders(path string) ([]int, error) {
	var info unix.Stat_t
	err := unix.Stat(path, &info)
	if err == unix.ENOENT {
		return nil, nil
	}
	if err != nil {
		return nil, &os.PathError{Op: "stat", Path: path, Err: err}
	}
	return thisMac.holders(uint32(info.Dev), info.Ino), nil
}

// Owns reports whether one of the processes holds the listening socket. network is "tcp", with host:port as address, or
// "unix", with a path.
func Owns(pids []int, network, address string) (bool, error) {
	if network == "unix" {
		return thisMac.ownsUnix(pids, address), nil
	}
	want, err := netip.ParseAddrPort(address)
	if err != nil {
		return false, err
	}
	listeners, err := Listeners()
	return slices.ContainsFunc(taking(listeners, want), func(l Listener) bool {
		return slices.Contains(pids, int(l.socketKey))
	}), err
}

// Listeners returns the TCP sockets on which this user's processes listen. macOS shows those of others to root only.
func Listeners() ([]Listener, error) { return thisMac.tcpListeners(os.Geteuid()), nil }

// Clients returns the processes that are connected to a TCP port of this machine, by the clients' own ports, as far as
// this user may see.
func Clients(port int) (map[int]Holder, error) {
	out := map[int]Holder{}
	for client, pid := range thisMac.clients(port) {
		out[client] = Holder{PID: pid, Program: nameOf(pid)}
	}
	return out, nil
}

// UDPListeners returns the UDP sockets of this user's processes that accept packets from any sender.
func UDPListeners() ([]Listener, error) { return thisMac.udpListeners(os.Geteuid()), nil }

// NetworkListeners returns the TCP sockets of this user's processes that other machines may reach, each with its
// process.
func NetworkListeners() (map[Listener]int, error) {
	all, err := Listeners()
	out := map[Listener]int{}
	for _, l := range all {
		addr, bad := netip.ParseAddr(l.Address)
		if bad == nil && !addr.IsLoopback() {
			out[l] = int(l.socketKey)
		}
	}
	return out, err
}

// ListenerHolder returns the process that listens on a TCP port.
func ListenerHolder(l Listener) Holder {
	h := Holder{PID: int(l.socketKey)}
	if p, err := process.NewProcess(int32(h.PID)); err == nil {
		h.Program, _ = p.Name()
		h.User, _ = p.Username()
		if ms, err := p.CreateTime(); err == nil {
			h.Since = time.UnixMilli(ms).UTC().Truncate(time.Second)
		}
	}
	return h
}

// EphemeralPorts returns the first and the last port of the range for outgoing connections.
func EphemeralPorts() (low, high int) {
	first, err1 := unix.SysctlUint32("net.inet.ip.portrange.first")
	last, err2 := unix.SysctlUint32("net.inet.ip.portrange.last")
	if err1 != nil || err2 != nil {
		return 49152, 65535
	}
	return int(first), int(last)
}

// Memory returns the memory of the processes in bytes. macOS knows no proportional share, so this is the resident size.
func Memory(pids []int) int64 {
	var sum int64
	for _, pid := range pids {
		if p, err := process.NewProcess(int32(pid)); err == nil {
			if m, err := p.MemoryInfo(); err == nil {
				sum += int64(m.RSS)
			}
		}
	}
	return sum
}

// OutOfMemory returns 0: macOS does not count it.
func OutOfMemory() int64 { return 0 }
