package keeper

import (
	"context"
	"fmt"
	"os"
	"slices"
	"time"

	"dravit/internal/data"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/members"
	"dravit/internal/proc"
	"dravit/internal/trouble"
)

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
		exit := &lifecycle.Exit{
			At:    time.Now(),
			How:   ended.what,
			Code:  ended.exit,
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
		case ended.killed():
		case answered: // what it said long ago does not either
			because, next = p.explain(ended.log[max(0, len(ended.log)-lastSaid):], ended.what)
		default:
			because, next = p.explain(ended.log, ended.what)
		}
		if thief := p.thief(); thief != "" {
			ended.code = trouble.PortTaken
			because, next = thief, "dravit start, which moves it; a pinned port must be freed: dravit ports "+fmt.Sprint(p.spec.Port)
		}
		after := afterEnd(ended, answered, time.Since(began), crashes)
		crashes = after.crashes
		if !after.again {
			if after.tooOften {
				because = fmt.Sprintf("it crashed %d times in a row: %s", crashes, because)
			}
			p.fail(ended.code, because, next, ended.log)
			<-ctx.Done() // until somebody starts it again
			break
		}
		p.setWith(lifecycle.Pausing, ended.code, because, next, nil)
		if after.pause > longPause {
			p.stack.release(p.spec.Name)
		}
		if proc.Sleep(ctx, after.pause) != nil {
			break
		}
		p.stack.mu.Lock()
		p.status.Restarts++
		p.stack.mu.Unlock()
	}
	if left.Err() != nil {
		return
	}
	p.end()
}

// lifetime is one life of a part: a process, from its start or its adoption to its end.
type lifetime struct {
	*part
	exited      <-chan error
	logStart    int64 // where in the log it begins
	shortages   shortages
	hasAnswered bool
	unprepared  bool // its users and databases are not made yet
	began       time.Time
}

// life is one life of the part: from what must be there before its process, until the process is gone.
func (p *part) life(ctx context.Context, adopted proc.Identity) ending {
	p.takeSpec()
	command := p.kind.Command(p.spec)
	if command.Path == "" {
		return p.lifeWithoutProcess(ctx)
	}
	l := &lifetime{part: p, hasAnswered: adopted != (proc.Identity{})}
	if l.hasAnswered {
		p.stack.mu.Lock()
		p.status.State, p.status.PID, p.identity = lifecycle.Starting, adopted.PID, adopted
		p.stack.mu.Unlock()
		l.exited = p.watch(ctx, adopted)
	} else if ended := l.launch(ctx, command); ended != nil {
		return *ended
	}
	l.unprepared = p.kind.Traits().Accounts && (p.unsynced || p.spec.UpgradeFrom != "")
	l.shortages.note(time.Now(), proc.OutOfMemory())
	// Its process starts at once; its ladder is climbed when what it uses answers.
	if ended, err := p.waitForUses(ctx, lifecycle.Starting, l.exited); ended {
		return l.gone(err)
	} else if err != nil {
		return ending{}
	}
	l.began = time.Now()
	return l.watchOver(ctx)
}

// launch makes what the process needs, and starts it. It returns how the life ended already, nil if it did not.
func (l *lifetime) launch(ctx context.Context, command kind.Command) *ending {
	if l.spec.Role == kind.RoleApp { // a server of the project's own may look for its stores at once
		if _, err := l.waitForUses(ctx, lifecycle.Waiting, nil); err != nil {
			return &ending{}
		}
	}
	l.set(lifecycle.Starting, "", "")
	if l.spec.Role == kind.RoleWeb {
		l.waitForRuntimes(ctx)
	}
	l.mark(lifecycle.PhasePreparing, "")
	if err := l.endOrphans(ctx); err != nil {
		return &ending{what: err.Error(), code: trouble.CodeOf(err), final: true}
	}
	l.logStart = l.rotateLog()
	l.stack.mu.Lock()
	l.status.LogFrom, l.status.LogStart = l.logStart, l.logStart
	l.stack.mu.Unlock()
	if err := l.prepare(ctx); err != nil {
		return &ending{what: err.Error(), code: trouble.CodeOf(err), log: l.logSince(l.logStart), final: true}
	}
	l.refused = ""
	l.stack.mu.Lock()
	l.config = l.spec.Config
	l.stack.mu.Unlock()
	l.note("part %s is started", l.spec.Name)
	var err error
	l.exited, err = l.spawn(command)
	l.mark(lifecycle.PhaseStarting, "")
	l.closeLaunched()
	if err != nil {
		return &ending{what: err.Error(), code: trouble.CodeOf(err), final: true}
	}
	return nil
}

