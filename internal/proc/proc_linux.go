package proc

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"
	"golang.org/x/sys/unix"

	"dravit/internal/account"
)

// ListsEverybody says whether Listeners has the sockets of other users, too.
const ListsEverybody = true

// BootID returns a text that changes with every boot.
var BootID = sync.OnceValue(func() string {
	text, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(text))
})

// LockHolders returns the processes that hold a file's lock (flock), as far as this user may see. A process that has
// the file open without its lock is not among them.
func LockHolders(path string) ([]int, error) {
	want, err := os.Stat(path)
	if os.IsNotExist(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var pids []int
	err = eachProcess(func(pid int) {
		if holds(pid, path, want) {
			pids = append(pids, pid)
		}
	})
	return pids, err
}

func holds(pid int, path string, want os.FileInfo) bool {
	found := false
	eachDescriptor(pid, func(link, target string) bool {
		if filepath.Base(target) != filepath.Base(path) {
			return true
		}
		if got, err := os.Stat(link); err != nil || !os.SameFile(got, want) {
			return true
		}
		found = locked(link)
		return !found
	})
	return found
}

// locked reports whether the lock of an open file (flock) is held through this descriptor, a link of /proc/PID/fd.
// Where the kernel does not tell (WSL 1, some sandboxes), every open file counts.
func locked(link string) bool {
	info, err := os.ReadFile(strings.Replace(link, "/fd/", "/fdinfo/", 1))
	return !showsLocks() || err == nil && bytes.Contains(info, lockLine)
}

// lockLine is what a descriptor's information has for such a lock (proc(5), /proc/PID/fdinfo).
var lockLine = []byte("FLOCK  ADVISORY  WRITE")

// showsLocks reports whether the kernel shows locks in a descriptor's information, by taking one.
var showsLocks = sync.OnceValue(func() bool {
	f, err := os.CreateTemp("", "dravit-lock-")
	if err != nil {
		return true
	}
	defer f.Close()
	os.Remove(f.Name())
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		return true
	}
	info, err := os.ReadFile(fmt.Sprintf("/proc/self/fdinfo/%d", f.Fd()))
	return err != nil || bytes.Contains(info, lockLine)
})

// socketListings lets ladders that are climbed at once share one listing of the sockets.
var socketListings singleflight.Group

// Owns reports whether one of the processes holds the listening socket. network is "tcp", with host:port as address, or
// "unix", with a path. The error is ErrHidden if none of them is seen to have it, and the system hides what one has.
func Owns(pids []int, network, address string) (bool, error) {
	inodes := map[string]bool{}
	if network == "unix" {
		text, err := os.ReadFile("/proc/net/unix")
		if err != nil {
			return false, err
		}
		for line := range strings.Lines(string(text)) {
			// Num RefCount Protocol Flags Type St Inode Path; flag 0x10000 is a listener (SO_ACCEPTCON).
			head, ok := strings.CutSuffix(line, " "+address+"\n")
			if f := strings.Fields(head); ok && len(f) == 7 && f[3] == "00010000" {
				inodes["socket:["+f[6]+"]"] = true
			}
		}
	} else {
		want, err := netip.ParseAddrPort(address)
		if err != nil {
			return false, err
		}
		listeners, err, _ := socketListings.Do("", func() (any, error) { return Listeners() })
		if err != nil {
			return false, err
		}
		for _, l := range taking(listeners.([]Listener), want) {
			inodes[fmt.Sprintf("socket:[%d]", l.socketKey)] = true
		}
	}
	for _, pid := range pids {
		found := false
		eachDescriptor(pid, func(_, target string) bool {
			found = found || inodes[target]
			return !found
		})
		if found {
			return true, nil
		}
	}
	if len(inodes) == 0 || !slices.ContainsFunc(pids, hidden) {
		return false, nil
	}
	if network == "unix" {
		if pid := listenerOf(address); pid != 0 {
			return slices.Contains(pids, pid), nil
		}
	} else if knownHolder(address) {
		return false, nil
	}
	return false, ErrHidden
}

// knownHolder reports whether a listening TCP socket is another user's, or one of a process that this user sees.
func knownHolder(address string) bool {
	want, err := netip.ParseAddrPort(address)
	if err != nil {
		return false
	}
	all, _ := Listeners()
	return slices.ContainsFunc(taking(all, want), func(l Listener) bool {
		return l.UID != os.Geteuid() || ListenerHolder(l).PID != 0
	})
}

