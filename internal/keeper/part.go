package keeper

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"dravit/internal/data"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/proc"
)

const (
	askAgain     = 10 * time.Second     // between two proofs of a part that answers
	pollEvery    = 2 * time.Millisecond // a part that is starting
	askSoon      = time.Second          // after its first proof
	patience     = time.Minute          // for a part to answer after its process started
	stopPatience = 15 * time.Second     // for a part to end after it was asked to
	steady       = time.Minute          // running this long, a part's earlier crashes are forgotten
	maxLog       = 8 << 20              // a log longer than this is put aside at the part's next start
)

// pauses before a crashed part is started again; after the last it is declared failed.
var pauses = []time.Duration{100 * time.Millisecond, 500 * time.Millisecond, 2 * time.Second, 5 * time.Second, 15 * time.Second}

// part is one part under the keeper's care. Its goroutine, run, alone starts and ends its process.
type part struct {
	stack *stack
	spec  kind.Part
	kind  kind.Server

	stop  context.CancelFunc // ends the part's process, then its goroutine
	leave context.CancelFunc // ends the goroutine only: another keeper takes over
	done  chan struct{}

	finish atomic.Bool // it ends to come back: requests in flight have their time

	unsynced bool // its data is freshly filled, and not on the disk yet

	launched      chan struct{} // closed when the first process was started, or none will be
	closeLaunched func()

	refused string // why the configuration that is written is not the one that it runs with; "": it is

	poke chan struct{} // next has another configuration

	// guarded by stack.mu; spec is changed by the part's goroutine alone, which may read it without
	next     *kind.Part  // what spec is to become
	config   string      // spec.Config of what the process runs with
	spans    []kind.Span // until the first answer; the last one is open
	status   kind.Status
	identity proc.Identity // of the leading process, zero where unknown
	answered bool          // since the stack was started
}

// give has the part take a new spec that differs in nothing that needs a restart. The caller holds stack.mu.
func (p *part) give(spec kind.Part) {
	p.next = &spec
	if spec.Config == p.config {
		return
	}
	if p.status.State == kind.Answers || p.status.State == kind.Unwell {
		p.status.State, p.status.Because, p.status.Next, p.status.Since = kind.Starting, "", "", time.Now()
	}
	select {
	case p.poke <- struct{}{}:
	default:
	}
}

// takeSpec takes what was given, and tells whether the process runs with another configuration.
func (p *part) takeSpec() (stale bool) {
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	if p.next != nil {
		p.spec, p.next = *p.next, nil
	}
	return p.spec.Config != p.config
}

// tookConfig notes that the process runs with what spec says.
func (p *part) tookConfig() {
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	p.config = p.spec.Config
	p.stack.writeSeen()
}

// reload has the running process take its new configuration, once its own test accepts that.
func (p *part) reload(ctx context.Context) {
	p.refused = ""
	if tester, ok := p.kind.(kind.Tester); ok {
		if err := p.test(ctx, tester.Test(p.spec)); err != nil {
			p.refused = err.Error() + "; it runs on with the one before"
			p.tookConfig() // until there is another
			return
		}
	}
	p.stack.mu.Lock()
	id := p.identity
	p.stack.mu.Unlock()
	if err := id.Signal(p.kind.(kind.Reloader).Reload()); err != nil {
		p.stack.keeper.log.Error("reloading", "part", p.spec.Name, "error", err)
	}
	p.tookConfig()
}

// mark notes that the part, on the way to its first answer, goes over to another phase; "": it is there.
func (p *part) mark(phase kind.Phase, waitsFor string) { p.markAt(phase, waitsFor, time.Now()) }

func (p *part) markAt(phase kind.Phase, waitsFor string, now time.Time) {
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	if p.answered {
		return
	}
	if n := len(p.spans); n > 0 {
		last := &p.spans[n-1]
		if last.Phase == phase && last.For == waitsFor {
			return
		}
		last.To = now
	}
	if phase != "" {
		p.spans = append(p.spans, kind.Span{Phase: phase, From: now, For: waitsFor})
	}
}