// gone is the end of a process, as it was seen.
func (l *lifetime) gone(err error) ending {
	e := exitOf(err, l.stack.ofPart(l.part).State, l.shortages.since(time.Now(), proc.OutOfMemory()))
	e.log = l.logSince(l.logStart)
	return e
}

// watchOver climbs the ladder of the running process again and again, and does what follows, until the process is gone.
func (l *lifetime) watchOver(ctx context.Context) ending {
	for wait := pollEvery; ; {
		seen := look{wait: wait, stale: l.takeSpec(), unprepared: l.unprepared, thief: l.thief, elsewhere: l.listensElsewhere}
		logSize := logfile.Size(l.spec.Log)
		seen.results = l.climbAsFarAsItGoes(ctx)
		l.shortages.note(time.Now(), proc.OutOfMemory())
		seen.lived, seen.answered, seen.state = time.Since(l.began), l.hasAnswered, l.stack.ofPart(l.part).State
		l.tellPhase(seen)
		if ctx.Err() == nil && l.prepareClients(ctx, seen.results) {
			continue
		}
		if ctx.Err() != nil {
			return ending{}
		}
		if l.spec.Socket != "" && !exists(l.spec.Socket) {
			seen.socketGone = l.spec.Socket
		}
		next, why, pause := decide(seen)
		wait = pause
		switch next {
		case beginAgain:
			return l.endWith(ctx, ending{what: why, code: trouble.SocketGone})
		case portIsGone:
			return l.endWith(ctx, ending{what: why, code: trouble.PortTaken, final: true})
		case reloadIt:
			l.reload(ctx)
			continue
		case proven:
			wait = l.prove(ctx, logSize)
		case isElsewhere:
			l.setWith(lifecycle.Unwell, trouble.Elsewhere, why, "dravit diagnose", nil)
		case isUnwell:
			l.set(lifecycle.Unwell, why, "dravit check")
		case isStarting:
			l.set(lifecycle.Starting, why, "")
		}
		select {
		case <-ctx.Done():
			return ending{}
		case err := <-l.exited:
			return l.gone(err)
		case <-l.poke:
		case <-time.After(wait):
		}
	}
}

// climbAsFarAsItGoes climbs the ladder; where nobody can log in yet, as far as the part's own socket.
func (l *lifetime) climbAsFarAsItGoes(ctx context.Context) []health.Result {
	ladder := l.kind.Ladder(l.spec)
	if l.unprepared {
		ladder = slices.DeleteFunc(ladder, func(r kind.Rung) bool { return r.Name == kind.Greets || r.Name == kind.Works })
	}
	return health.Climb(ctx, ladder)
}

// tellPhase notes how far the part has come, and lets the requests go that wait for it in vain.
func (l *lifetime) tellPhase(seen look) {
	if holds(seen.results, kind.Open) { // since when, the rungs above it tell
		l.markAt(lifecycle.PhaseAnswering, "", time.Now().Add(-above(seen.results, kind.Open)))
	} else {
		l.mark(lifecycle.PhaseStarting, "")
	}
	if health.Fell(seen.results) != nil && holds(seen.results, kind.Ours) && seen.lived > slow {
		l.stack.release(l.spec.Name) // it takes requests, and waiting longer makes none of them well
	}
}

// prepareClients makes the users and databases that are missing. It tells whether they are made now, and were not
// before.
func (l *lifetime) prepareClients(ctx context.Context, results []health.Result) bool {
	store, ok := l.kind.(kind.Store)
	if !ok || !l.kind.Traits().Accounts || !holds(results, kind.Ours) || !l.unprepared && health.Fell(results) == nil {
		return false
	}
	if err := store.Prepare(ctx, l.spec); err != nil {
		l.stack.keeper.log.Info("preparing", "part", l.spec.Name, "error", err)
		return false
	}
	was := l.unprepared
	l.unprepared = false
	return was
}

