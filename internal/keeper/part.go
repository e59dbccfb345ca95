package keeper

import (
	"context"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// partRunner runs one part. Only its goroutine, run, starts and stops the part's process.
type partRunner struct {
	stack *stackRunner
	spec  kind.Part
	kind  kind.Kind

	cancel context.CancelFunc // ends the part's goroutine
	order  atomic.Int32       // an order: what happens to the process when the goroutine ends
	done   chan struct{}      // closed when the goroutine has ended

	// live is the present life of the part; see life.
	live func(ctx context.Context, adopted run.Handle) exitReport

	unsynced bool // its data was filled just now, and is not synced yet

	launched      chan struct{} // closed when the first process was started, or if none will be
	closeLaunched func()

	lacking string // what the application requires and the process lacks, or ""

	refused string // why the process does not accept the configuration that is written, or ""

	// partial is whether the last look left out what would ask an application: it proves nothing new.
	partial bool
	poke    chan struct{} // signals that the part has to be asked anew

	// guarded by stack.mu; spec is changed by the part's goroutine alone, which may read it without
	next     *kind.Part       // the spec to take next
	config   string           // the spec.Config that the process runs with
	spans    []lifecycle.Span // the phases until the first answer; the last one has no end yet
	status   lifecycle.Status
	runs     run.Handle // what runs of it, or what can be found by its marks; never nil
	found    run.Note   // what the next keeper finds it by; zero if nothing of it runs or is about to
	answered bool       // it has answered since the stack was started
}

// order is what happens to a part's process when its goroutine ends.
type order int32

const (
	stopForGood    order = iota // it is stopped
	stopToComeBack              // it is stopped after the requests in flight, and will be started again
	letGo                       // it keeps running: another keeper takes over
)

// finish ends the part's goroutine, which closes done.
func (p *partRunner) finish(o order) {
	p.order.Store(int32(o))
	p.cancel()
}

// setNext gives the part a new spec which differs in nothing that needs a restart. The caller holds stack.mu.
func (p *partRunner) setNext(spec kind.Part) {
	p.next = &spec
	if spec.Config == p.config {
		return
	}
	p.askNow()
}

// askNow makes the part climb its ladder at once; it counts as starting until then. The caller holds stack.mu.
func (p *partRunner) askNow() {
	if p.status.State == lifecycle.Answers || p.status.State == lifecycle.Unwell {
		p.status.State, p.status.Code, p.status.Because, p.status.Next, p.status.Since = lifecycle.Starting,
			"", "", "", time.Now()
	}
	select {
	case p.poke <- struct{}{}:
	default:
	}
}

// applyNext takes the next spec, and reports whether the process runs with another configuration.
func (p *partRunner) applyNext() (stale bool) {
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	if p.next != nil {
		p.spec, p.next = *p.next, nil
	}
	return p.spec.Config != p.config
}

// noteConfig records that the process runs with the configuration of spec.
func (p *partRunner) noteConfig() {
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	p.config = p.spec.Config
	p.stack.writeSeen()
}

// reload makes the running process take its new configuration, if the program's own test accepts that.
func (p *partRunner) reload(ctx context.Context) {
	p.refused = ""
	if err := p.test(ctx); err != nil {
		p.refused = err.Error() + "; it keeps its previous configuration"
		p.noteConfig() // until the next configuration
		return
	}
	if err := p.handle().Signal(p.kind.Traits().Reload); err != nil {
		p.stack.keeper.log.Error("reloading", "part", p.spec.Name, "error", err)
	}
	p.noteConfig()
}

// mark records that a part which has not answered yet enters another phase; "" means that it answers.
func (p *partRunner) mark(phase lifecycle.Phase, waitsFor string) {
	p.markAt(phase, waitsFor, time.Now())
}

func (p *partRunner) markAt(phase lifecycle.Phase, waitsFor string, now time.Time) {
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
		p.spans = append(p.spans, lifecycle.Span{Phase: phase, From: now, For: waitsFor})
	}
}

// set changes the part's state, and wakes those who wait for the stack.
func (p *partRunner) set(state lifecycle.State, because, next string) {
	p.setWith(state, "", because, next, nil)
}

// setWith is set with a code and the end of the log.
func (p *partRunner) setWith(state lifecycle.State, code trouble.Code, because, next string, tail []string) {
	p.stack.mu.Lock()
	defer p.stack.mu.Unlock()
	if p.status.State == state && p.status.Because == because {
		return
	}
	if len(p.poke) > 0 && (state == lifecycle.Answers || state == lifecycle.Unwell) {
		return // it was asked to look again during this check
	}
	if p.status.State != state {
		p.status.Since = time.Now()
	}
	p.status.State, p.status.Code, p.status.Because, p.status.Next, p.status.LogTail = state, code, because, next, tail
	p.stack.wake()
	back := p.stack.restarting[p.spec.Name] && !slices.Contains([]lifecycle.State{lifecycle.Stopping, lifecycle.Stopped,
		lifecycle.Waiting, lifecycle.Starting, lifecycle.Pausing}, state)
	if back {
		delete(p.stack.restarting, p.spec.Name)
	}
	if back || state == lifecycle.Failed && p.stack.id != gatewayID {
		p.stack.keeper.parts.Go(p.stack.keeper.gateway.reroute)
	}
}

// tailOf returns the last lines of a log, without those that the keeper wrote.
func tailOf(log string) []string {
	var lines []string
	for line := range strings.Lines(log) {
		if !strings.HasPrefix(line, noteMark) {
			lines = append(lines, strings.TrimRight(line, "\n"))
		}
	}
	for len(lines) > 0 && lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines[max(0, len(lines)-8):]
}

// fail sets the part's state to failed, with the end of its log.
func (p *partRunner) fail(code trouble.Code, because, next, log string) {
	p.stack.freePort(p.spec.Name)
	tail := tailOf(log)
	if next == "" {
		next = "dravit logs " + p.spec.Name
	}
	p.setWith(lifecycle.Failed, code, because, next, tail)
	p.stack.keeper.log.Warn("part failed", "stack", p.stack.id, "part", p.spec.Name, "because", because)
}
