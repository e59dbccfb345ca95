// Package run has the ways in which the parts of a stack run: a process, a supervised command, files alone, a server
// that somebody else runs. Whoever starts, watches, asks or stops a part does it by the part's way and its handle, and
// does not know which way it is.
//
// A plan decides the way of each part (kind.Part.Way). Another way is another file here, which registers itself.
package run

import (
	"context"
	"fmt"
	"syscall"

	"dravit/internal/kind"
	"dravit/internal/members"
	"dravit/internal/proc"
)

// Offers says what the parts of a way have. What they lack, Dravit neither does to them nor expects of them.
type Offers struct {
	// Process: something runs that has to be started first, can end, and is started again.
	Process bool
	// Data: what the part keeps is the stack's, which fills, copies, marks and deletes it.
	Data bool
	// Accounts: Dravit may create users and databases on the server.
	Accounts bool
	// Log: what the part says goes to its log, and Dravit notes there when it starts and stops.
	Log bool
}

// Way is a way to run parts. Its methods may be called by several goroutines.
type Way interface {
	Offers() Offers
	// View returns the part with its folders as its own process sees them. Its configuration and its command are made
	// for that view.
	View(p kind.Part) kind.Part
	// Start starts a part of which nothing runs, by the command that its kind gives for the View. It calls begins when
	// everything is ready and the part starts next. If it fails, nothing of the part runs.
	Start(ctx context.Context, p kind.Part, c kind.Command, begins func()) (Handle, error)
	// Adopt returns the part as another keeper left it running, or nil if its leading process is gone. note is what
	// that keeper noted last; if it is zero, the way has marks of its own.
	Adopt(p kind.Part, note Note) Handle
	// Seen returns what can be seen of a part from any process, whoever started it and whether it runs or not. note may
	// be zero. Nobody can wait for the end of it (Watch).
	Seen(p kind.Part, note Note) Handle
}

// Handle is a part as it runs, or ran. Its methods may be called by several goroutines.
type Handle interface {
	// Watch returns a channel that gets one value when the part has ended, with all that it left. It calls died at once
	// when the leading process dies, before the rest of the part is ended. It is called once for a handle of Start or
	// Adopt. The channel never gets a value if nothing of the part can end, nor for an adopted part after the context
	// has ended.
	Watch(ctx context.Context, died func()) <-chan End
	// PID returns the process that users know, or 0.
	PID() int
	// Alive reports whether anything of the part runs.
	Alive() bool
	// Includes reports whether a process belongs to the part.
	Includes(pid int) bool
	// Owns reports whether the part holds a listening socket. network is "tcp", with host:port as address, or "unix",
	// with a path. The error is proc.ErrHidden if the system does not tell.
	Owns(network, address string) (bool, error)
	// Listens returns where the part listens on TCP, as host:port.
	Listens() ([]string, error)
	// Look finds out which processes belong to the part now, and returns their memory in bytes; 0: unknown, or none.
	// changed is whether Note has changed. What Look has seen is ended by End and Stop even if it loses every mark.
	Look() (memory int64, changed bool)
	// Signal sends a signal to the leading process. If that is gone, the error is os.ErrProcessDone.
	Signal(sig syscall.Signal) error
	// End ends whatever runs of the part. When it returns nil, nothing is left.
	End(ctx context.Context) error
	// Stop asks the leading process by a signal to end, and gives it a time for that. Then it ends what is left of the
	// part, and removes the marks by which another keeper would adopt it. When it returns nil, nothing is left, and
	// Watch has told so.
	Stop(ctx context.Context, s Stop) error
	// Note returns what another keeper needs to adopt the part. It is zero if nothing of it can be adopted.
	Note() Note
}

// End is how a part ended.
type End struct {
	Code   int            // the exit code of its leading process, if nothing below says more
	Signal syscall.Signal // that ended it; 0: none
	Unseen bool           // nobody knows how: only the keeper that started an adopted process would learn it
	Left   error          // why something of the part may still run, or nil
}

// Note is how a part can be found again. It is written as JSON.
type Note struct {
	proc.Identity                 // the leading process; without a PID while it is about to start
	Members       []proc.Identity `json:"members,omitempty"` // processes that may have lost every other mark
	Own           string          `json:"own,omitempty"`     // what a way notes in its own words
}

// IsZero reports whether there is nothing to be found.
func (n Note) IsZero() bool { return n.Identity == (proc.Identity{}) && n.Own == "" }

// ways are the registered ways.
var ways = map[kind.Way]Way{}

// Register adds a way. It is called before anything runs, by init or by a test, and panics if the name is taken.
func Register(name kind.Way, w Way) {
	if ways[name] != nil {
		panic(fmt.Sprintf("run: the way %q is registered twice", name))
	}
	ways[name] = w
}

// Of returns the way of a part. A part of a way that this program does not know is taken for a process.
func Of(p kind.Part) Way { return Named(p.Way) }

// Named returns the way with a name; "" is kind.WayProcess, and so is a name that this program does not know.
func Named(name kind.Way) Way {
	if w := ways[name]; w != nil {
		return w
	}
	return ways[kind.WayProcess]
}

// Seen returns what can be seen of a part from any process.
func Seen(p kind.Part) Handle { return Of(p).Seen(p, Note{}) }

// ByLock returns what can be seen of a part of which only the lock file is known.
func ByLock(file string) Handle { return Seen(kind.Part{Lock: file}) }

// Look answers for several parts from one listing of the machine's processes. It is for one moment and one goroutine.
type Look struct{ listing members.Listing }

// Alive reports whether anything of a part runs.
func (l *Look) Alive(p kind.Part) bool {
	if x, ok := Of(p).(listed); ok {
		return x.aliveIn(&l.listing, p)
	}
	return Seen(p).Alive()
}

// AnyAlive reports whether anything runs of any of the parts.
func AnyAlive(parts []kind.Part) bool {
	var look Look
	for _, p := range parts {
		if look.Alive(p) {
			return true
		}
	}
	return false
}

// listed is a way whose parts are found in a listing of the machine's processes.
type listed interface {
	aliveIn(l *members.Listing, p kind.Part) bool
}