// set changes the part's state and wakes whoever waits for the stack.
func (p *part) set(state kind.State, because, next string) { p.setWith(state, because, next, nil) }

func (p *part) setWith(state kind.State, because, next string, tail []string) {
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	if p.status.State == state && p.status.Because == because {
		return
	}
	if p.status.State != state {
		p.status.Since = time.Now()
	}
	p.status.State, p.status.Because, p.status.Next, p.status.LogTail = state, because, next, tail
	p.stack.wake()
	back := p.stack.held[p.spec.Name] && !slices.Contains([]kind.State{kind.Stopping, kind.Stopped, kind.Waiting, kind.Starting}, state)
	if back {
		delete(p.stack.held, p.spec.Name)
	}
	if back || state == kind.Failed && p.spec.Role == kind.Web && p.stack.id != gatewayID {
		p.stack.keeper.parts.Go(p.stack.keeper.reroute)
	}
}

// fail declares the part failed, with its last words.
func (p *part) fail(because, next, log string) {
	var tail []string
	if log = strings.TrimRight(log, "\n"); log != "" {
		tail = strings.Split(log, "\n")
		tail = tail[max(0, len(tail)-8):]
	}
	if next == "" {
		next = "dravit logs " + p.spec.Name
	}
	p.setWith(kind.Failed, because, next, tail)
	p.stack.keeper.log.Warn("part failed", "stack", p.stack.id, "part", p.spec.Name, "because", because)
}

// run keeps the part running until it is stopped or left. adopted is the identity of a process of an earlier keeper.
func (p *part) run(stopped, left context.Context, adopted proc.Identity) {
	defer close(p.done)
	defer p.closeLaunched()
	ctx, cancel := context.WithCancel(stopped)
	defer cancel()
	defer context.AfterFunc(left, cancel)()
	crashes := 0
	for ctx.Err() == nil {
		began := time.Now()
		ended := p.life(ctx, adopted)
		adopted = proc.Identity{}
		if ctx.Err() != nil {
			break
		}
		p.stack.mu.Lock()
		p.status.PID, p.identity = 0, proc.Identity{}
		answered := p.answered
		p.stack.mu.Unlock()
		because, next := p.explain(ended.log, ended.what)
		if thief := p.thief(); thief != "" {
			because, next = thief, "dravit start, which moves it; a pinned port must be freed: dravit ports "+fmt.Sprint(p.spec.Port)
		}
		if !answered || ended.final {
			p.fail(because, next, ended.log)
			<-ctx.Done() // until somebody starts it again
			break
		}
		if time.Since(began) > steady {
			crashes = 0
		}
		if crashes == len(pauses) {
			p.fail(fmt.Sprintf("it crashed %d times in a row: %s", crashes+1, because), next, ended.log)
			<-ctx.Done()
			break
		}
		p.set(kind.Pausing, because, next)
		if proc.Sleep(ctx, pauses[crashes]) != nil {
			break
		}
		crashes++
		p.stack.mu.Lock()
		p.status.Restarts++
		p.stack.mu.Unlock()
	}
	if left.Err() != nil {
		return
	}
	p.end()
}

// ending is how a life of the part ended.
type ending struct {
	what  string // in our words
	log   string // what the part said in this life
	final bool   // another life would end the same way
}