// hidden reports whether a running process's descriptors are closed to this user.
func hidden(pid int) bool {
	dir, err := os.Open(fmt.Sprintf("/proc/%d/fd", pid))
	if err == nil {
		dir.Close()
	}
	return errors.Is(err, os.ErrPermission)
}

// listenerOf returns the process that made a Unix socket listen, by connecting to it (unix(7), SO_PEERCRED), or 0.
func listenerOf(path string) int {
	conn, err := net.DialTimeout("unix", path, time.Second)
	if err != nil {
		return 0
	}
	defer conn.Close()
	raw, err := conn.(*net.UnixConn).SyscallConn()
	if err != nil {
		return 0
	}
	var peer *unix.Ucred
	if err := raw.Control(func(fd uintptr) {
		peer, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); err != nil || peer == nil {
		return 0
	}
	return int(peer.Pid)
}

// Listeners returns every TCP socket that listens on this machine.
func Listeners() ([]Listener, error) {
	all, err := diagListeners(unix.IPPROTO_TCP, tcpListen)
	if err == nil {
		return all, nil
	}
	return procListeners() // no netlink in this sandbox
}

// UDPListeners returns every UDP socket that accepts packets from any sender.
func UDPListeners() ([]Listener, error) {
	all, err := diagListeners(unix.IPPROTO_UDP, udpUnbound)
	return slices.DeleteFunc(all, func(l Listener) bool { return l.Port == 0 }), err
}

// NetworkListeners returns the TCP sockets of this user's processes that other machines may reach, each with a process
// that has it.
func NetworkListeners() (map[Listener]int, error) {
	all, err := NetworkSockets()
	if err != nil {
		return nil, err
	}
	out, byInode := map[Listener]int{}, map[string]Listener{}
	for _, l := range all {
		byInode[fmt.Sprintf("socket:[%d]", l.socketKey)] = l
	}
	if len(byInode) == 0 {
		return out, nil
	}
	err = eachProcess(func(pid int) {
		eachDescriptor(pid, func(_, target string) bool {
			if l, ok := byInode[target]; ok {
				out[l] = pid
			}
			return true
		})
	})
	return out, err
}

// Clients returns the processes that are connected to a TCP port of this machine, by the clients' own ports, as far as
// this user may see.
func Clients(port int) (map[int]Holder, error) {
	all, err := diagListeners(unix.IPPROTO_TCP, tcpConnected)
	if err != nil {
		return nil, err
	}
	clients := map[string]int{}
	for _, s := range all {
		if s.peer == port {
			clients[fmt.Sprintf("socket:[%d]", s.socketKey)] = s.Port
		}
	}
	out := map[int]Holder{}
	err = eachProcess(func(pid int) {
		h := Holder{}
		eachDescriptor(pid, func(_, target string) bool {
			client, ok := clients[target]
			if !ok {
				return true
			}
			if h.PID == 0 {
				name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
				h.PID, h.Program = pid, strings.TrimSpace(string(name))
			}
			out[client] = h
			return true
		})
	})
	return out, err
}

// procListeners reads the sockets from /proc (proc(5)), for which the kernel walks through its whole table of
// connections.
func procListeners() ([]Listener, error) {
	var all []Listener
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		text, err := os.ReadFile(file)
		if os.IsNotExist(err) {
			continue // no IPv6 here
		}
		if err != nil {
			return nil, err
		}
		for line := range strings.Lines(string(text)) {
			f := strings.Fields(line)
			if len(f) < 10 || f[3] != "0A" { // TCP_LISTEN
				continue
			}
			host, port, _ := strings.Cut(f[1], ":")
			p, err := strconv.ParseUint(port, 16, 16)
			if err != nil {
				continue
			}
			uid, _ := strconv.Atoi(f[7])
			inode, _ := strconv.ParseUint(f[9], 10, 64)
			all = append(all, Listener{Address: hexAddress(host), Port: int(p), UID: uid, socketKey: inode})
		}
	}
	return all, nil
}

