// Package lifecycle has the states of a part and what the keeper says about it: since when, why, and how its process
// ended.
package lifecycle

import (
	"time"

	"dravit/internal/trouble"
)

// State is what a part is doing. The keeper alone sets it.
//
//	              ┌───────────── Pausing ◄────────┐ crashed, fewer times than there are pauses
//	              ▼                               │
//	Stopped ─► Waiting ─► Starting ─► Answers ◄─► Unwell
//	   ▲                     │            │         │   crashed too often, before its first answer,
//	   │                     └────────────┴─────────┴─► or for a reason that a restart does not change: Failed
//	   └────── Stopping ◄── from any state, when somebody stops it
type State string

const (
	// Waiting: a part that it uses does not answer yet, and it has no process. It ends when all of those answer.
	Waiting State = "waiting"
	// Starting: its data and configuration are prepared, or its process runs and has not answered yet. A first filling
	// of a data folder takes seconds.
	Starting State = "starting"
	// Answers: the top rung of its ladder was asked, and every rung held that is not advisory.
	Answers State = "answers"
	// Unwell: its process lives, and a rung does not hold. It is asked again and again, and not restarted.
	Unwell State = "unwell"
	// Pausing: its process ended by itself. It is started again after a pause that grows each time; requests to its
	// sites wait.
	Pausing State = "pausing"
	// Failed: it is not started again before the next start or restart. Its cause stays.
	Failed State = "failed"
	// Stopping: its processes were told to end, and are killed if they take too long.
	Stopping State = "stopping"
	// Stopped: nothing of it lives.
	Stopped State = "stopped"
	// Asleep: stopped to save memory, until something asks for it.
	Asleep State = "asleep"
)

// worst orders the states. A stack's state is the worst state of its parts.
var worst = map[State]int{
	Answers:  0,
	Asleep:   1,
	Stopped:  2,
	Stopping: 3,
	Starting: 4,
	Waiting:  5,
	Pausing:  6,
	Unwell:   7,
	Failed:   8,
}

// Worse returns the worse of two states.
func Worse(a, b State) State {
	if worst[a] >= worst[b] {
		return a
	}
	return b
}

// Phase is what a part does on its way to its first answer.
type Phase string

const (
	PhaseWaiting   Phase = "waiting"   // for another part
	PhasePreparing Phase = "preparing" // what must be there before its process: data, a tested configuration
	PhaseStarting  Phase = "starting"  // its process runs, and does not listen yet
	PhaseAnswering Phase = "answering" // its ladder is climbed
)

// Stage is how far the start of a stack has come. A stage begins when the parts of the one before have settled.
type Stage string

const (
	StageStores  Stage = "stores"  // stores start; what uses them waits
	StageServers Stage = "servers" // so do runtimes, servers of the project's own and web servers
	StageSites   Stage = "sites"   // every part has settled, and the sites are proved
)

// Span is the time that a part spent in a phase.
type Span struct {
	Phase Phase     `json:"phase"`
	From  time.Time `json:"from"`
	To    time.Time `json:"to"`
	For   string    `json:"for,omitempty"` // the part that was waited for
}

// Exit says how a process of a part ended.
type Exit struct {
	At    time.Time `json:"at"`
	How   string    `json:"how"`    // it exited with code 1
	Code  int       `json:"code"`   // the exit code; -1 if a signal ended the process or its end was not seen
	RanMS int64     `json:"ran_ms"` // since it was started, or taken over by this keeper
	// Cause says why it ended, if other code has to know it; "" if only How says it.
	Cause trouble.Code `json:"cause,omitempty"`
	Tail  []string     `json:"log_tail,omitempty"`
}

// Status is a part's state as the keeper sees it.
type Status struct {
	Name     string    `json:"name"`
	Kind     string    `json:"kind"`
	Version  string    `json:"version"`
	State    State     `json:"state"`
	PID      int       `json:"pid,omitempty"`
	Port     int       `json:"port,omitempty"`
	Socket   string    `json:"socket,omitempty"`
	Outside  string    `json:"outside,omitempty"` // the host of a server that somebody else runs
	Memory   int64     `json:"memory_bytes"`
	Since    time.Time `json:"since,omitzero"`     // when it took this state
	ProvedAt time.Time `json:"proved_at,omitzero"` // when its whole ladder held last
	Restarts int       `json:"restarts,omitempty"` // since the stack was started
	Because  string    `json:"because,omitempty"`  // what is wrong, or what it waits for
	Next     string    `json:"next,omitempty"`
	// LastExit says how its process ended last; nil if it did not since the stack was started.
	LastExit *Exit `json:"last_exit,omitempty"`
	// Code says what is wrong, if other code has to know it; "" if only Because says it.
	Code    trouble.Code `json:"code,omitempty"`
	LogTail []string     `json:"log_tail,omitempty"` // the end of the log of a part that failed
	// the offset in its log, in bytes, of what was written since it last answered
	LogFrom  int64 `json:"log_from,omitempty"`
	LogStart int64 `json:"log_start,omitempty"` // where in its log, in bytes, its process began
}

// SiteStatus is a site's state as the keeper sees it.
type SiteStatus struct {
	Name     string    `json:"name"`
	URL      string    `json:"url"`
	State    State     `json:"state"`
	Because  string    `json:"because,omitempty"`
	Since    time.Time `json:"since,omitzero"`     // when it took this state
	ProvedAt time.Time `json:"proved_at,omitzero"` // when its whole ladder held last
	// LogFrom says, for the log of each part, at which offset in bytes the lines begin that were written since the
	// ladder held last.
	LogFrom map[string]int64 `json:"log_from,omitempty"`
}

// Progress is what changed while a stack starts. Without both it says nothing.
type Progress struct {
	Part  *Status `json:"part,omitempty"`  // its state changed
	Stage Stage   `json:"stage,omitempty"` // the start has reached it
}

// Grace is how long requests in flight may take to finish when a part restarts.
const Grace = 2 * time.Second