// life is one life of the part: from what must be there before its process, until the process is gone.
func (p *part) life(ctx context.Context, adopted proc.Identity) ending {
	p.takeSpec()
	command := p.kind.Command(p.spec)
	if command.Path == "" {
		return p.lifeWithoutProcess(ctx)
	}
	var exited <-chan error
	logStart := int64(0)
	if adopted == (proc.Identity{}) {
		if p.spec.Role == kind.App { // a server of the project's own may look for its stores at once
			if _, err := p.waitForUses(ctx, kind.Waiting, nil); err != nil {
				return ending{}
			}
		}
		p.set(kind.Starting, "", "")
		if p.spec.Role == kind.Web {
			p.waitForRuntimes(ctx)
		}
		p.mark(kind.PhasePreparing, "")
		if err := p.endOrphans(ctx); err != nil {
			return ending{what: err.Error(), final: true}
		}
		logStart = p.rotateLog()
		p.stack.mu.Lock()
		p.status.LogFrom = logStart
		p.stack.mu.Unlock()
		if err := p.prepare(ctx); err != nil {
			return ending{what: err.Error(), log: p.logSince(logStart), final: true}
		}
		var err error
		p.refused = ""
		p.stack.mu.Lock()
		p.config = p.spec.Config
		p.stack.mu.Unlock()
		exited, err = p.spawn(command)
		p.mark(kind.PhaseStarting, "")
		p.closeLaunched()
		if err != nil {
			return ending{what: err.Error(), final: true}
		}
	} else {
		p.stack.mu.Lock()
		p.status.State, p.status.PID, p.identity = kind.Starting, adopted.PID, adopted
		p.stack.mu.Unlock()
		exited = watch(ctx, adopted)
	}
	outOfMemory := proc.OutOfMemory()
	gone := func(err error) ending {
		return ending{what: exitText(err, p.stack.ofPart(p).State, proc.OutOfMemory() > outOfMemory), log: p.logSince(logStart)}
	}
	// Its process starts at once; its ladder is climbed when what it uses answers.
	if ended, err := p.waitForUses(ctx, kind.Starting, exited); ended {
		return gone(err)
	} else if err != nil {
		return ending{}
	}
	began, wait := time.Now(), pollEvery
	preparer, prepares := p.kind.(kind.Preparer)
	unprepared := prepares && (p.unsynced || p.spec.UpgradeFrom != "")
	for {
		stale := p.takeSpec()
		ladder := p.kind.Ladder(p.spec)
		if unprepared { // nobody can log in yet: as far as its own socket
			ladder = slices.DeleteFunc(ladder, func(r kind.Rung) bool { return r.Name == kind.Greets || r.Name == kind.Works })
		}
		results := health.Climb(ctx, ladder)
		fell := health.Fell(results)
		if holds(results, kind.Open) { // since when, the rungs above it tell
			p.markAt(kind.PhaseAnswering, "", time.Now().Add(-above(results, kind.Open)))
		} else {
			p.mark(kind.PhaseStarting, "")
		}
		if prepares && ctx.Err() == nil && holds(results, kind.Ours) && (unprepared || fell != nil) {
			if err := preparer.Prepare(ctx, p.spec); err != nil {
				p.stack.keeper.log.Info("preparing", "part", p.spec.Name, "error", err)
			} else if unprepared {
				unprepared = false
				continue
			}
		}
		switch {
		case ctx.Err() != nil:
			return ending{}
		case fell == nil && stale:
			p.reload(ctx)
			continue
		case fell == nil && !unprepared:
			wait = askAgain
			if p.proved() { // for the first time: have a look at it soon, when nobody waits for the start any more
				wait = askSoon
			} else if p.unsynced { // nor for the disk
				p.unsynced = false
				dir := p.spec.Data
				p.stack.keeper.parts.Go(func() { _ = data.Sync(dir) })
			}
		case fell != nil && fell.Rung == kind.Ours && time.Since(began) > time.Second && p.stack.ofPart(p).State != kind.Answers && p.thief() != "":
			// It lives, and another process answers on its port: waiting changes nothing.
			if err := p.endOrphans(ctx); err != nil {
				p.stack.keeper.log.Error("ending a part without its port", "part", p.spec.Name, "error", err)
			}
			return ending{what: p.thief(), log: p.logSince(logStart), final: true}
		case fell == nil: // its clients are not prepared: the next time round
		case p.stack.ofPart(p).State == kind.Answers || time.Since(began) > patience:
			p.set(kind.Unwell, miss(fell), "dravit check")
			wait = min(askAgain, max(time.Second, wait))
		case time.Since(began) > time.Second/2:
			p.set(kind.Starting, miss(fell), "")
			wait = 20 * time.Millisecond
		}
		select {
		case <-ctx.Done():
			return ending{}
		case err := <-exited:
			return gone(err)
		case <-p.poke:
		case <-time.After(wait):
		}
	}
}