// prove notes that the whole ladder holds, and returns how long it may be believed.
func (l *lifetime) prove(ctx context.Context, logSize int64) time.Duration {
	l.hasAnswered = true
	l.lacking = l.unmetRequirement(ctx)
	if l.proved(logSize) { // for the first time: have a look at it soon, when nobody waits for the start any more
		return askSoon
	}
	if l.unsynced { // nor for the disk
		l.unsynced = false
		dir := l.spec.Data
		l.stack.keeper.parts.Go(func() { _ = data.Sync(dir) })
	}
	return askAgain
}

// endWith ends what is left of the part's processes, and this life.
func (l *lifetime) endWith(ctx context.Context, e ending) ending {
	if err := l.endOrphans(ctx); err != nil {
		l.stack.keeper.log.Error("ending a part's processes", "part", l.spec.Name, "because", e.what, "error", err)
	}
	e.log = l.logSince(l.logStart)
	return e
}

// lifeWithoutProcess keeps asking a part that is only files.
func (p *part) lifeWithoutProcess(ctx context.Context) ending {
	p.set(lifecycle.Starting, "", "")
	p.mark(lifecycle.PhasePreparing, "")
	if err := p.prepare(ctx); err != nil {
		return ending{what: err.Error(), code: trouble.CodeOf(err), final: true}
	}
	p.mark(lifecycle.PhaseAnswering, "")
	for ctx.Err() == nil {
		p.takeSpec()
		logSize := logfile.Size(p.spec.Log)
		if fell := health.Fell(p.climb(ctx)); fell == nil {
			p.proved(logSize)
		} else if ctx.Err() == nil {
			p.set(lifecycle.Unwell, fell.Miss(), "dravit check")
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

// listensElsewhere says where a server of the project's own listens instead of on its port, "" if nowhere.
func (p *part) listensElsewhere() string {
	if p.spec.Role != kind.RoleApp {
		return ""
	}
	ids, err := members.Of(p.spec.Lock)
	if err != nil {
		return ""
	}
	at, err := proc.ListeningAt(members.PIDs(ids))
	if err != nil {
		return ""
	}
	return elsewhere(at, p.spec.Port)
}

func (p *part) climb(ctx context.Context) []health.Result {
	return health.Climb(ctx, p.kind.Ladder(p.spec))
}

// proved notes that the whole ladder held just now, and tells whether it did for the first time since the stack was started. What
// the part holds in memory takes a look into every process, so the first proof, which somebody waits for, goes without.
func (p *part) proved(logSize int64) (first bool) {
	p.mark("", "")
	p.stack.mu.Lock()
	first = p.status.State != lifecycle.Answers
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
		p.set(lifecycle.Unwell, p.refused, "dravit start, once it is mended")
		return false
	}
	if p.lacking != "" {
		p.set(lifecycle.Unwell, p.lacking, "dravit check shows all that it requires")
		return false
	}
	p.set(lifecycle.Answers, "", "")
	return first
}

// waitForUses waits until every part that this one uses answers. It is cut short by the end of the part's own process, whose error it
// then returns, and by the context.
func (p *part) waitForUses(ctx context.Context, as lifecycle.State, exited <-chan error) (ended bool, err error) {
	for {
		changed := p.stack.changes()
		waitsFor, failed := "", ""
		for _, name := range p.spec.Uses {
			switch p.stack.stateOf(name) {
			case lifecycle.Answers, lifecycle.Unwell: // it lives; what is wrong with it shows on its own line
			case lifecycle.Failed:
				failed = name
			default:
				waitsFor = name
			}
		}
		switch {
		case failed != "":
			p.set(lifecycle.Waiting, failed+" failed, which it needs", "dravit logs "+failed)
		case waitsFor != "":
			p.mark(lifecycle.PhaseWaiting, waitsFor)
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
			p.mark(lifecycle.PhaseWaiting, s.App)
			_ = proc.Sleep(ctx, pollEvery)
		}
	}
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
