package keeper

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
)

// This file decides what happens to a part, from what was seen of it just now. It does nothing; life.go acts on the
// decisions.

const (
	askAgain  = 10 * time.Second      // between two checks of a part that answers
	askSoon   = time.Second           // after its first answer
	pollEvery = 2 * time.Millisecond  // between two checks of a part that is starting
	pollOwn   = 20 * time.Millisecond // the same, for one that has been starting for long and does not listen yet
	patience  = time.Minute           // how long a part may take to answer after its process started
	slow      = time.Second / 2       // a part that has not answered by then shows what it waits for
	steady    = time.Minute           // a part that has run this long has no earlier crashes counted
	// before the keeper asks which other process has a part's port; an end this long ago is no news
	moment = time.Second

	// elsewherePatience is how long a server of the project's own may listen only on other ports than its own.
	elsewherePatience = 4 * time.Second
)

// pauses are the times before a crashed part is started again. After the last one, the part has failed.
var pauses = []time.Duration{100 * time.Millisecond, 500 * time.Millisecond,
	2 * time.Second, 5 * time.Second, 15 * time.Second}

// sequel is what follows the end of a part's process.
type sequel struct {
	again    bool          // start the part again
	pause    time.Duration // before the part is started again
	crashes  int           // crashes in a row, this one included
	tooOften bool          // the part is not started again, as it crashed once more than there are pauses
}

// afterEnd decides what follows an end. crashes counts the ends in a row before it, ran is how long the process lived,
// and answered is whether the part has answered since the stack was started.
func afterEnd(e exitReport, answered bool, ran time.Duration, crashes int) sequel {
	if ran > steady {
		crashes = 0
	}
	switch {
	case !answered || e.final:
		return sequel{crashes: crashes + 1}
	case crashes >= len(pauses):
		return sequel{crashes: crashes + 1, tooOften: true}
	}
	return sequel{again: true, pause: pauses[crashes], crashes: crashes + 1}
}

// shortages remembers how many processes the kernel has killed as the memory was used up. The count is of the whole
// machine:
// an increase long ago belongs to another process. An increase just now may belong to a process whose end was not seen
// yet.
type shortages struct {
	at            time.Time // when the newer count was read
	newer, before int64
	begun         bool
}

// note reads the present count.
func (s *shortages) note(now time.Time, count int64) {
	switch {
	case !s.begun:
		*s = shortages{at: now, newer: count, before: count, begun: true}
	case now.Sub(s.at) > moment:
		*s = shortages{at: now, newer: count, before: s.newer, begun: true}
	}
}

// since reports whether the count has grown since it was read last, or since the time before if the last time was just
// now.
func (s *shortages) since(now time.Time, count int64) bool {
	if now.Sub(s.at) > moment {
		return s.begun && count > s.newer
	}
	return count > s.before
}

// look is what the keeper saw of a part whose process runs.
type look struct {
	results    []health.Result // the results of its ladder
	patience   time.Duration   // how long it may take to answer; 0: as long as the constant says
	atOnce     bool            // nothing of it has to start first, so it answers at once
	lived      time.Duration   // time since its process was started and the parts that it uses answered
	answered   bool            // this process has answered before
	state      lifecycle.State // the part's state until now
	stale      bool            // it runs with another configuration than it should
	unprepared bool            // its users and databases are not created yet
	socketGone string          // its socket, if that was deleted; "" if it exists or the part has none
	wait       time.Duration   // the wait before this look

	// These list every process of the machine, so they are called only if the answer matters. "" means that there is
	// none.
	portHolder func() string // the process that listens on its port instead
	elsewhere  func() string // where it listens itself, instead of on its port
}

// step is what the keeper does after a look.
type step int

const (
	lookAgain   step = iota // nothing has changed
	proven                  // the whole ladder holds
	reloadIt                // it holds, with the old configuration
	beginAgain              // only a new process creates its socket again
	portIsGone              // another process has its port, and waiting does not help
	isElsewhere             // it listens on another port than its own
	isUnwell                // it has answered before, or should have by now
	isStarting              // it takes long enough to show what it waits for
)

// decide returns what to do after a look, why, and how long to wait before the next look. why is "" if the ladder
// holds.
func decide(l look) (next step, why string, wait time.Duration) {
	fell := health.FirstMiss(l.results)
	switch {
	case l.answered && l.socketGone != "":
		return beginAgain, "its socket " + l.socketGone + " was deleted", l.wait
	case fell == nil && l.stale:
		return reloadIt, "", l.wait
	case fell == nil && l.unprepared: // the next look prepares its clients
		return lookAgain, "", l.wait
	case fell == nil:
		return proven, "", askAgain
	}
	if fell.Rung == kind.Ours && l.lived > moment && l.state != lifecycle.Answers {
		if holder := l.portHolder(); holder != "" {
			return portIsGone, holder, l.wait
		}
	}
	if fell.Rung == kind.Open && !l.answered && l.lived > elsewherePatience {
		if at := l.elsewhere(); at != "" {
			return isElsewhere, at, askSoon
		}
	}
	switch {
	case l.answered || l.atOnce || l.lived > cmp.Or(l.patience, patience):
		return isUnwell, fell.Miss(), min(askAgain, max(time.Second, l.wait))
	case l.lived > slow && !holds(l.results, kind.Ours):
		return isStarting, fell.Miss(), pollOwn
	case l.lived > slow: // do not ask a server that refuses the log-in at full speed
		return isStarting, fell.Miss(), min(max(2*l.wait, pollOwn), askSoon)
	}
	return lookAgain, fell.Miss(), l.wait
}

// runPoll is how often a run of a command at intervals is looked at until it has ended.
const runPoll = 500 * time.Millisecond

// untilRun shortens a pause before the next look at a command that runs at intervals, so that the end of its next run
// is seen soon. next is when that run begins, or zero if the first one goes on.
func untilRun(wait time.Duration, next, now time.Time) time.Duration {
	return min(wait, max(0, next.Sub(now))+runPoll)
}

// elsewhere says where a server listens instead of on its port, given all its addresses (host:port). It returns "" if
// the server listens nowhere, or on its port, too: then it has begun to listen since its ladder was climbed.
func elsewhere(at []string, port int) string {
	own := netip.AddrPortFrom(netip.MustParseAddr(kind.Host), uint16(port))
	for _, address := range at {
		a, err := netip.ParseAddrPort(address)
		if err == nil && a.Port() == own.Port() && (a.Addr() == own.Addr() || a.Addr().IsUnspecified()) {
			return ""
		}
	}
	if len(at) == 0 {
		return ""
	}
	return fmt.Sprintf("it listens on %s, but should listen on %s", strings.Join(at, ", "), own)
}

// holds reports whether a rung was asked and holds.
func holds(results []health.Result, rung kind.RungName) bool {
	return slices.ContainsFunc(results, func(r health.Result) bool {
		return r.Rung == rung && r.Holds != nil && *r.Holds
	})
}
