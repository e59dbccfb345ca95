package keeper

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
)

// climbed is a ladder that holds up to a rung, which fell; "": the whole of it holds.
func climbed(fell kind.RungName) []health.Result {
	var out []health.Result
	yes, no := true, false
	for _, name := range []kind.RungName{kind.Alive, kind.Open, kind.Ours, kind.Greets, kind.Works} {
		if name == fell {
			return append(out, health.Result{Rung: name, Holds: &no, Expected: "a berth", Got: "fog"})
		}
		out = append(out, health.Result{Rung: name, Holds: &yes})
	}
	return out
}

func noHolder() string         { return "" }
func ferryHolds() string       { return "its port was taken by a ferry" }
func listensElsewhere() string { return "it listens on 127.0.0.1:9" }
func notAsked() string         { panic("every process was looked at, which is not needed") }

// decisions are what the keeper sees of a part, and what it does then.
var decisions = map[string]struct {
	look look
	step step
	why  string
	wait time.Duration
}{
	"it holds":                         {look{}, proven, "", askAgain},
	"it holds, with the old settings":  {look{stale: true, wait: 3}, reloadIt, "", 3},
	"it holds, without clients":        {look{unprepared: true, wait: 3}, lookAgain, "", 3},
	"old settings come before clients": {look{stale: true, unprepared: true, wait: 3}, reloadIt, "", 3},
	"its socket went": {look{answered: true, socketGone: "/s", wait: 3}, beginAgain,
		"its socket /s was deleted", 3},
	"its socket is not there yet": {look{socketGone: "/s", results: climbed(kind.Open), wait: pollEvery}, lookAgain,
		"open: expected a berth, got fog", pollEvery},
	"its socket went, of a stale one": {look{answered: true, stale: true, socketGone: "/s"}, beginAgain,
		"its socket /s was deleted", 0},

	"it starts": {look{results: climbed(kind.Open), lived: slow, wait: pollEvery}, lookAgain,
		"open: expected a berth, got fog", pollEvery},
	"it takes its time": {look{results: climbed(kind.Open), lived: slow + 1, wait: pollEvery}, isStarting,
		"open: expected a berth, got fog", pollOwn},
	"it refuses a log-in": {look{results: climbed(kind.Greets), lived: slow + 1, wait: pollEvery}, isStarting,
		"greets: expected a berth, got fog", pollOwn},
	"it refuses it again": {look{results: climbed(kind.Greets), lived: slow + 1, wait: 100 * time.Millisecond},
		isStarting,
		"greets: expected a berth, got fog", 200 * time.Millisecond},
	"and again": {look{results: climbed(kind.Greets), lived: patience, wait: 900 * time.Millisecond}, isStarting,
		"greets: expected a berth, got fog", askSoon},
	"it never answers": {look{results: climbed(kind.Greets), lived: patience + 1, wait: pollEvery}, isUnwell,
		"greets: expected a berth, got fog", time.Second},
	"it answers no more": {look{results: climbed(kind.Works), answered: true, wait: askAgain}, isUnwell,
		"works: expected a berth, got fog", askAgain},
	"files, or a server of somebody else's": {look{results: climbed(kind.Works), atOnce: true, wait: pollEvery},
		isUnwell, "works: expected a berth, got fog", time.Second},
	"for long": {look{results: climbed(kind.Works), answered: true, wait: time.Hour}, isUnwell,
		"works: expected a berth, got fog", askAgain},

	"another process has the port": {look{results: climbed(kind.Ours), lived: moment + 1, portHolder: ferryHolds,
		wait: 3}, portIsGone, ferryHolds(), 3},
	"another process has the port, at once": {look{results: climbed(kind.Ours), lived: moment,
		portHolder: notAsked, wait: 3}, isStarting,
		"ours: expected a berth, got fog", pollOwn},
	"no other process has the port": {look{results: climbed(kind.Ours), lived: moment + 1,
		portHolder: noHolder, wait: 3}, isStarting,
		"ours: expected a berth, got fog", pollOwn},
	"of a part that answered until now": {look{results: climbed(kind.Ours), lived: moment + 1,
		answered: true, state: lifecycle.Answers,
		portHolder: notAsked, wait: 3}, isUnwell, "ours: expected a berth, got fog", time.Second},
	"of a part that was unwell": {look{results: climbed(kind.Ours), lived: moment + 1,
		answered: true, state: lifecycle.Unwell,
		portHolder: ferryHolds}, portIsGone, ferryHolds(), 0},

	"elsewhere": {look{results: climbed(kind.Open), lived: elsewherePatience + 1, elsewhere: listensElsewhere},
		isElsewhere,
		listensElsewhere(), askSoon},
	"elsewhere, too soon to say": {look{results: climbed(kind.Open), lived: elsewherePatience, elsewhere: notAsked},
		isStarting,
		"open: expected a berth, got fog", pollOwn},
	"nowhere": {look{results: climbed(kind.Open), lived: elsewherePatience + 1, elsewhere: noHolder}, isStarting,
		"open: expected a berth, got fog", pollOwn},
	"a server that answered is not looked for": {look{results: climbed(kind.Open),
		lived: elsewherePatience + 1, answered: true,
		elsewhere: notAsked}, isUnwell, "open: expected a berth, got fog", time.Second},
}

