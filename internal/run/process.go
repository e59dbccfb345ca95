package run

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/members"
	"dravit/internal/proc"
	"dravit/internal/supervise"
)

// process is the way of a server that Dravit starts, and of a command below a supervisor. Every process of the part
// inherits a lock, which the keeper closes on its own side: it shows from then on whether any of them is alive. Package
// members has the other marks.
type process struct{ supervised bool }

func init() {
	Register(kind.WayProcess, process{})
	Register(kind.WaySupervised, process{supervised: true})
}

func (process) Offers() Offers             { return Offers{Process: true, Data: true, Accounts: true, Log: true} }
func (process) View(p kind.Part) kind.Part { return p }

func (process) aliveIn(l *members.Listing, p kind.Part) bool { return l.Alive(p.Lock) }

// Start starts the process in a session of its own. If this program dies at any moment, the part's lock file or its
// environment tells the next one what runs.
func (w process) Start(ctx context.Context, p kind.Part, c kind.Command, begins func()) (Handle, error) {
	lock, err := takeLock(ctx, p.Lock)
	if err != nil {
		return nil, fmt.Errorf("taking the lock of part %s: %w", p.Name, err)
	}
	defer lock.Close()
	log, err := os.OpenFile(p.Log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	args := append([]string{c.Path}, c.Args...)
	if w.supervised {
		if err := home.RemoveJSON(p.RunsFile()); err != nil {
			return nil, err
		}
		args = append([]string{p.Self, "internal", "supervise", fmt.Sprintf("--processes=%d", max(1, c.Processes)),
			"--every=" + c.Every.String(), "--record=" + p.RunsFile(), p.Lock, "--"}, args...)
	}
	cmd := &exec.Cmd{
		Path:        args[0],
		Args:        args,
		Dir:         c.Dir,
		Env:         append(slices.Clone(c.Env), members.Mark+"="+p.Lock),
		Stdout:      log,
		Stderr:      log,
		ExtraFiles:  []*os.File{lock}, // descriptor supervise.LockFD
		SysProcAttr: &syscall.SysProcAttr{Setsid: true},
	}
	begins()
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting %s: %w", c.Path, err)
	}
	id, err := proc.Identify(cmd.Process.Pid)
	if err != nil { // it is gone already; the lock, which is released by now, tells the rest
		id = proc.Identity{Boot: proc.BootID()}
	} else {
		// If this fails, the identity in the keeper's own note tells the same.
		_ = members.NoteLeader(lock, id)
	}
	h := w.handle(p, Note{Identity: id})
	h.cmd = cmd
	return h, nil
}

// takeLock takes the lock of a part of which nothing runs: another program may ask for a moment whether it is held.
func takeLock(ctx context.Context, file string) (*os.File, error) {
	lock, err := home.TryLock(file)
	for tries := 0; errors.Is(err, home.ErrLocked) && tries < 200; tries++ {
		if err := proc.Sleep(ctx, 5*time.Millisecond); err != nil {
			return nil, err
		}
		lock, err = home.TryLock(file)
	}
	return lock, err
}

// Adopt finds the leading process by the note of the keeper, or by that in the lock file.
func (w process) Adopt(p kind.Part, note Note) Handle {
	if note.PID == 0 {
		note.Identity = members.Leader(p.Lock)
	}
	if note.PID == 0 || !note.Alive() {
		return nil
	}
	return w.handle(p, note)
}

func (w process) Seen(p kind.Part, note Note) Handle { return w.handle(p, note) }

func (w process) handle(p kind.Part, note Note) *processHandle {
	return &processHandle{supervised: w.supervised, lock: p.Lock, leader: note.Identity, known: note.Members,
		watched: make(chan struct{}), reaped: make(chan struct{})}
}

// processHandle is a part with processes.
type processHandle struct {
	supervised bool
	lock       string
	leader     proc.Identity // zero if only the lock is known
	cmd        *exec.Cmd     // nil if this program did not start it

	watched chan struct{} // closed when somebody waits for the end
	reaped  chan struct{} // closed when that has been told

	mu    sync.Mutex      // guards known
	known []proc.Identity // every process of the part, as Look saw it
}

// endPatience is how long what a dead process left behind may take to end.
const endPatience = 15 * time.Second

