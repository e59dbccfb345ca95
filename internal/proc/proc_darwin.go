package proc

import (
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/sys/unix"
)

// BootID returns a text that changes with every boot.
var BootID = sync.OnceValue(func() string {
	at, err := unix.SysctlTimeval("kern.boottime")
	if err != nil {
		return ""
	}
	return strconv.FormatInt(at.Sec, 10)
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

// LockHolders returns the processes that have a file open, as far as this user may see.
func LockHolders(path string) ([]int, error) {
	all, err := process.Processes()
	if err != nil {
		return nil, err
	}
	real, err := filepath.EvalSymlinks(path)
	if os.IsNotExist(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var pids []int
	for _, p := range all {
		if holds(p, path, real) {
			pids = append(pids, int(p.Pid))
		}
	}
	return pids, nil
}

func holds(p *process.Process, path, real string) bool {
	files, err := p.OpenFiles()
	return err == nil && slices.ContainsFunc(files, func(f process.OpenFilesStat) bool {
		return f.Path == real || f.Path == path
	})
}

// Owns reports whether one of the processes holds the listening socket. network is "tcp", with host:port as address, or
// "unix", with a path.
func Owns(pids []int, network, address string) (bool, error) {
	if network == "tcp" {
		want, err := netip.ParseAddrPort(address)
		if err != nil {
			return false, err
		}
		listeners, err := Listeners()
		if err != nil {
			return false, err
		}
		return slices.ContainsFunc(taking(listeners, want), func(l Listener) bool {
			return slices.Contains(pids, int(l.socketKey))
		}), nil
	}
	for _, pid := range pids {
		all, err := net.ConnectionsPid("all", int32(pid))
		if err == nil && slices.ContainsFunc(all, func(c net.ConnectionStat) bool { return c.Laddr.IP == address }) {
			return true, nil
		}
	}
	return false, nil
}

// Listeners returns every TCP socket that listens on this machine.
func Listeners() ([]Listener, error) {
	conns, err := net.Connections("tcp")
	if err != nil {
		return nil, err
	}
	var all []Listener
	for _, c := range conns {
		if c.Status != "LISTEN" {
			continue
		}
		l := Listener{Address: c.Laddr.IP, Port: int(c.Laddr.Port), socketKey: uint64(c.Pid), UID: -1}
		if len(c.Uids) > 0 {
			l.UID = int(c.Uids[0])
		}
		all = append(all, l)
	}
	return all, nil
}

// Clients returns the processes that are connected to a TCP port of this machine, by the clients' own ports, as far as
// this user may see.
func Clients(port int) (map[int]Holder, error) {
	conns, err := net.Connections("tcp")
	if err != nil {
		return nil, err
	}
	out := map[int]Holder{}
	for _, c := range conns {
		if c.Status != "ESTABLISHED" || int(c.Raddr.Port) != port || c.Pid == 0 {
			continue
		}
		h := Holder{PID: int(c.Pid)}
		if p, err := process.NewProcess(c.Pid); err == nil {
			h.Program, _ = p.Name()
		}
		out[int(c.Laddr.Port)] = h
	}
	return out, nil
}

// UDPListeners returns every UDP socket that accepts packets from any sender.
func UDPListeners() ([]Listener, error) {
	conns, err := net.Connections("udp")
	var all []Listener
	for _, c := range conns {
		if c.Raddr.Port == 0 && c.Laddr.Port != 0 {
			all = append(all, Listener{Address: c.Laddr.IP, Port: int(c.Laddr.Port), socketKey: uint64(c.Pid), UID: -1})
		}
	}
	return all, err
}

// NetworkListeners returns the TCP sockets of this user's processes that other machines may reach, each with its
// process.
func NetworkListeners() (map[Listener]int, error) {
	all, err := Listeners()
	out := map[Listener]int{}
	for _, l := range all {
		addr, bad := netip.ParseAddr(l.Address)
		// "*" is every address
		if own := l.UID == os.Geteuid() || l.UID < 0; own && (bad != nil || !addr.IsLoopback()) {
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
