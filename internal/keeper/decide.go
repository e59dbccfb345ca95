package keeper

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
)

// This file decides and does nothing: what becomes of a part, from what was seen of it just now. life.go does it.

const (
	askAgain  = 10 * time.Second      // between two proofs of a part that answers
	askSoon   = time.Second           // after its first proof
	pollEvery = 2 * time.Millisecond  // a part that is starting
	pollOwn   = 20 * time.Millisecond // one that starts for long, and does not listen yet
	patience  = time.Minute           // for a part to answer after its process started
	slow      = time.Second / 2       // a start that takes longer says what it waits for
	steady    = time.Minute           // running this long, a part's earlier crashes are forgotten
	// before another process on the part's port is looked for, or an end is no news any more
	moment = time.Second

	// elsewherePatience is how long a server of the project's own may listen on other ports before its own.
	elsewherePatience = 4 * time.Second
)

// pauses before a crashed part is started again; after the last it is declared failed.
var pauses = []time.Duration{100 * time.Millisecond, 500 * time.Millisecond,
	2 * time.Second, 5 * time.Second, 15 * time.Second}

// sequel is what follows the end of a part's process.
type sequel struct {
	again    bool          // another life
	pause    time.Duration // before it
	crashes  int           // in a row, with this one
	tooOften bool          // no other life, since there were as many as there are pauses
}

// afterEnd decides what follows an end. crashes counts those in a row before it, ran is how long the process lived, and
// answered tells that the part has answered since the stack was started.
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

// shortages remembers how many processes the kernel had killed for want of memory. It kills all over the machine: what
// it did long ago was another's end. What it did just now may be the end of a process that nobody has seen die yet.
type shortages struct {
	at            time.Time // of the newer count
	newer, before int64
	begun         bool
}

// note takes the count of now.
func (s *shortages) note(now time.Time, count int64) {
	switch {
	case !s.begun:
		*s = shortages{at: now, newer: count, before: count, begun: true}
	case now.Sub(s.at) > moment:
		*s = shortages{at: now, newer: count, before: s.newer, begun: true}
	}
}

// since tells whether the count of now is of more than there were at the last look, or at the one before where that was
// hardly a moment ago.
func (s *shortages) since(now time.Time, count int64) bool {
	if now.Sub(s.at) > moment {
		return s.begun && count > s.newer
	}
	return count > s.before
}

// look is what was seen of a part whose process runs.
type look struct {
	results    []health.Result // of its ladder
	lived      time.Duration   // since its process was started, and what it uses answered
	answered   bool            // this process has, before
	state      lifecycle.State // what the part was until now
	stale      bool            // it runs with another configuration than it should
	unprepared bool            // its users and databases are not made yet
	socketGone string          // its socket, where that was deleted; "": it is there, or none is wanted
	wait       time.Duration   // before this look

	// These take a look at every process of the machine, and are asked where it matters only. "" says that there is
	// none.
	portHolder func() string // who listens on its port instead
	elsewhere  func() string // where it listens itself, instead of there
}

// step is what a look leads to.
type step int

const (
	lookAgain   step = iota // nothing has changed
	proven                  // the whole ladder holds
	reloadIt                // it does, with the configuration of before
	beginAgain              // only a new process makes its socket again
	portIsGone              // another process has its port, and waiting changes nothing
	isElsewhere             // it listens, and not where it should
	isUnwell                // it has answered, or should have by now
	isStarting              // it takes long enough to say what it waits for
)

// decide returns what a look leads to, why, and how long to wait before the next. why is "" where the ladder holds.
func decide(l look) (next step, why string, wait time.Duration) {
	fell := health.FirstMiss(l.results)
	switch {
	case l.answered && l.socketGone != "":
		return beginAgain, "its socket " + l.socketGone + " was deleted", l.wait
	case fell == nil && l.stale:
		return reloadIt, "", l.wait
	case fell == nil && l.unprepared: // the next time round, its clients are
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
	case l.answered || l.lived > patience:
		return isUnwell, fell.Miss(), min(askAgain, max(time.Second, l.wait))
	case l.lived > slow && !holds(l.results, kind.Ours):
		return isStarting, fell.Miss(), pollOwn
	case l.lived > slow: // whoever refuses a log-in is not asked at full speed
		return isStarting, fell.Miss(), min(max(2*l.wait, pollOwn), askSoon)
	}
	return lookAgain, fell.Miss(), l.wait
}

// elsewhere says where a server listens instead of on its port, given all its addresses (host:port). It returns "" if
// it listens nowhere, or on its port, too: then it has begun to after the ladder was climbed.
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
	return fmt.Sprintf("it listens on %s, and should on %s", strings.Join(at, ", "), own)
}

// holds tells whether a rung was asked and holds.
func holds(results []health.Result, rung kind.RungName) bool {
	return slices.ContainsFunc(results, func(r health.Result) bool {
		return r.Rung == rung && r.Holds != nil && *r.Holds
	})
}