// Watch leaves a dead child unreaped until the rest of the part is ended: so long no other process gets its number, and
// its session can be told by it.
func (h *processHandle) Watch(ctx context.Context, died func()) <-chan End {
	ended := make(chan End, 1)
	close(h.watched)
	go func() {
		defer close(h.reaped)
		if h.cmd == nil {
			h.leader.Wait(ctx)
			if ctx.Err() == nil {
				died()
				ended <- End{Unseen: true}
			}
			return
		}
		waitForDeath(h.cmd.Process.Pid)
		died()
		late, cancel := context.WithTimeout(context.WithoutCancel(ctx), endPatience)
		defer cancel()
		left := h.End(late)
		end := endOf(h.cmd.Wait())
		end.Left = left
		ended <- end
	}()
	return ended
}

// endOf reads what exec.Cmd.Wait returned. A shell or a supervisor whose command was killed exits with 128 and the
// signal's number (POSIX sh, "Exit Status").
func endOf(err error) End {
	var exit *exec.ExitError
	switch {
	case err == nil:
		return End{}
	case !errors.As(err, &exit):
		return End{Unseen: true}
	}
	if status, ok := exit.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		return End{Signal: status.Signal()}
	}
	if s := syscall.Signal(exit.ExitCode() - 128); s > 0 && unix.SignalName(s) != "" {
		return End{Signal: s}
	}
	return End{Code: exit.ExitCode()}
}

// PID returns the leading process; below a supervisor the command's, which is what users know.
func (h *processHandle) PID() int {
	if h.supervised && h.leader.PID != 0 {
		if children := proc.Children(h.leader.PID); len(children) > 0 {
			return children[0]
		}
	}
	return h.leader.PID
}

func (h *processHandle) Alive() bool           { return members.Alive(h.lock) }
func (h *processHandle) Includes(pid int) bool { return members.Include(h.lock, pid) }

func (h *processHandle) Owns(network, address string) (bool, error) {
	return members.Own(h.lock, network, address)
}

func (h *processHandle) Listens() ([]string, error) {
	ids, err := members.Of(h.lock)
	if err != nil {
		return nil, err
	}
	return proc.ListeningAt(members.PIDs(ids))
}

func (h *processHandle) Look() (memory int64, changed bool) {
	ids, err := members.Of(h.lock)
	if err != nil {
		return 0, false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	changed = h.supervised && !slices.Equal(h.known, ids)
	h.known = ids
	return proc.Memory(members.PIDs(ids)), changed
}

func (h *processHandle) Signal(sig syscall.Signal) error { return h.leader.Signal(sig) }

func (h *processHandle) End(ctx context.Context) error {
	h.mu.Lock()
	known := h.known
	h.mu.Unlock()
	return members.End(ctx, h.lock, known, time.Second)
}

func (h *processHandle) Stop(ctx context.Context, s Stop) error {
	if h.leader.Alive() {
		_ = h.leader.Signal(s.Signal) // a process that is gone by now is fine
		gentle, cancel := context.WithTimeout(ctx, s.Patience)
		h.leader.Wait(gentle)
		cancel()
	}
	if err := h.End(ctx); err != nil {
		return err
	}
	select {
	case <-h.watched: // the next process of the part has the same marks: who ends this one's must be through
		select {
		case <-h.reaped:
		case <-ctx.Done():
			return ctx.Err()
		}
	default:
	}
	_ = os.Remove(h.lock)
	return nil
}

// Note names the members of a supervised command only: what a server starts keeps its marks.
func (h *processHandle) Note() Note {
	n := Note{Identity: h.leader}
	if h.supervised {
		h.mu.Lock()
		n.Members = h.known
		h.mu.Unlock()
	}
	return n
}

// Stop is how a part is asked to end.
type Stop struct {
	Signal   syscall.Signal
	Patience time.Duration // for its own end; whatever runs then is killed within a second
}

// FilledBy returns the part so that processes which fill its data carry its mark: if their keeper dies, the next one
// ends them as it ends the part's own.
func FilledBy(p kind.Part) kind.Part {
	p.Env = append(slices.Clone(p.Env), members.Mark+"="+p.Lock)
	return p
}

// Runs returns how a command that runs at intervals ran last, and when it runs next; ok is false if nothing of that is
// known.
func Runs(p kind.Part) (runs supervise.Runs, ok bool) {
	runs, err := supervise.ReadRuns(p.RunsFile())
	return runs, err == nil
}
