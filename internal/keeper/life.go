package keeper

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"dravit/internal/data"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/members"
	"dravit/internal/proc"
)

const (
	askAgain  = 10 * time.Second     // between two proofs of a part that answers
	pollEvery = 2 * time.Millisecond // a part that is starting
	askSoon   = time.Second          // after its first proof
	patience  = time.Minute          // for a part to answer after its process started
	steady    = time.Minute          // running this long, a part's earlier crashes are forgotten
)

// pauses before a crashed part is started again; after the last it is declared failed.
var pauses = []time.Duration{100 * time.Millisecond, 500 * time.Millisecond, 2 * time.Second, 5 * time.Second, 15 * time.Second}

// longPause is too long for requests to wait until the part is started again.
const longPause = 2 * time.Second

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
		exit := &kind.Exit{
			At:    time.Now(),
			How:   ended.what,
			RanMS: time.Since(began).Milliseconds(),
			Tail:  tailOf(ended.log),
		}
		p.note("%s after %s", ended.what, time.Since(began).Round(time.Millisecond))
		p.stack.mu.Lock()
		p.status.PID, p.identity, p.status.LastExit = 0, proc.Identity{}, exit
		answered := p.answered
		p.stack.mu.Unlock()
		because, next := ended.what, ""
		switch {
		case ended.killed: // its last words tell nothing of that
		case answered: // what it said long ago does not either
			because, next = p.explain(ended.log[max(0, len(ended.log)-lastSaid):], ended.what)
		default:
			because, next = p.explain(ended.log, ended.what)
		}
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
		if pauses[crashes] > longPause {
			p.stack.release(p.spec.Name)
		}
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
		p.status.LogFrom, p.status.LogStart = logStart, logStart
		p.stack.mu.Unlock()
		if err := p.prepare(ctx); err != nil {
			return ending{what: err.Error(), log: p.logSince(logStart), final: true}
		}
		var err error
		p.refused = ""
		p.stack.mu.Lock()
		p.config = p.spec.Config
		p.stack.mu.Unlock()
		p.note("part %s is started", p.spec.Name)
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
		exited = p.watch(ctx, adopted)
	}
	outOfMemory := proc.OutOfMemory()
	gone := func(err error) ending {
		what, killed := exitText(err, p.stack.ofPart(p).State, proc.OutOfMemory() > outOfMemory)
		return ending{what: what, killed: killed, log: p.logSince(logStart)}
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
	answered := adopted != (proc.Identity{}) // this process has
	for {
		stale := p.takeSpec()
		ladder := p.kind.Ladder(p.spec)
		if unprepared { // nobody can log in yet: as far as its own socket
			ladder = slices.DeleteFunc(ladder, func(r kind.Rung) bool { return r.Name == kind.Greets || r.Name == kind.Works })
		}
		logSize := sizeOf(p.spec.Log)
		results := health.Climb(ctx, ladder)
		if len(exited) == 0 { // the kernel kills for want of memory all over the machine: what it did long ago was another's end
			outOfMemory = proc.OutOfMemory()
		}
		fell := health.Fell(results)
		if holds(results, kind.Open) { // since when, the rungs above it tell
			p.markAt(kind.PhaseAnswering, "", time.Now().Add(-above(results, kind.Open)))
		} else {
			p.mark(kind.PhaseStarting, "")
		}
		if fell != nil && holds(results, kind.Ours) && time.Since(began) > time.Second/2 {
			p.stack.release(p.spec.Name) // it takes requests, and waiting longer makes none of them well
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
		case answered && p.spec.Socket != "" && !exists(p.spec.Socket): // nothing but a new start makes it again
			if err := p.endOrphans(ctx); err != nil {
				p.stack.keeper.log.Error("ending a part without its socket", "part", p.spec.Name, "error", err)
			}
			return ending{what: "its socket " + p.spec.Socket + " was deleted", log: p.logSince(logStart)}
		case fell == nil && stale:
			p.reload(ctx)
			continue
		case fell == nil && !unprepared:
			wait = askAgain
			answered = true
			p.lacking = p.unmetRequirement(ctx)
			if p.proved(logSize) { // for the first time: have a look at it soon, when nobody waits for the start any more
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
		case fell.Rung == kind.Open && !answered && time.Since(began) > elsewherePatience && p.listensElsewhere() != "":
			p.set(kind.Unwell, p.listensElsewhere(), "dravit diagnose")
			wait = askSoon
		case answered || time.Since(began) > patience:
			p.set(kind.Unwell, miss(fell), "dravit check")
			wait = min(askAgain, max(time.Second, wait))
		case time.Since(began) > time.Second/2:
			p.set(kind.Starting, miss(fell), "")
			if wait = max(2*wait, 20*time.Millisecond); !holds(results, kind.Ours) {
				wait = 20 * time.Millisecond
			}
			wait = min(wait, askSoon) // whoever refuses a log-in is not asked at full speed
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
		logSize := sizeOf(p.spec.Log)
		if fell := health.Fell(p.climb(ctx)); fell == nil {
			p.proved(logSize)
		} else if ctx.Err() == nil {
			p.set(kind.Unwell, miss(fell), "dravit check")
		}
		select {
		case <-ctx.Done():
		case <-p.poke:
		case <-time.After(askAgain):
		}
	}
	return ending{}
}

func exists(file string) bool {
	_, err := os.Lstat(file)
	return err == nil
}

// elsewherePatience is how long a server of the project's own may listen on other ports before its own.
const elsewherePatience = 4 * time.Second

// listensElsewhere says where a server of the project's own listens instead of on its port, "" if nowhere.
func (p *part) listensElsewhere() string {
	if p.spec.Role != kind.App {
		return ""
	}
	ids, err := members.Of(p.spec.Lock)
	if err != nil {
		return ""
	}
	at, err := proc.ListeningAt(members.PIDs(ids))
	if err != nil || len(at) == 0 {
		return ""
	}
	return fmt.Sprintf("it listens on %s, and should on %s:%d", strings.Join(at, ", "), kind.Host, p.spec.Port)
}

func miss(fell *health.Result) string {
	return fmt.Sprintf("%s: expected %s, got %s", fell.Rung, fell.Expected, fell.Got)
}

func (p *part) climb(ctx context.Context) []health.Result {
	return health.Climb(ctx, p.kind.Ladder(p.spec))
}

// proved notes that the whole ladder held just now, and tells whether it did for the first time since the stack was started. What
// the part holds in memory takes a look into every process, so the first proof, which somebody waits for, goes without.
func (p *part) proved(logSize int64) (first bool) {
	p.mark("", "")
	p.stack.mu.Lock()
	first = p.status.State != kind.Answers
	p.stack.mu.Unlock()
	var memory int64
	var known []proc.Identity
	if !first && p.kind.Command(p.spec).Path != "" {
		if ids, err := members.Of(p.spec.Lock); err == nil {
			memory, known = proc.Memory(members.PIDs(ids)), ids
		}
	}
	p.stack.mu.Lock()
	changed := !slices.Equal(p.members, known)
	if known != nil {
		p.members = known
	}
	if changed && known != nil && p.kind.Command(p.spec).Supervised {
		p.stack.writeSeen() // what has lost every mark is known by nothing else to the next keeper
	}
	if p.kind.Command(p.spec).Supervised {
		if children := proc.Children(p.identity.PID); len(children) > 0 { // what users know is the command, not its supervisor
			p.status.PID = children[0]
		}
	}
	p.status.ProvedAt, p.status.LogFrom = time.Now(), logSize
	p.status.Memory = memory
	p.answered = true
	p.stack.mu.Unlock()
	if p.refused != "" {
		p.set(kind.Unwell, p.refused, "dravit start, once it is mended")
		return false
	}
	if p.lacking != "" {
		p.set(kind.Unwell, p.lacking, "dravit check shows all that it requires")
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
