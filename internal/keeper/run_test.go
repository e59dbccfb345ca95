package keeper

import (
	"context"
	"io"
	"log/slog"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/proc"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// silentKind is a kind whose programs say nothing.
type silentKind struct{ kind.Kind }

func (silentKind) Traits() *kind.Traits           { return &kind.Traits{} }
func (silentKind) LastWords(string) string        { return "" }
func (silentKind) Command(kind.Part) kind.Command { return kind.Command{} }

// runner runs a part whose processes each live for a time and end as lives says; the last one keeps running. It returns
// the part, and when each process began.
func runner(t *testing.T, takes time.Duration, lives ...exitReport) (*partRunner, *[]time.Duration, context.Context) {
	t.Helper()
	dir := t.TempDir()
	k := &Keeper{log: slog.New(slog.NewTextHandler(io.Discard, nil))}
	s := newStack(k, gatewayID) // whose parts no site waits for
	k.gateway = newGatewayRunner(k)
	ctx, cancel := context.WithCancel(t.Context())
	spec := kind.Part{Name: "db", Log: filepath.Join(dir, "db.log"), Lock: filepath.Join(dir, "db.lock"), Conf: dir,
		Temp: filepath.Join(dir, "temp")}
	p := &partRunner{stack: s, spec: spec, runs: run.Seen(spec), kind: silentKind{}, cancel: cancel,
		done: make(chan struct{}), closeLaunched: func() {}}
	began := time.Now()
	var at []time.Duration
	p.live = func(ctx context.Context, _ run.Handle) exitReport {
		at = append(at, time.Since(began))
		if len(at) > len(lives) {
			p.set(lifecycle.Answers, "", "")
			<-ctx.Done()
			return exitReport{}
		}
		if proc.Sleep(ctx, takes) != nil {
			return exitReport{}
		}
		return lives[len(at)-1]
	}
	return p, &at, ctx
}

func crash(n int) []exitReport {
	lives := make([]exitReport, n)
	for i := range lives {
		lives[i] = exitReport{what: "it exited with code 1", code: trouble.Exited, exit: 1}
	}
	return lives
}

// A part that crashes is started again after longer and longer pauses.
func TestPauses(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, at, ctx := runner(t, time.Second, crash(5)...)
		p.answered = true
		go p.run(ctx, nil)
		time.Sleep(5500 * time.Millisecond)
		synctest.Wait()
		assert.Equal(t, lifecycle.Pausing, p.stack.ofPart(p).State, "between its third and its fourth life")
		assert.Equal(t, "it exited with code 1", p.stack.ofPart(p).Because)
		assert.Equal(t, trouble.Exited, p.stack.ofPart(p).Code)
		time.Sleep(time.Hour)
		synctest.Wait()
		assert.Equal(t, lifecycle.Answers, p.stack.ofPart(p).State)
		assert.Equal(t, 5, p.stack.ofPart(p).Restarts)
		assert.Equal(t, 1, p.stack.ofPart(p).LastExit.Code)
		assert.EqualValues(t, 1000, p.stack.ofPart(p).LastExit.RanMS)
		ms := time.Millisecond
		assert.Equal(t, []time.Duration{0, 1100 * ms, 2600 * ms, 5600 * ms, 11600 * ms, 27600 * ms}, *at)
		p.finish(stopForGood)
		<-p.done
		assert.Equal(t, lifecycle.Stopped, p.stack.ofPart(p).State)
	})
}

// After as many crashes as there are pauses it is declared failed, and left alone.
func TestGivesUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, at, ctx := runner(t, time.Second, crash(20)...)
		p.answered = true
		go p.run(ctx, nil)
		time.Sleep(time.Hour)
		synctest.Wait()
		assert.Equal(t, lifecycle.Failed, p.stack.ofPart(p).State)
		assert.Equal(t, "it crashed 6 times in a row: it exited with code 1", p.stack.ofPart(p).Because)
		assert.Equal(t, "dravit logs db", p.stack.ofPart(p).Next)
		assert.Len(t, *at, 6)
		p.finish(stopForGood)
		<-p.done
	})
}

// Crashes with more than a minute of running between them do not add up.
func TestForgetsCrashes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, at, ctx := runner(t, steady+time.Second, crash(20)...)
		p.answered = true
		go p.run(ctx, nil)
		time.Sleep(24 * time.Hour)
		synctest.Wait()
		assert.Equal(t, lifecycle.Answers, p.stack.ofPart(p).State)
		assert.Len(t, *at, 21)
		p.finish(stopForGood)
		<-p.done
	})
}

// A part that never answered is not started again: what it lacks is still missing.
func TestFailsAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, at, ctx := runner(t, time.Second, crash(20)...)
		go p.run(ctx, nil)
		time.Sleep(time.Hour)
		synctest.Wait()
		assert.Equal(t, lifecycle.Failed, p.stack.ofPart(p).State)
		assert.Equal(t, "it exited with code 1", p.stack.ofPart(p).Because)
		assert.Len(t, *at, 1)
		p.finish(stopForGood)
		<-p.done
	})
}

// A keeper that leaves touches neither the process nor its state.
func TestLetsGo(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, _, ctx := runner(t, time.Second)
		go p.run(ctx, nil)
		synctest.Wait()
		p.finish(letGo)
		<-p.done
		assert.Equal(t, lifecycle.Answers, p.stack.ofPart(p).State)
	})
}

// A stop does not wait for the pause of a part that crashed.
func TestStopDuringPause(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p, at, ctx := runner(t, time.Second, crash(5)...)
		p.answered = true
		go p.run(ctx, nil)
		time.Sleep(20 * time.Second) // in the pause of 15 s
		synctest.Wait()
		began := time.Now()
		p.finish(stopForGood)
		<-p.done
		assert.Less(t, time.Since(began), time.Second)
		assert.Len(t, *at, 5)
		assert.Equal(t, lifecycle.Stopped, p.stack.ofPart(p).State)
	})
}