// lifeWithoutProcess keeps asking a part that is only files.
func (p *part) lifeWithoutProcess(ctx context.Context) ending {
	p.set(kind.Starting, "", "")
	p.mark(kind.PhasePreparing, "")
	if err := p.prepare(ctx); err != nil {
		return ending{what: err.Error(), final: true}
	}
	p.mark(kind.PhaseAnswering, "")
	for ctx.Err() == nil {
		p.takeSpec()
		if fell := health.Fell(p.climb(ctx)); fell == nil {
			p.proved()
		} else if ctx.Err() == nil {
			p.set(kind.Unwell, miss(fell), "dravit check")
		}
		_ = proc.Sleep(ctx, askAgain)
	}
	return ending{}
}

func miss(fell *health.Result) string {
	return fmt.Sprintf("%s: expected %s, got %s", fell.Rung, fell.Expected, fell.Got)
}

func (p *part) climb(ctx context.Context) []health.Result {
	return health.Climb(ctx, p.kind.Ladder(p.spec))
}

// proved notes that the whole ladder held just now, and tells whether it did for the first time since the stack was started. What
// the part holds in memory takes a look into every process, so the first proof, which somebody waits for, goes without.
func (p *part) proved() (first bool) {
	p.mark("", "")
	p.stack.mu.Lock()
	first = p.status.State != kind.Answers
	p.stack.mu.Unlock()
	var memory int64
	if !first && p.kind.Command(p.spec).Path != "" {
		if pids, err := proc.HoldersOf(p.spec.Lock); err == nil {
			memory = proc.Memory(pids)
		}
	}
	p.stack.mu.Lock()
	p.status.ProvedAt = time.Now()
	p.status.Memory = memory
	p.answered = true
	p.stack.mu.Unlock()
	if p.refused != "" {
		p.set(kind.Unwell, p.refused, "dravit start, once it is mended")
		return false
	}
	p.set(kind.Answers, "", "")
	return first
}

// waitForUses waits until every part that this one uses answers. It is cut short by the end of the part's own process, whose error it
// then returns, and by the context.
func (p *part) waitForUses(ctx context.Context, as kind.State, exited <-chan error) (ended bool, err error) {
	for {
		changed := p.stack.changes()
		waitsFor, failed := "", ""
		for _, name := range p.spec.Uses {
			switch p.stack.stateOf(name) {
			case kind.Answers, kind.Unwell: // it lives; what is wrong with it shows on its own line
			case kind.Failed:
				failed = name
			default:
				waitsFor = name
			}
		}
		switch {
		case failed != "":
			p.set(kind.Waiting, failed+" failed, which it needs", "dravit logs "+failed)
		case waitsFor != "":
			p.mark(kind.PhaseWaiting, waitsFor)
			p.set(as, "needs "+waitsFor, "")
		default:
			return false, nil
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case err := <-exited:
			return true, err
		case <-changed:
		}
	}
}

// headStartOfRuntimes is the longest that a web server waits for the runtimes of its sites to listen.
const headStartOfRuntimes = 500 * time.Millisecond

// waitForRuntimes keeps a web server from taking requests that nobody behind it would take yet: after a restart, visitors wait for it already.
func (p *part) waitForRuntimes(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, headStartOfRuntimes)
	defer cancel()
	for _, s := range p.spec.Sites {
		for s.FPM != "" && ctx.Err() == nil && !accepts(ctx, s.FPM) {
			p.mark(kind.PhaseWaiting, s.App)
			_ = proc.Sleep(ctx, pollEvery)
		}
	}
}

// prepare makes what must be there before the process: data, a configuration that the program itself accepts, a free socket,
// and the token of this start.
func (p *part) prepare(ctx context.Context) error {
	for _, dir := range []string{p.spec.Temp, filepath.Dir(p.spec.Log)} {
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
		filled, err := data.Ensure(ctx, p.stack.keeper.home, p.spec, p.kind)
		if err != nil {
			return err
		}
		p.unsynced = p.unsynced || filled
	}
	if _, ok := p.kind.(kind.Probed); ok {
		if _, err := home.WriteDerived(filepath.Join(p.spec.Conf, "token"), []byte(rand.Text()+"\n"), 0o600); err != nil {
			return err
		}
	}
	if tester, ok := p.kind.(kind.Tester); ok {
		return p.test(ctx, tester.Test(p.spec))
	}
	return nil
}

