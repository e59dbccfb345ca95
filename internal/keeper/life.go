package keeper

import (
	"context"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"time"

	"dravit/internal/data"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/proc"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// longPause is a pause that requests do not wait for.
const longPause = 2 * time.Second

// run keeps the part running until ctx ends. Then it stops the process or leaves it running, as the order says. adopted
// is what an earlier keeper left running of it, or nil.
func (p *partRunner) run(ctx context.Context, adopted run.Handle) {
	defer close(p.done)
	defer p.closeLaunched()
	crashes := 0
	for ctx.Err() == nil {
		started := time.Now()
		exit := p.live(ctx, adopted)
		adopted = nil
		if ctx.Err() != nil {
			break
		}
		answered := p.noteExit(exit, time.Since(started))
		code, because, next := p.causeOf(exit, answered)
		after := afterEnd(exit, answered, time.Since(started), crashes)
		crashes = after.crashes
		if !after.again {
			if after.tooOften {
				because = fmt.Sprintf("it crashed %d times in a row: %s", crashes, because)
			}
			p.fail(code, because, next, exit.log)
			<-ctx.Done() // until the user starts it again
			break
		}
		p.stack.holdPort(p.spec)
		p.setWith(lifecycle.Pausing, code, because, next, nil)
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
	switch order(p.order.Load()) {
	case letGo:
	case stopToComeBack:
		p.stopProcess(context.WithoutCancel(ctx))
		p.stack.holdPort(p.spec)
	default:
		p.stopProcess(context.WithoutCancel(ctx))
		p.stack.freePort(p.spec.Name)
	}
}

// noteExit records how the part's process ended, and reports whether the part had answered since the stack was started.
func (p *partRunner) noteExit(exit exitReport, ran time.Duration) (answered bool) {
	p.note("%s after %s", exit.what, ran.Round(time.Millisecond))
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	p.status.PID, p.found = 0, run.Note{}
	p.status.LastExit = &lifecycle.Exit{
		At:    time.Now(),
		How:   exit.what,
		Code:  exit.exit,
		RanMS: ran.Milliseconds(),
		Cause: exit.code,
		Tail:  tailOf(exit.log),
	}
	return p.answered
}

// causeOf says why a process ended, and what to do.
func (p *partRunner) causeOf(exit exitReport, answered bool) (code trouble.Code, because, next string) {
	if holder := p.portHolder(); holder != "" {
		return trouble.PortTaken, holder,
			"dravit start, which uses another port; a pinned port must be freed: dravit ports " +
				strconv.Itoa(p.spec.Port)
	}
	log := exit.log
	switch {
	case exit.code == trouble.Exposed:
		return exit.code, exit.what, "make it listen on " + kind.Host +
			" (its variable HOST says so); or, to let other " +
			"machines reach it: dravit start --reachable part." + p.spec.Name
	case exit.killed(): // its own log explains nothing
		return exit.code, exit.what, ""
	case answered: // nor does what it wrote long ago
		log = log[max(0, len(log)-lastSaid):]
	}
	because, next = p.explain(log, exit.what)
	return exit.code, because, next
}

// lifetime is one life of a part: from the start or adoption of its process to the end of it.
type lifetime struct {
	*partRunner
	exited      <-chan run.End
	logStart    int64 // the offset in the log at which it begins
	shortages   shortages
	hasAnswered bool
	unprepared  bool // its users and databases are not created yet
	// askWhole is whether the next look climbs the whole ladder of an application: something happened, or its last look
	// found something wrong.
	askWhole bool
	// ofOthers are sockets that other machines may reach and that are no part's of this process.
	ofOthers map[proc.Listener]bool
	began    time.Time
}

// life runs the part once: from the preparations for its process until the process is gone. It starts the process at
// once, and climbs the ladder when the parts that it uses answer. A part without a process of its own lives until ctx
// ends.
func (p *partRunner) life(ctx context.Context, adopted run.Handle) exitReport {
	p.applyNext()
	l := &lifetime{partRunner: p, hasAnswered: adopted != nil}
	if adopted != nil {
		p.stack.mu.Lock()
		p.runs, p.found = adopted, adopted.Note()
		p.status.State, p.status.PID = lifecycle.Starting, adopted.PID()
		p.stack.mu.Unlock()
		l.exited = p.watch(ctx, adopted)
	} else if ended := l.launch(ctx); ended != nil {
		return *ended
	}
	l.ofOthers, l.askWhole = map[proc.Listener]bool{}, true
	l.unprepared = p.accounts() && (p.unsynced || p.spec.UpgradeFrom != "")
	l.shortages.note(time.Now(), proc.OutOfMemory())
	if end, ended := p.waitForUses(ctx, lifecycle.Starting, l.exited); ended {
		return l.gone(end)
	} else if ctx.Err() != nil {
		return exitReport{}
	}
	l.began = time.Now()
	return l.watchOver(ctx)
}

// launch prepares and starts the process. If that fails, it returns how the life ended, else nil.
func (l *lifetime) launch(ctx context.Context) *exitReport {
	if l.spec.Role == kind.RoleApp { // a server of the project's own may connect to its stores at once
		if l.waitForUses(ctx, lifecycle.Waiting, nil); ctx.Err() != nil {
			return &exitReport{}
		}
	}
	l.set(lifecycle.Starting, "", "")
	if l.spec.Role == kind.RoleWeb {
		l.waitForRuntimes(ctx)
	}
	l.mark(lifecycle.PhasePreparing, "")
	if err := l.endOrphans(ctx); err != nil {
		return &exitReport{what: err.Error(), code: trouble.CodeOf(err), final: true}
	}
	l.logStart = l.rotateLog()
	l.stack.mu.Lock()
	l.status.LogFrom, l.status.LogStart = l.logStart, l.logStart
	l.stack.mu.Unlock()
	if l.stack.atRest(ctx, l.spec.Name); ctx.Err() != nil {
		return &exitReport{}
	}
	if err := l.prepare(ctx); err != nil {
		return &exitReport{what: err.Error(), code: trouble.CodeOf(err), log: l.logSince(l.logStart), final: true}
	}
	l.refused = ""
	l.stack.mu.Lock()
	l.config = l.spec.Config
	l.stack.mu.Unlock()
	if l.way().Offers().Log {
		l.note("part %s is started", l.spec.Name)
	}
	var err error
	l.exited, err = l.spawn(ctx)
	l.mark(lifecycle.PhaseStarting, "")
	l.closeLaunched()
	if err != nil {
		return &exitReport{what: err.Error(), code: trouble.CodeOf(err), final: true}
	}
	return nil
}

// accounts reports whether Dravit creates the users and databases of the part.
func (p *partRunner) accounts() bool { return p.kind.Traits().Accounts && p.way().Offers().Accounts }

// gone describes the end of a process.
func (l *lifetime) gone(end run.End) exitReport {
	if end.Left != nil {
		l.stack.keeper.log.Error("cannot stop what a dead process left behind", "part", l.spec.Name, "error", end.Left)
	}
	e := exitOf(end, l.stack.ofPart(l.partRunner).State, l.shortages.since(time.Now(), proc.OutOfMemory()))
	e.log = l.logSince(l.logStart)
	return e
}

// watchOver climbs the ladder of the running process again and again, and acts on the results, until the process is
// gone.
func (l *lifetime) watchOver(ctx context.Context) exitReport {
	for wait := pollEvery; ; {
		seen := look{
			wait:       wait,
			stale:      l.applyNext(),
			unprepared: l.unprepared,
			patience:   l.spec.Want.Patient(),
			atOnce:     !l.way().Offers().Process,
			portHolder: l.portHolder,
			elsewhere:  l.listensElsewhere,
		}
		logSize := logfile.Size(l.spec.Log)
		seen.results = l.climbAsFarAsItGoes(ctx)
		select {
		case <-l.poke: // what was seen before may be wrong now
			l.askWhole = true
			if end, ended := l.waitWhileUsesStart(ctx, l.exited); ended {
				return l.gone(end)
			}
			continue
		default:
		}
		l.shortages.note(time.Now(), proc.OutOfMemory())
		seen.lived, seen.answered, seen.state = time.Since(l.began), l.hasAnswered, l.stack.ofPart(l.partRunner).State
		l.tellPhase(seen)
		if ctx.Err() == nil && l.prepareClients(ctx, seen.results) {
			continue
		}
		if at := l.exposed(seen.results); at != "" {
			return l.endWith(ctx, exitReport{what: at, code: trouble.Exposed, final: true})
		}
		if err := l.putRight(ctx, seen.results); err != nil && ctx.Err() == nil {
			return l.endWith(ctx, exitReport{what: err.Error(), code: trouble.LoadFailed, final: true})
		}
		if ctx.Err() != nil {
			return exitReport{}
		}
		if l.spec.Socket != "" && !exists(l.spec.Socket) {
			seen.socketGone = l.spec.Socket
		}
		l.askWhole = health.FirstMiss(seen.results) != nil
		next, why, pause := decide(seen)
		wait = pause
		switch next {
		case beginAgain:
			return l.endWith(ctx, exitReport{what: why, code: trouble.SocketGone})
		case portIsGone:
			return l.endWith(ctx, exitReport{what: why, code: trouble.PortTaken, final: true})
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
		if l.spec.Want.Interval() > 0 {
			if runs, ok := run.Runs(l.spec); ok {
				wait = untilRun(wait, runs.Next, time.Now())
			}
		}
		select {
		case <-ctx.Done():
			return exitReport{}
		case end := <-l.exited:
			return l.gone(end)
		case <-l.poke:
			l.askWhole = true
			if end, ended := l.waitWhileUsesStart(ctx, l.exited); ended {
				return l.gone(end)
			}
		case <-time.After(wait):
		}
	}
}

// climbAsFarAsItGoes climbs the ladder. If no client can log in yet, it climbs the rungs of the part's own socket only.
func (l *lifetime) climbAsFarAsItGoes(ctx context.Context) []health.Result {
	ladder := health.LadderOf(l.kind, l.spec)
	l.partial = !l.askWhole && l.hasAnswered && l.spec.Role == kind.RoleApp && len(l.spec.Sites) > 0
	if l.partial { // its process and its socket are looked at; its own code is asked when something happens
		ladder = slices.DeleteFunc(ladder, func(r kind.Rung) bool {
			return r.Name == kind.Greets ||
				r.Name == kind.Works
		})
	}
	if l.unprepared {
		ladder = slices.DeleteFunc(ladder, func(r kind.Rung) bool {
			return r.Name == kind.Greets || r.Name == kind.Works
		})
	}
	return health.Climb(ctx, ladder)
}

// tellPhase records the part's phase, and releases requests that wait for the part in vain.
func (l *lifetime) tellPhase(seen look) {
	if holds(seen.results, kind.Open) { // the rungs above show how long it has been open
		l.markAt(lifecycle.PhaseAnswering, "", time.Now().Add(-above(seen.results, kind.Open)))
	} else {
		l.mark(lifecycle.PhaseStarting, "")
	}
	if health.FirstMiss(seen.results) != nil && holds(seen.results, kind.Ours) && seen.lived > slow {
		l.stack.release(l.spec.Name) // it accepts requests; to wait longer helps none of them
	}
}

// prepareClients creates the users and databases that are missing. It reports whether it created them now.
func (l *lifetime) prepareClients(ctx context.Context, results []health.Result) bool {
	store, ok := l.kind.(kind.Store)
	if !ok || !l.accounts() || !holds(results, kind.Ours) ||
		!l.unprepared && health.FirstMiss(results) == nil {
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

// putRight puts right what a load left that died, before the part is said to answer.
func (p *partRunner) putRight(ctx context.Context, results []health.Result) error {
	store, ok := p.kind.(kind.Database)
	if !ok || p.spec.Data == "" || !data.LoadDied(p.spec.Data) || health.FirstMiss(results) != nil {
		return nil
	}
	p.stack.keeper.log.Warn("a load died: what it left is put right", "part", p.spec.Name)
	return data.PutRightAlone(ctx, p.spec, store)
}

// prove records that the whole ladder holds, and returns how long that may be believed.
func (l *lifetime) prove(ctx context.Context, logSize int64) time.Duration {
	l.hasAnswered = true
	l.lacking = l.unmetRequirement(ctx)
	if l.proved(logSize) { // the first time: examine its processes soon, when no start waits for it any more
		l.noteVersion()
		return askSoon
	}
	if l.unsynced { // no start waits for the disk, either
		l.unsynced = false
		dir := l.spec.Data
		l.stack.keeper.parts.Go(func() { _ = data.Sync(dir) })
	}
	return askAgain
}

// noteVersion notes that the part's program has its data, as it answers.
func (p *partRunner) noteVersion() {
	if p.spec.Data == "" {
		return
	}
	if err := data.Answered(p.spec.Data, p.spec.Version); err != nil {
		p.stack.keeper.log.Error("cannot note the version of the data", "part", p.spec.Name, "error", err)
	}
}

// endWith stops what is left of the part's processes, and ends this life.
func (l *lifetime) endWith(ctx context.Context, e exitReport) exitReport {
	if err := l.endOrphans(ctx); err != nil {
		l.stack.keeper.log.Error("cannot stop a part's processes", "part", l.spec.Name, "because", e.what, "error", err)
	}
	e.log = l.logSince(l.logStart)
	return e
}

func exists(file string) bool {
	_, err := os.Lstat(file)
	return err == nil
}

// exposed says where the part listens to other machines without the consent of this machine's user, or "".
func (l *lifetime) exposed(results []health.Result) string {
	if l.spec.Network || !l.way().Offers().Process || !holds(results, kind.Open) && health.FirstMiss(results) != nil {
		return ""
	}
	all, err := proc.NetworkSockets()
	all = slices.DeleteFunc(all, func(x proc.Listener) bool { return l.ofOthers[x] })
	if err != nil || len(all) == 0 {
		return ""
	}
	held, err := proc.NetworkListeners() // it looks at every process, so each socket is asked about once
	if err != nil {
		return ""
	}
	for _, x := range all {
		pid, known := held[x]
		if known && l.handle().Includes(pid) {
			return fmt.Sprintf("it listens on %s, open to other machines without your consent",
				net.JoinHostPort(x.Address, strconv.Itoa(x.Port)))
		}
		if known {
			l.ofOthers[x] = true
		}
	}
	return ""
}

// listensElsewhere says where a server of the project's own listens instead of on its port, or "" if nowhere.
func (p *partRunner) listensElsewhere() string {
	if p.spec.Role != kind.RoleApp || p.spec.Port == 0 {
		return ""
	}
	at, err := p.handle().Listens()
	if err != nil {
		return ""
	}
	return elsewhere(at, p.spec.Port)
}

// proved records that the whole ladder held just now, and reports whether it did so for the first time since the stack
// was started. To sum up the memory, every process has to be examined, so the first time, for which a start waits,
// leaves it out.
func (p *partRunner) proved(logSize int64) (first bool) {
	p.mark("", "")
	p.stack.mu.Lock()
	first = p.status.State != lifecycle.Answers
	p.stack.mu.Unlock()
	h := p.handle()
	var memory int64
	changed := false
	if !first {
		memory, changed = h.Look()
	}
	pid := h.PID() // below a supervisor, that of the command
	p.stack.mu.Lock()
	p.status.PID = pid
	if changed {
		p.found = h.Note()
		p.stack.writeSeen() // processes that have lost every mark can be found only in this note
	}
	if !p.partial {
		p.status.ProvedAt, p.status.LogFrom = time.Now(), logSize
	}
	p.status.Memory = memory
	p.answered = true
	p.stack.mu.Unlock()
	if p.refused != "" {
		p.set(lifecycle.Unwell, p.refused, "correct it, then dravit start")
		return false
	}
	if p.lacking != "" {
		p.set(lifecycle.Unwell, p.lacking, "dravit check shows all that it requires")
		return false
	}
	p.set(lifecycle.Answers, "", "")
	return first
}

// waitForUses waits until every part that this one uses answers. It returns early when the part's own process ends,
// and says how, and when the context ends.
func (p *partRunner) waitForUses(ctx context.Context, as lifecycle.State, exited <-chan run.End) (end run.End,
	ended bool) {
	for {
		changed := p.stack.changes()
		waitsFor, failed := "", ""
		for _, name := range p.spec.Uses {
			switch p.stack.stateOf(name) {
			// the part it uses is alive; what is wrong with it shows on its own line
			case lifecycle.Answers, lifecycle.Unwell:
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
			return run.End{}, false
		}
		select {
		case <-ctx.Done():
			return run.End{}, false
		case end := <-exited:
			return end, true
		case <-changed:
		}
	}
}

// waitWhileUsesStart waits while parts that this one uses are about to answer. It returns early as waitForUses does.
func (p *partRunner) waitWhileUsesStart(ctx context.Context, exited <-chan run.End) (end run.End, ended bool) {
	for {
		p.stack.mu.Lock()
		changed, start := p.stack.changed, p.stack.usesStart(p.spec)
		p.stack.mu.Unlock()
		if !start {
			return run.End{}, false
		}
		select {
		case <-ctx.Done():
			return run.End{}, false
		case end := <-exited:
			return end, true
		case <-changed:
		}
	}
}

// headStartOfRuntimes bounds how long a web server waits for the runtimes of its sites to listen.
const headStartOfRuntimes = 500 * time.Millisecond

// waitForRuntimes delays a web server until its runtimes listen: after a restart, clients wait for it already, and
// would get errors.
func (p *partRunner) waitForRuntimes(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, headStartOfRuntimes)
	defer cancel()
	for _, s := range p.spec.Sites {
		for s.FPM != "" && ctx.Err() == nil && !accepts(ctx, s.FPM) {
			p.mark(lifecycle.PhaseWaiting, s.App)
			_ = proc.Sleep(ctx, pollEvery)
		}
	}
}

// above returns the time that the rungs above one took.
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
