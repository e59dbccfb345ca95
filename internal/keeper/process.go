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
	"strings"
	"time"

	"dravit/internal/data"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/proc"
	"dravit/internal/run"
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
		filled, err := data.Ensure(ctx, p.stack.keeper.home, run.FilledBy(p.spec), p.kind)
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
	if !p.way().Offers().Process {
		return nil
	}
	c := p.kind.Test(p.way().View(p.spec))
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

// spawn starts what the part runs. It writes a note before that, and how to find it after it.
func (p *partRunner) spawn(ctx context.Context) (<-chan run.End, error) {
	h, err := p.way().Start(ctx, p.spec, p.command(), func() {
		p.stack.remember(p, run.Note{Identity: proc.Identity{Boot: proc.BootID()}}, 0)
		p.stack.freePort(p.spec.Name)
	})
	if err != nil {
		return nil, err
	}
	p.hold(h)
	p.stack.remember(p, h.Note(), h.PID())
	return p.watch(ctx, h), nil
}

// watch tells of the end of what the part runs.
func (p *partRunner) watch(ctx context.Context, h run.Handle) <-chan run.End {
	return h.Watch(ctx, func() { p.stack.crashed(p) })
}

// way returns how the part runs.
func (p *partRunner) way() run.Way { return run.Of(p.spec) }

// command returns how the part's process is started, or the zero Command if it has none.
func (p *partRunner) command() kind.Command {
	if !p.way().Offers().Process {
		return kind.Command{}
	}
	return p.kind.Command(p.way().View(p.spec))
}

// handle returns the part as it runs, or as it can be found by its marks.
func (p *partRunner) handle() run.Handle {
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	return p.runs
}

// hold keeps the handle of the part.
func (p *partRunner) hold(h run.Handle) {
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	p.runs = h
}

// portHolder says which other process holds the part's port, or "" if none does.
func (p *partRunner) portHolder() string {
	if p.spec.Port == 0 || !p.way().Offers().Process || p.stack.holds(p.spec.Name) {
		return ""
	}
	address := kind.Loopback(p.spec.Port)
	if owns, err := p.handle().Owns("tcp", address); err != nil || owns {
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
	return p.handle().End(ctx)
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
	command := p.command()
	stop := run.Stop{Signal: command.Stop, Patience: stopPatience / 2}
	if order(p.order.Load()) == stopToComeBack && command.Finish != 0 {
		stop = run.Stop{Signal: command.Finish, Patience: lifecycle.Grace}
	}
	err := p.handle().Stop(ctx, stop)
	if err != nil {
		p.fail("", "it does not exit: "+err.Error(), "", "")
		return
	}
	_ = os.Remove(filepath.Join(p.spec.Conf, "token"))
	if p.spec.Socket != "" {
		_ = clearSocket(p.spec.Socket) // a socket on which a process still listens is not the part's
	}
	_ = os.RemoveAll(p.spec.Temp)
	p.stack.mu.Lock()
	p.status.PID, p.status.Memory, p.found, p.runs = 0, 0, run.Note{}, p.way().Seen(p.spec, run.Note{})
	p.stack.mu.Unlock()
	p.set(lifecycle.Stopped, "", "")
}
