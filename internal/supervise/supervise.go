// Package supervise runs a command of the project, as the parent process of everything that the command starts. Such a
// command may be anything: npm, a shell script, a process manager. What it starts may leave its session, close the
// part's lock and lose its parent. On Linux the supervisor adopts every orphan below it, so that it can stop all of
// them.
package supervise

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"slices"
	"syscall"
	"time"

	"dravit/internal/members"
	"dravit/internal/proc"
)

// LockFD is the file descriptor under which the supervisor inherits the part's lock. It passes the lock on to the
// command.
const LockFD = 3

// TieFD is the file descriptor of a pipe that ties the supervisor to the process that started it: when that process
// dies, the pipe closes, and the supervisor stops the command.
const TieFD = 4

// grace is how long the processes that the command started may take to exit when the command itself has exited.
const grace = 2 * time.Second

// patience is how long the supervisor tries to stop what the command left behind.
const patience = 10 * time.Second

// Background is the line in the log when the command exits with 0 and leaves processes behind.
const Background = "dravit: the command went on in the background"

// supervisor is a running supervisor.
type supervisor struct {
	lock     string
	lockFile *os.File
	// starter is the process that started the supervisor. It holds the lock, too, until it has closed its descriptor.
	starter  proc.Identity
	signals  chan os.Signal      // to pass on
	died     chan os.Signal      // a child has died
	alone    chan struct{}       // closed when the process that started the supervisor has died, if they are tied
	ended    chan error          // how a process of the command ended
	commands map[int]*os.Process // the processes of the command, by process id
}

// begin makes this process a supervisor. lock is the path of the part's lock file. For tied see TieFD.
func begin(lock string, tied bool) (*supervisor, error) {
	if err := adoptOrphans(); err != nil {
		return nil, fmt.Errorf("becoming the parent of orphans: %w", err)
	}
	s := &supervisor{
		lock:     lock,
		lockFile: os.NewFile(LockFD, lock),
		signals:  make(chan os.Signal, 16),
		died:     make(chan os.Signal, 1),
		alone:    make(chan struct{}),
		ended:    make(chan error),
		commands: map[int]*os.Process{},
	}
	s.starter, _ = proc.Identify(os.Getppid()) // if it is gone, it needs no protection
	self, err := proc.Identify(os.Getpid())
	if err == nil { // the keeper notes the same, but a command may exit before it does
		err = members.NoteLeader(s.lockFile, self)
	}
	if err != nil {
		return nil, err
	}
	signal.Notify(s.signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGQUIT, syscall.SIGHUP, syscall.SIGUSR1,
		syscall.SIGUSR2)
	signal.Notify(s.died, syscall.SIGCHLD)
	if tied {
		syscall.CloseOnExec(TieFD)
		go func() {
			_, _ = io.Copy(io.Discard, os.NewFile(TieFD, "tie")) // nothing is written to it: it ends when it closes
			close(s.alone)
		}()
	}
	return s, nil
}

// start starts a process of the command.
func (s *supervisor) start(command []string) error {
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	cmd.ExtraFiles = []*os.File{s.lockFile}
	if err := cmd.Start(); err != nil {
		return err
	}
	s.commands[cmd.Process.Pid] = cmd.Process
	go func() { s.ended <- cmd.Wait() }()
	return nil
}

// pass passes a signal on to the processes of the command.
func (s *supervisor) pass(sig os.Signal) {
	for _, p := range s.commands {
		_ = p.Signal(sig) // a process that is gone by now is fine
	}
}

// Run runs the command until it exits, passes signals on to it, and stops what it left behind. lock is the path of the
// part's lock file. If tied, the command is stopped when the process that started the supervisor dies; see TieFD. Run
// returns nil if the command exited with 0, and an *exec.ExitError otherwise. Of several processes of the command, the
// first that exits ends all.
func Run(lock string, tied bool, processes int, command []string) error {
	s, err := begin(lock, tied)
	if err != nil {
		return err
	}
	for range processes {
		if err := s.start(command); err != nil {
			return errors.Join(err, s.endRest(false))
		}
	}
	for {
		select {
		case <-s.alone:
			return s.endRest(false)
		case sig := <-s.signals:
			s.pass(sig)
		case <-s.died:
			reap(s.commands)
		case err := <-s.ended:
			return errors.Join(s.endRest(err == nil && processes == 1), err)
		}
	}
}

// reap waits for adopted orphans that have died. Other goroutines wait for the processes of the command.
func reap(commands map[int]*os.Process) {
	for _, pid := range proc.Children(os.Getpid()) {
		if commands[pid] == nil {
			_, _ = syscall.Wait4(pid, nil, syscall.WNOHANG, nil)
		}
	}
}

// endRest stops what the command left behind. A command may end before the supervisor's starter has closed the lock:
// the starter is not one of its processes.
func (s *supervisor) endRest(well bool) error {
	left, err := members.Of(s.lock)
	left = slices.DeleteFunc(left, func(id proc.Identity) bool { return id == s.starter })
	if err != nil || len(left) == 0 {
		return err
	}
	if well {
		fmt.Fprintf(os.Stderr, "%s, and Dravit ended the %d processes that it left\n", Background, len(left))
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	return members.End(ctx, s.lock, left, grace, s.starter)
}

// Exit exits as the command did: with its code, or with 128 and the number of the signal that killed it, as a shell
// does (POSIX sh, "Exit Status"). It does not return.
func Exit(err error) {
	var exit *exec.ExitError
	switch {
	case err == nil:
		os.Exit(0)
	case !errors.As(err, &exit):
		fmt.Fprintln(os.Stderr, "dravit:", err)
		os.Exit(1)
	}
	if status, ok := exit.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		os.Exit(128 + int(status.Signal()))
	}
	os.Exit(exit.ExitCode())
}
