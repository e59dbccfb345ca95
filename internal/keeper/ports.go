package keeper

import (
	"errors"
	"net"
	"os"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/run"
)

// While a part is between two processes, nothing of it listens, and a program of another user could take its port: its
// clients would then talk to that one. So the keeper listens in its place, and closes each connection at once, as a
// server does that is about to stop. It lets the port go just before the part's next process begins.

// heldPorts are the ports that the keeper holds for the parts of a stack.
type heldPorts struct {
	mu  sync.Mutex // guards all; nothing waits while it is held
	all map[string]net.Listener
}

// HeldFile is the note that the keeper holds the port of a part. It counts as long as the keeper lives.
func HeldFile(h *home.Home, id, part string) string { return h.Stack(id, "state", part+".held") }

// HoldsPort reports whether the keeper holds the port of a part.
func HoldsPort(h *home.Home, id, part string) bool {
	_, err := os.Lstat(HeldFile(h, id, part))
	return err == nil && Running(h)
}

// holdPort holds the port of a store that is about to come back. If another program was quicker, the part's next start
// finds that out. Ports of web servers and applications are not held: the gateway waits for those while nothing accepts
// there.
func (s *stackRunner) holdPort(p kind.Part) {
	if p.Port == 0 || !p.Role.Store() || !run.Of(p).Offers().Process {
		return
	}
	s.held.mu.Lock()
	defer s.held.mu.Unlock()
	if s.held.all[p.Name] != nil {
		return
	}
	l, err := net.Listen("tcp", kind.Loopback(p.Port))
	if err != nil {
		return
	}
	if err := os.WriteFile(HeldFile(s.keeper.home, s.id, p.Name), nil, 0o600); err != nil {
		l.Close() // a plan would take the keeper for another program
		return
	}
	if s.held.all == nil {
		s.held.all = map[string]net.Listener{}
	}
	s.held.all[p.Name] = l
	go func() { // until the listener is closed
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			conn.Close()
		}
	}()
}

// freePort lets the port of a part go, if it is held, and waits a moment until it is free: a process that the keeper
// starts just now has a copy of the listening socket, until it becomes another program.
func (s *stackRunner) freePort(name string) {
	s.held.mu.Lock()
	l := s.held.all[name]
	if l != nil {
		l.Close()
		delete(s.held.all, name)
		_ = os.Remove(HeldFile(s.keeper.home, s.id, name))
	}
	s.held.mu.Unlock()
	if l == nil {
		return
	}
	at := l.Addr().(*net.TCPAddr) // it listens on TCP
	for tries := 0; tries < 100 && listens(at.Port); tries++ {
		time.Sleep(2 * time.Millisecond)
	}
}

// listens reports whether a socket listens on a port of 127.0.0.1, without listening itself.
func listens(port int) bool {
	syscall.ForkLock.RLock()
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM, 0)
	if err == nil {
		unix.CloseOnExec(fd)
	}
	syscall.ForkLock.RUnlock()
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	// With this option a bind fails only while another socket listens (socket(7)).
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
	err = unix.Bind(fd, &unix.SockaddrInet4{Port: port, Addr: [4]byte{127, 0, 0, 1}})
	return errors.Is(err, unix.EADDRINUSE)
}

// holds reports whether the keeper holds the port of a part.
func (s *stackRunner) holds(name string) bool {
	s.held.mu.Lock()
	defer s.held.mu.Unlock()
	return s.held.all[name] != nil
}
