package keeper

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"dravit/internal/data"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/members"
	"dravit/internal/proc"
	"dravit/internal/trouble"
)

// prepare creates what must exist before the process: data, a configuration that the program itself accepts, a free
// socket, and the token of this start. No process of the part is alive, so the files in its temporary folder are stale.
func (p *partRunner) prepare(ctx context.Context) error {
	if err := os.RemoveAll(p.spec.Temp); err != nil {
		return err
	}
	if k, ok := p.kind.(kind.Store); ok && p.spec.Data != "" {
		if err := k.Clean(p.spec, proc.Runs); err != nil {
			return err
		}
	}
	for _, dir := range []string{p.spec.Temp, p.spec.Keep, filepath.Dir(p.spec.Log)} {
		if dir == "" {
			continue
		}
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
	}
	if p.spec.Socket != "" {
		if err := os.MkdirAll(filepath.Dir(p.spec.Socket), 0o700); err != nil {
			return err
		}
		if err := clearSocket(p.spec.Socket); err != nil {
			return err
		}
	}
	if p.spec.Data != "" {
		// Servers that fill the data are of the part: if this keeper dies, the next one ends them.
		filling := p.spec
		filling.Env = append(slices.Clone(filling.Env), members.Mark+"="+filling.Lock)
		filled, err := data.Ensure(ctx, p.stack.keeper.home, filling, p.kind)
		if err != nil {
			return err
		}
		p.unsynced = p.unsynced || filled
		if err := data.Litter(p.spec.Data); err != nil {
			p.stack.keeper.log.Warn("cannot delete what a killed command left", "part", p.spec.Name, "error", err)
		}
	}
	if _, ok := p.kind.(kind.PageMaker); ok {
		if _, err := home.WriteDerived(filepath.Join(p.spec.Conf, "token"),
			[]byte(rand.Text()+"\n"), 0o600); err != nil {
			return err
		}
	}
	return p.test(ctx)
}

// clearSocket removes a socket that a crash left behind. A live one is never touched: some servers would steal it
// silently.
func clearSocket(path string) error {
	if _, err := os.Lstat(path); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if conn, err := net.Dial("unix", path); err == nil {
		conn.Close()
		return &trouble.Trouble{
			Code: trouble.SocketTaken, What: "a program that Dravit did not start listens on " + path,
		}
	}
	return os.Remove(path)
}

// test runs the program's own test of its configuration, if it has one, once for each configuration and version.
func (p *partRunner) test(ctx context.Context) error {
	c := p.kind.Test(p.spec)
	if c.Path == "" {
		return nil
	}
	mark := filepath.Join(p.spec.Conf, ".tested")
	sum := sha256.Sum256([]byte(p.spec.Hash + p.spec.Config + p.spec.Version + p.spec.Program))
	if old, err := os.ReadFile(mark); err == nil && bytes.Equal(old, sum[:]) {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, c.Path, c.Args...)
	cmd.Dir, cmd.Env = c.Dir, c.Env
	out, err := cmd.CombinedOutput()
	if err != nil {
		p.appendLog(out)
		because, _ := p.explain(string(out), lastLine(out, err))
		return &trouble.Trouble{
			Code:    trouble.ConfigRefused,
			What:    "its own test rejects the configuration",
			Because: because,
		}
	}
	_, err = home.WriteDerived(mark, sum[:], 0o600)
	return err
}

func lastLine(out []byte, err error) string {
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	for _, line := range lines {
		if strings.Contains(line, "emerg") || strings.Contains(line, "ERROR") {
			return strings.TrimSpace(line)
		}
	}
	if text := lines[len(lines)-1]; text != "" {
		return text
	}
	return err.Error()
}