// hexAddress parses the kernel's form: 32-bit words in the machine's byte order.
func hexAddress(text string) string {
	raw, err := hex.DecodeString(text)
	if err != nil {
		return text
	}
	for i := 0; i+4 <= len(raw); i += 4 {
		binary.NativeEndian.PutUint32(raw[i:], binary.BigEndian.Uint32(raw[i:]))
	}
	addr, _ := netip.AddrFromSlice(raw)
	return addr.Unmap().String()
}

// ListenerHolder returns the process that listens on a TCP port.
func ListenerHolder(l Listener) Holder {
	h := Holder{}
	h.User = account.NameOf(l.UID)
	want := fmt.Sprintf("socket:[%d]", l.socketKey)
	_ = eachProcess(func(pid int) {
		if h.PID != 0 {
			return
		}
		eachDescriptor(pid, func(_, target string) bool {
			if target == want {
				h.PID = pid
			}
			return h.PID == 0
		})
	})
	if h.PID != 0 {
		name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", h.PID))
		h.Program = strings.TrimSpace(string(name))
		text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cgroup", h.PID))
		h.Since = startTime(h.PID)
		h.Service, h.UserService = serviceIn(string(text))
	}
	return h
}

// startTime returns when a process started, to the second, or zero if that is unknown (proc(5), /proc/stat btime and
// starttime).
func startTime(pid int) time.Time {
	ticks, err := startOf(pid)
	text, _ := os.ReadFile("/proc/stat")
	_, rest, ok := strings.Cut(string(text), "\nbtime ")
	var boot int64
	if _, scanErr := fmt.Sscan(rest, &boot); err != nil || !ok || scanErr != nil {
		return time.Time{}
	}
	const perSecond = 100 // USER_HZ is 100 on every Linux that Go runs on
	return time.Unix(boot+int64(ticks/perSecond), 0).UTC()
}

// serviceIn returns the service manager's unit in the control groups of a process (cgroups(7)), or "", and whether a
// user's own manager runs it (user@UID.service).
func serviceIn(cgroups string) (unit string, ofUser bool) {
	for line := range strings.Lines(cgroups) {
		for _, name := range strings.Split(strings.TrimSpace(line), "/") {
			switch {
			case strings.HasPrefix(name, "user@"):
				ofUser = true
			case strings.HasSuffix(name, ".service"):
				return name, ofUser
			}
		}
		ofUser = false
	}
	return "", false
}

// OutOfMemory returns how many processes the kernel has killed since boot because the machine, or a control group with
// a limit, had no memory left (proc_vmstat(5), oom_kill). It returns 0 if the kernel does not count them.
func OutOfMemory() int64 {
	text, err := os.ReadFile("/proc/vmstat")
	if err != nil {
		return 0
	}
	_, count, found := strings.Cut(string(text), "\noom_kill ")
	if !found {
		return 0
	}
	count, _, _ = strings.Cut(count, "\n")
	n, _ := strconv.ParseInt(count, 10, 64) // 0 if it is no number
	return n
}

// EphemeralPorts returns the first and the last port of the range for outgoing connections.
func EphemeralPorts() (low, high int) {
	low, high = 32768, 60999
	if text, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range"); err == nil {
		_, _ = fmt.Sscan(string(text), &low, &high)
	}
	return low, high
}

// Memory returns the memory of the processes in bytes. Shared pages count in proportion (PSS).
func Memory(pids []int) int64 {
	var sum int64
	for _, pid := range pids {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/smaps_rollup", pid))
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			if rest, ok := strings.CutPrefix(line, "Pss:"); ok {
				var kb int64
				_, _ = fmt.Sscan(rest, &kb)
				sum += kb << 10
				break
			}
		}
	}
	return sum
}

func eachProcess(do func(pid int)) error {
	dir, err := os.Open("/proc")
	if err != nil {
		return err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	for _, name := range names {
		if pid, err := strconv.Atoi(name); err == nil {
			do(pid)
		}
	}
	return err
}

func eachDescriptor(pid int, do func(link, target string) bool) {
	base := fmt.Sprintf("/proc/%d/fd", pid)
	dir, err := os.Open(base)
	if err != nil {
		return // gone, or not ours
	}
	defer dir.Close()
	names, _ := dir.Readdirnames(-1)
	for _, name := range names {
		link := base + "/" + name
		if target, err := os.Readlink(link); err == nil && !do(link, target) {
			return
		}
	}
}