func TestDecide(t *testing.T) {
	for name, c := range decisions {
		t.Run(name, func(t *testing.T) {
			l := c.look
			if l.results == nil {
				l.results = climbed("")
			}
			if l.portHolder == nil {
				l.portHolder = notAsked
			}
			if l.elsewhere == nil {
				l.elsewhere = notAsked
			}
			next, why, wait := decide(l)
			assert.Equal(t, c.step, next)
			assert.Equal(t, c.why, why)
			assert.Equal(t, c.wait, wait)
		})
	}
}

// A part that crashes again and again is started with longer and longer pauses, and then no more.
func TestAfterEnd(t *testing.T) {
	crashes := 0
	for i, pause := range pauses {
		after := afterEnd(exitReport{}, true, time.Second, crashes)
		assert.Equal(t, sequel{again: true, pause: pause, crashes: i + 1}, after)
		crashes = after.crashes
	}
	assert.Equal(t, sequel{crashes: len(pauses) + 1, tooOften: true}, afterEnd(exitReport{}, true, steady, crashes))
	assert.Equal(t, sequel{again: true, pause: pauses[0], crashes: 1}, afterEnd(exitReport{}, true, steady+1, crashes),
		"what ran long enough begins afresh")
	assert.Equal(t, sequel{crashes: 1}, afterEnd(exitReport{}, false, time.Second, 0),
		"what never answered would end the same way")
	assert.Equal(t, sequel{crashes: 2}, afterEnd(exitReport{final: true}, true, time.Second, 1))
	assert.IsIncreasing(t, pauses)
}

// A process that the kernel killed as the memory was used up may be seen dead after the kernel's count was looked at
// again.
func TestShortages(t *testing.T) {
	begin := time.Now()
	at := func(d time.Duration) time.Time { return begin.Add(d) }
	var s shortages
	assert.False(t, s.since(at(0), 5), "what was before it is not its")
	s.note(at(0), 5)
	assert.False(t, s.since(at(0), 5))
	s.note(at(pollEvery), 6)
	assert.True(t, s.since(at(2*pollEvery), 6), "it was killed, and looked at before it was seen dead")
	s.note(at(2*moment), 6)
	assert.True(t, s.since(at(2*moment), 6))
	assert.False(t, s.since(at(4*moment), 6), "that was long ago")
	assert.True(t, s.since(at(4*moment), 7))
	s.note(at(4*moment), 6)
	assert.False(t, s.since(at(4*moment), 6))
}

// A server that opened its port after its ladder was climbed listens where it should: it is not said to listen
// elsewhere.
func TestElsewhere(t *testing.T) {
	for _, c := range []struct {
		name string
		at   []string
		want string
	}{
		{"nowhere", nil, ""},
		{"its own port", []string{"127.0.0.1:3000"}, ""},
		{"its own port on every address", []string{"0.0.0.0:3000"}, ""},
		{"its own port on every address of both families", []string{"[::]:3000"}, ""},
		{"its own port beside another", []string{"127.0.0.1:9229", "127.0.0.1:3000"}, ""},
		{"another port", []string{"127.0.0.1:3001"},
			"it listens on 127.0.0.1:3001, but should listen on 127.0.0.1:3000"},
		{"another port on every address", []string{"0.0.0.0:80"},
			"it listens on 0.0.0.0:80, but should listen on 127.0.0.1:3000"},
		{"another address", []string{"[::1]:3000"}, "it listens on [::1]:3000, but should listen on 127.0.0.1:3000"},
		{"two others", []string{"127.0.0.2:3000", "127.0.0.1:1"},
			"it listens on 127.0.0.2:3000, 127.0.0.1:1, but should listen on 127.0.0.1:3000"},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, elsewhere(c.at, 3000)) })
	}
}

// The end of a run at intervals is seen soon: at its time, and then again and again until it has ended.
func TestUntilRun(t *testing.T) {
	now := time.Now()
	assert.Equal(t, askAgain, untilRun(askAgain, now.Add(time.Hour), now))
	assert.Equal(t, 2*time.Second+runPoll, untilRun(askAgain, now.Add(2*time.Second), now))
	assert.Equal(t, runPoll, untilRun(askAgain, now.Add(-time.Hour), now), "the run goes on")
	assert.Equal(t, pollEvery, untilRun(pollEvery, time.Time{}, now))
}
