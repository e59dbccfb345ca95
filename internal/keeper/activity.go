package keeper

import (
	"time"

	"dravit/internal/kind"
	"dravit/internal/logfile"
	"dravit/internal/run"
)

// activity tells whether a part that gives no answer yet does something: it compiles its first page, say.
type activity struct {
	part         kind.Part
	looked, busy time.Time // when it was looked at, and when it last did something
	log, memory  int64     // as they were then, in bytes
}

const (
	glanceEvery = 500 * time.Millisecond // between two looks
	restsFor    = 5 * time.Second        // what has done nothing for so long does nothing
)

// goesOn reports whether the part has written to its log, or its memory has changed, in the last seconds.
func (a *activity) goesOn(now time.Time) bool {
	if now.Sub(a.looked) < glanceEvery {
		return now.Sub(a.busy) < restsFor
	}
	log := logfile.Size(a.part.Log)
	memory, _ := run.Seen(a.part).Look()
	changed := log != a.log || memory > a.memory+a.memory/64 || memory < a.memory-a.memory/64
	if a.looked.IsZero() || changed {
		a.busy = now
	}
	a.looked, a.log, a.memory = now, log, memory
	return now.Sub(a.busy) < restsFor
}
