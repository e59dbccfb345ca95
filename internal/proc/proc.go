// Package proc identifies processes of this machine beyond their number, finds those that hold a lock file or a
// listening socket, and ends them.
package proc

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Identity identifies one process: numbers are reused, but not with the same start time in the same boot.
type Identity struct {
	Boot  string `json:"boot"`
	PID   int    `json:"pid"`
	Start uint64 `json:"start"` // in the system's own unit since boot
}

// Listener is a TCP socket that accepts connections.
type Listener struct {
	Address   string // in the system's form: 127.0.0.1, 0.0.0.0, ::
	Port      int
	UID       int
	socketKey uint64
	peer      int // of a connected socket: the other end's port
}

// ErrHidden says that the system hides from this user which sockets one of this user's processes has. Linux does so for
// a program with file capabilities (capabilities(7)): it may do what its user may not.
var ErrHidden = errors.New("the system hides the sockets of a program with file capabilities")

// Holder is the process that listens on a port. PID is 0 if the system does not tell this user.
type Holder struct {
	PID     int    `json:"pid,omitempty"`
	Program string `json:"program,omitempty"`
	User    string `json:"user,omitempty"`
	// Since is when the process started, or zero if the system does not tell. Service is the service manager's unit
	// that runs it, or "". UserService says that it is a unit of the user's own manager.
	Since       time.Time `json:"since,omitzero"`
	Service     string    `json:"service,omitempty"`
	UserService bool      `json:"user_service,omitempty"`
}

// Identify returns the identity of a running process. A zombie (dead, but not yet waited for) is not running.
func Identify(pid int) (Identity, error) {
	start, err := startOf(pid)
	if err != nil {
		return Identity{}, err
	}
	return Identity{Boot: BootID(), PID: pid, Start: start}, nil
}

// Alive reports whether this very process still runs.
func (id Identity) Alive() bool {
	now, err := Identify(id.PID)
	return err == nil && now == id
}

// Signal sends a signal to this very process, never to a later one with the same number.
func (id Identity) Signal(sig syscall.Signal) error {
	p, err := os.FindProcess(id.PID) // refers to the process itself, if the system can (pidfd)
	if err != nil {
		return err
	}
	defer p.Release()
	if !id.Alive() {
		return os.ErrProcessDone
	}
	return p.Signal(sig)
}

// NetworkSockets returns the TCP sockets of this user's processes that other machines may reach. It asks for no
// process.
func NetworkSockets() ([]Listener, error) {
	all, err := Listeners()
	return slices.DeleteFunc(all, func(l Listener) bool {
		addr, err := netip.ParseAddr(l.Address)
		return err != nil || addr.IsLoopback() || l.UID != os.Geteuid()
	}), err
}

// taking returns the listeners that accept connections to an address: those on this address, else those on every
// address.
func taking(all []Listener, want netip.AddrPort) []Listener {
	var exact, every []Listener
	for _, l := range all {
		addr, err := netip.ParseAddr(l.Address)
		switch {
		case l.Port != int(want.Port()):
		case err == nil && addr == want.Addr():
			exact = append(exact, l)
		case err != nil || addr.IsUnspecified(): // "*" is every address
			every = append(every, l)
		}
	}
	if exact != nil {
		return exact
	}
	return every
}

// ListeningAt returns the addresses (host:port) of the TCP sockets on which the processes listen.
func ListeningAt(pids []int) ([]string, error) {
	all, err := Listeners()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, l := range all {
		at := net.JoinHostPort(l.Address, strconv.Itoa(l.Port))
		if owns, err := Owns(pids, "tcp", at); err == nil && owns && !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out, nil
}

// PortHolder returns the process that accepts connections to an address (host:port), or the zero Holder if none does or
// the system does not tell.
func PortHolder(address string) Holder {
	want, err := netip.ParseAddrPort(address)
	if err != nil {
		return Holder{}
	}
	all, _ := Listeners()
	for _, l := range taking(all, want) {
		return ListenerHolder(l)
	}
	return Holder{}
}

// String describes the holder for a message: redis-server (pid 7, user keel).
func (h Holder) String() string {
	switch {
	case h.Program != "":
		return fmt.Sprintf("%s (pid %d, user %s)", h.Program, h.PID, h.User)
	case h.User != "":
		return "a program of " + h.User
	}
	return "another user's process"
}

// Runs reports whether a process id belongs to a running program whose name contains a text. A zombie does not run.
func Runs(pid int, name string) bool {
	if _, err := Identify(pid); err != nil {
		return false
	}
	return strings.Contains(nameOf(pid), name)
}

// waitEvery is how often a process is looked at whose end the system does not tell.
const waitEvery = 100 * time.Millisecond

// Sleep waits for d. If the context ends first, it returns the context's error.
func Sleep(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}