// spawn starts the process. It writes a note before that, and the process's identity after it. Every process of the
// part inherits a lock, which this keeper closes on its own side. From then on the lock shows whether any of them is
// alive.
func (p *partRunner) spawn(ctx context.Context, c kind.Command) (<-chan error, error) {
	lock, err := home.TryLock(p.spec.Lock)
	for tries := 0; errors.Is(err, home.ErrLocked) && tries < 200; tries++ { // another process asks whether it is held
		if err := proc.Sleep(ctx, 5*time.Millisecond); err != nil {
			return nil, err
		}
		lock, err = home.TryLock(p.spec.Lock)
	}
	if err != nil {
		return nil, fmt.Errorf("taking the lock of part %s: %w", p.spec.Name, err)
	}
	defer lock.Close()
	log, err := os.OpenFile(p.spec.Log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	args := append([]string{c.Path}, c.Args...)
	if c.Supervised {
		if err := home.RemoveJSON(p.spec.RunsFile()); err != nil {
			return nil, err
		}
		args = append([]string{p.spec.Self, "internal", "supervise", fmt.Sprintf("--processes=%d", max(1, c.Processes)),
			"--every=" + c.Every.String(), "--record=" + p.spec.RunsFile(), p.spec.Lock, "--"}, args...)
	}
	cmd := &exec.Cmd{
		Path:        args[0],
		Args:        args,
		Dir:         c.Dir,
		Env:         append(slices.Clone(c.Env), members.Mark+"="+p.spec.Lock),
		Stdout:      log,
		Stderr:      log,
		ExtraFiles:  []*os.File{lock}, // descriptor supervise.LockFD
		SysProcAttr: &syscall.SysProcAttr{Setsid: true},
	}
	p.stack.remember(p, proc.Identity{Boot: proc.BootID()})
	p.stack.freePort(p.spec.Name)
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting %s: %w", c.Path, err)
	}
	exited := make(chan error, 1)
	id, err := proc.Identify(cmd.Process.Pid)
	if err != nil { // it is gone already; the lock, which is released by now, tells the rest
		id = proc.Identity{Boot: proc.BootID()}
	} else if err := members.NoteLeader(lock, id); err != nil {
		p.stack.keeper.log.Error("cannot record the leading process", "part", p.spec.Name, "error", err)
	}
	p.stack.remember(p, id)
	reaped := make(chan struct{})
	p.reaped = reaped
	go func() {
		defer close(reaped)
		// until Wait, no other process gets its number, so its session can be recognised by it
		waitForDeath(cmd.Process.Pid)
		p.stack.crashed(p)
		if err := p.endOrphans(context.WithoutCancel(ctx)); err != nil {
			p.stack.keeper.log.Error("cannot stop what a dead process left behind", "part", p.spec.Name, "error", err)
		}
		exited <- cmd.Wait() // the channel is buffered
	}()
	return exited, nil
}

// watch reports the end of a process that is not our child.
func (p *partRunner) watch(ctx context.Context, id proc.Identity) <-chan error {
	exited := make(chan error, 1)
	go func() {
		for id.Alive() {
			if proc.Sleep(ctx, 100*time.Millisecond) != nil {
				return
			}
		}
		p.stack.crashed(p)
		exited <- errUnseen
	}()
	return exited
}

var errUnseen = errors.New("it exited while no keeper ran")

// portHolder says which other process holds the part's port, or "" if none does.
func (p *partRunner) portHolder() string {
	if p.spec.Port == 0 || p.stack.holds(p.spec.Name) {
		return ""
	}
	address := kind.Loopback(p.spec.Port)
	if owns, err := members.Own(p.spec.Lock, "tcp", address); err != nil || owns {
		return ""
	}
	holder := proc.PortHolder(address)
	if holder == (proc.Holder{}) {
		return ""
	}
	return fmt.Sprintf("its port %d was taken by %s", p.spec.Port, holder)
}

// endOrphans ends what a dead leading process left behind: workers that might answer in its name.
func (p *partRunner) endOrphans(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, stopPatience)
	defer cancel()
	return members.End(ctx, p.spec.Lock, p.knownMembers(), time.Second)
}

// knownMembers returns the processes that belonged to the part when it was last checked.
func (p *partRunner) knownMembers() []proc.Identity {
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	return p.members
}

// stopPatience is how long a part may take to stop after it was asked to.
const stopPatience = 15 * time.Second

// stopProcess stops the part's processes, and deletes what only they needed.
func (p *partRunner) stopProcess(ctx context.Context) {
	p.set(lifecycle.Stopping, "", "")
	if p.spec.Log != "" && p.status.PID != 0 {
		p.note("part %s is stopped", p.spec.Name)
	}
	ctx, cancel := context.WithTimeout(ctx, stopPatience)
	defer cancel()
	p.stack.mu.Lock()
	id := p.identity
	p.stack.mu.Unlock()
	if id.Alive() {
		command := p.kind.Command(p.spec)
		signal, patience := command.Stop, stopPatience/2
		if order(p.order.Load()) == stopToComeBack && command.Finish != 0 {
			signal, patience = command.Finish, lifecycle.Grace
		}
		_ = id.Signal(signal) // a process that is gone by now is fine
		gentle, cancel := context.WithTimeout(ctx, patience)
		for id.Alive() && proc.Sleep(gentle, 2*time.Millisecond) == nil {
		}
		cancel()
	}
	err := p.endOrphans(ctx)
	// the next start's processes carry the same marks: this one must not stop them later
	if err == nil && p.reaped != nil {
		select {
		case <-p.reaped:
		case <-ctx.Done():
			err = ctx.Err()
		}
	}
	if err != nil {
		p.fail("", "it does not exit: "+err.Error(), "", "")
		return
	}
	for _, file := range []string{p.spec.Lock, filepath.Join(p.spec.Conf, "token")} {
		_ = os.Remove(file)
	}
	if p.spec.Socket != "" {
		_ = clearSocket(p.spec.Socket) // a socket on which a process still listens is not the part's
	}
	_ = os.RemoveAll(p.spec.Temp)
	p.stack.mu.Lock()
	p.status.PID, p.status.Memory, p.identity, p.members = 0, 0, proc.Identity{}, nil
	p.stack.mu.Unlock()
	p.set(lifecycle.Stopped, "", "")
}
