// Package members tells which processes belong to a part. No single mark holds for all of them, so there are four:
//
//   - the lock: a file lock whose descriptor is inherited. npm, Python's subprocess and process managers close it.
//   - the session of the leader. setsid leaves it.
//   - descent from the leader. A double fork leaves it, unless a supervisor (package supervise) adopts orphans.
//   - the environment variable Mark, which every descendant inherits. env -i removes it.
//
// A process with any of them, and everything that descends from it, belongs to the part.
package members

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"golang.org/x/sync/singleflight"

	"dravit/internal/home"
	"dravit/internal/proc"
)

// Mark is an environment variable of a part's processes. Its value is the path of the part's lock file.
const Mark = "DRAVIT_PART"

// NoteLeader writes the identity of the leading process to the lock file, whose lock the caller holds.
func NoteLeader(lock *os.File, leader proc.Identity) error {
	text, err := json.Marshal(leader)
	if err != nil {
		return err
	}
	_, err = lock.WriteAt(append(text, '\n'), 0)
	return err
}

// Leader returns the process that was noted in a lock file, or the zero Identity.
func Leader(lock string) proc.Identity {
	var leader proc.Identity
	f, err := os.Open(lock)
	if err != nil {
		return leader
	}
	defer f.Close()
	_ = json.NewDecoder(f).Decode(&leader) // an older or damaged note says nothing
	return leader
}

// Of returns the running processes of the part with this lock file, in the order of their process ids, without the
// calling process.
func Of(lock string) ([]proc.Identity, error) {
	all, err := list()
	if err != nil {
		return nil, err
	}
	return among(all, lock, Leader(lock), nil), nil
}

// Alive reports whether any process of the part with this lock file runs.
func Alive(lock string) bool { return new(Listing).Alive(lock) }

// Listing answers for several parts from one listing of the processes, which it makes when it is first needed. Use it
// for one moment, and from one goroutine. The zero value is ready.
type Listing struct {
	all    []proc.Process
	err    error
	listed bool
}

// Alive reports whether any process of the part with this lock file runs.
func (l *Listing) Alive(lock string) bool {
	leader := Leader(lock)
	if home.Locked(lock) || leader.Alive() {
		return true
	}
	if !l.listed {
		l.all, l.err = list()
		l.listed = true
	}
	return l.err == nil && len(among(l.all, lock, leader, nil)) > 0
}

// AnyAlive reports whether any process runs of the parts with these lock files.
func AnyAlive(locks []string) bool {
	var l Listing
	return slices.ContainsFunc(locks, home.Locked) || slices.ContainsFunc(locks, l.Alive)
}

// Include reports whether a process belongs to the part with this lock file.
func Include(lock string, pid int) bool {
	ids, err := Of(lock)
	return err == nil && slices.ContainsFunc(ids, func(id proc.Identity) bool { return id.PID == pid })
}

// Own reports whether a process of the part holds the listening socket. network is "tcp", with host:port as address, or
// "unix", with a path. It checks the leading process first, which nearly always holds it. The error is proc.ErrHidden
// if the system does not tell.
func Own(lock, network, address string) (bool, error) {
	if leader := Leader(lock); leader.Alive() {
		if owns, err := proc.Owns([]int{leader.PID}, network, address); owns || err != nil &&
			!errors.Is(err, proc.ErrHidden) {
			return owns, err
		}
	}
	ids, err := Of(lock)
	if err != nil {
		return false, err
	}
	return proc.Owns(PIDs(ids), network, address)
}

// PIDs returns the process ids alone.
func PIDs(ids []proc.Identity) []int {
	var pids []int
	for _, id := range ids {
		pids = append(pids, id.PID)
	}
	return pids
}

// End sends SIGTERM to every process of the part, and SIGKILL to those that are alive after grace. also are processes
// that were known to belong to the part and may have lost every mark. spared are processes that do not belong to it
// though they may have a mark for a moment. It returns nil when none is left.
func End(ctx context.Context, lock string, also []proc.Identity, grace time.Duration,
	spared ...proc.Identity) error {
	machine := table{list: proc.Processes, signal: proc.Identity.Signal}
	return machine.end(ctx, lock, also, grace, spared)
}

// table is a machine's processes.
type table struct {
	list   func(mark string) ([]proc.Process, error) // see proc.Processes
	signal func(proc.Identity, syscall.Signal) error // see proc.Identity.Signal
}

func (t table) end(ctx context.Context, lock string, also []proc.Identity, grace time.Duration,
	spared []proc.Identity) error {
	signal, deadline := syscall.SIGTERM, time.Now().Add(grace)
	sent, sure := map[proc.Identity]syscall.Signal{}, false
	known := slices.Clone(also)
	for {
		if time.Now().After(deadline) {
			signal = syscall.SIGKILL
		}
		all, err := t.list(Mark)
		if err != nil {
			return err
		}
		all = slices.DeleteFunc(all, func(p proc.Process) bool { return slices.Contains(spared, p.Identity) })
		known = among(all, lock, Leader(lock), known)
		if len(known) == 0 && (len(sent) == 0 || sure) {
			return nil
		}
		// What a process that was just killed had started may be seen in no place for a moment: its parent is gone from
		// the listing, and its next one was read before. So an empty listing after a kill is looked at again.
		sure = len(known) == 0
		for _, id := range known {
			if sent[id] == signal {
				continue
			}
			sent[id] = signal
			if err := t.signal(id, signal); err != nil && !errors.Is(err, os.ErrProcessDone) {
				return err
			}
		}
		if err := proc.Sleep(ctx, 5*time.Millisecond); err != nil {
			return err
		}
	}
}

// among returns a part's processes: those with a mark, those in known, and their descendants. A keeper that was started
// from within a part is not among them, nor is what it started.
func among(all []proc.Process, lock string, leader proc.Identity, known []proc.Identity) []proc.Identity {
	self, resolved := os.Getpid(), proc.RealPath(lock)
	session := 0 // when the leading process is gone, another process may get its number and lead another session
	if leader.PID != 0 && leader.Pinned() {
		session = leader.PID
	}
	all = slices.DeleteFunc(slices.Clone(all), func(p proc.Process) bool {
		return p.PID == self && leader.PID != self || slices.ContainsFunc(p.Locks, isKeeperLock)
	})
	roots := map[int]bool{}
	for _, p := range all {
		marked := p.Mark == lock || slices.Contains(p.Locks, resolved) || slices.Contains(p.Locks, lock)
		if marked || session != 0 && p.Session == session || p.Identity == leader ||
			slices.Contains(known, p.Identity) {
			roots[p.PID] = true
		}
	}
	var ids []proc.Identity
	for _, p := range proc.Descendants(all, roots) {
		if p.PID != self {
			ids = append(ids, p.Identity)
		}
	}
	return ids
}

func isKeeperLock(path string) bool { return filepath.Base(path) == home.KeeperLock }

// listings lets ladders that are climbed at the same time share one listing of the processes.
var listings singleflight.Group

func list() ([]proc.Process, error) {
	all, err, _ := listings.Do("", func() (any, error) { return proc.Processes(Mark) })
	if err != nil {
		return nil, err
	}
	return all.([]proc.Process), nil
}