// clearSocket removes a socket that a crash left behind. A live one is never touched: some servers would steal it silently.
func clearSocket(path string) error {
	if _, err := os.Lstat(path); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if conn, err := net.Dial("unix", path); err == nil {
		conn.Close()
		return fmt.Errorf("something that Dravit did not start listens on %s", path)
	}
	return os.Remove(path)
}

// test has the program test its configuration, once for each configuration and version.
func (p *part) test(ctx context.Context, c kind.Command) error {
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
		return fmt.Errorf("its own test refuses the configuration: %s", because)
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

// spawn starts the process. That it is about to be started is written down before, who it is after; a lock that every
// process of the part inherits, and that this keeper closes on its own side, tells from then on whether any of them lives.
func (p *part) spawn(c kind.Command) (<-chan error, error) {
	lock, err := home.TryLock(p.spec.Lock)
	for tries := 0; errors.Is(err, home.ErrLocked) && tries < 200; tries++ { // somebody asks whether it is held
		time.Sleep(5 * time.Millisecond)
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
	cmd := &exec.Cmd{Path: c.Path, Args: append([]string{c.Path}, c.Args...), Dir: c.Dir, Env: c.Env,
		Stdout: log, Stderr: log, ExtraFiles: []*os.File{lock}, SysProcAttr: &syscall.SysProcAttr{Setsid: true}}
	p.stack.remember(p, proc.Identity{Boot: proc.BootID()})
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting %s: %w", c.Path, err)
	}
	if err := proc.NoteLeader(lock, cmd.Process.Pid); err != nil {
		p.stack.keeper.log.Error("noting the leader", "part", p.spec.Name, "error", err)
	}
	exited := make(chan error, 1)
	id, err := proc.Identify(cmd.Process.Pid)
	if err != nil { // gone already: the lock, closed by now, tells the rest
		id = proc.Identity{Boot: proc.BootID()}
	}
	p.stack.remember(p, id)
	go func() { exited <- cmd.Wait() }()
	return exited, nil
}

// watch reports the end of a process that is not our child.
func watch(ctx context.Context, id proc.Identity) <-chan error {
	exited := make(chan error, 1)
	go func() {
		for id.Alive() {
			if proc.Sleep(ctx, 100*time.Millisecond) != nil {
				return
			}
		}
		exited <- errUnseen
	}()
	return exited
}

var errUnseen = errors.New("it ended while an earlier keeper was gone")

// thief says who holds the part's port, if that is no process of the part's. "" where nobody else does.
func (p *part) thief() string {
	if p.spec.Port == 0 {
		return ""
	}
	address := fmt.Sprintf("%s:%d", kind.Host, p.spec.Port)
	if owns, err := proc.HolderOwns(p.spec.Lock, "tcp", address); err != nil || owns {
		return ""
	}
	holder := proc.Taker(address)
	if holder == (proc.Holder{}) {
		return ""
	}
	return fmt.Sprintf("its port %d was taken by %s", p.spec.Port, holder)
}

// endOrphans ends what a dead leader left behind: workers that hold the lock, and answer in its name.
func (p *part) endOrphans(ctx context.Context) error {
	return proc.EndHolders(ctx, p.spec.Lock, func() bool { return home.Locked(p.spec.Lock) }, time.Second)
}

// holds tells whether a rung was asked and holds.
func holds(results []health.Result, rung kind.RungName) bool {
	return slices.ContainsFunc(results, func(r health.Result) bool { return r.Rung == rung && r.Holds != nil && *r.Holds })
}

// above is the time that the rungs above one took.
func above(results []health.Result, rung kind.RungName) time.Duration {
	ms, is := 0.0, false
	for _, r := range results {
		if is {
			ms += r.MS
		}
		is = is || r.Rung == rung
	}
	return time.Duration(ms * float64(time.Millisecond))
}

// end ends the part's processes and clears away what only they needed.
func (p *part) end() {
	p.set(kind.Stopping, "", "")
	ctx, cancel := context.WithTimeout(context.Background(), stopPatience)
	defer cancel()
	p.stack.mu.Lock()
	id := p.identity
	p.stack.mu.Unlock()
	held := func() bool { return home.Locked(p.spec.Lock) }
	if id.PID != 0 && held() {
		command := p.kind.Command(p.spec)
		signal, patience := command.Stop, stopPatience/2
		if p.finish.Load() && command.Finish != 0 {
			signal, patience = command.Finish, kind.Grace
		}
		_ = id.Signal(signal) // gone meanwhile is as good
		gentle, cancel := context.WithTimeout(ctx, patience)
		for held() && id.Alive() && proc.Sleep(gentle, 2*time.Millisecond) == nil {
		}
		cancel()
	}
	if held() {
		_ = id.SignalGroup(syscall.SIGTERM)
		if err := proc.EndHolders(ctx, p.spec.Lock, held, time.Second); err != nil {
			p.fail("it does not end: "+err.Error(), "", "")
			return
		}
	}
	for _, file := range []string{p.spec.Socket, p.spec.Lock, filepath.Join(p.spec.Conf, "token")} {
		if file != "" {
			_ = os.Remove(file)
		}
	}
	_ = os.RemoveAll(p.spec.Temp)
	p.stack.mu.Lock()
	p.status.PID, p.status.Memory, p.identity = 0, 0, proc.Identity{}
	p.stack.mu.Unlock()
	p.set(kind.Stopped, "", "")
}

// explain finds the cause of an end in the part's last words.
func (p *part) explain(log, what string) (because, next string) {
	if e, ok := p.kind.(kind.Explainer); ok {
		if because, next = e.Explain(log); because != "" {
			return because, next
		}
	}
	if k, ok := p.kind.(kind.Symptomatic); ok {
		if because, next = kind.Explain(k.Symptoms(), log, p.spec.Name); because != "" {
			return because, next
		}
	}
	return what, ""
}

// killedByShell is the code with which a shell ends whose command was killed (POSIX sh, "Exit Status": above 128 by a signal).
const killedByShell = 128 + int(syscall.SIGKILL)

// exitText says how a process ended. short tells that the kernel killed for want of memory meanwhile.
func exitText(err error, state kind.State, short bool) string {
	var exit *exec.ExitError
	how := "it ended"
	switch {
	case errors.Is(err, errUnseen):
		how = err.Error()
	case errors.As(err, &exit):
		status, ok := exit.Sys().(syscall.WaitStatus)
		switch {
		case short && (ok && status.Signaled() && status.Signal() == syscall.SIGKILL || exit.ExitCode() == killedByShell):
			how = "the kernel killed it, since there was no memory left"
		case ok && status.Signaled():
			how = fmt.Sprintf("it was killed by signal %d (%s)", status.Signal(), status.Signal())
		default:
			how = fmt.Sprintf("it ended with code %d", exit.ExitCode())
		}
	case err == nil:
		how = "it ended with code 0"
	}
	if state != kind.Answers && state != kind.Unwell {
		how += " before it answered"
	}
	return how
}

// rotateLog puts a long log aside and returns where the next life begins in the file.
func (p *part) rotateLog() int64 {
	info, err := os.Stat(p.spec.Log)
	if err != nil {
		return 0
	}
	if info.Size() > maxLog {
		_ = os.Rename(p.spec.Log, p.spec.Log+".1")
		return 0
	}
	return info.Size()
}

func (p *part) appendLog(text []byte) {
	f, err := os.OpenFile(p.spec.Log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err == nil {
		_, _ = f.Write(text)
		f.Close()
	}
}

// logSince returns what the log holds from an offset on, at most its last 64 KB.
func (p *part) logSince(offset int64) string {
	f, err := os.Open(p.spec.Log)
	if err != nil {
		return ""
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil {
		offset = max(offset, info.Size()-64<<10)
	}
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		return ""
	}
	text, _ := io.ReadAll(f)
	return string(text)
}
