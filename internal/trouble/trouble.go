// Package trouble has the error type of Dravit's core: a failure with a code, so that other code need not compare
// sentences. A Trouble crosses the keeper's socket as JSON, and errors.Is gives the same answer on both sides.
package trouble

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"syscall"

	"dravit/internal/about"
)

// Code says what happened. The zero Code says nothing. A Code is an error, so that errors.Is(err, NoSpace) asks for it.
type Code string

// Why a part does not answer:
const (
	PortTaken     Code = "port-taken"     // another program has the port
	SocketTaken   Code = "socket-taken"   // another program has the part's socket
	SocketGone    Code = "socket-gone"    // the part's socket was deleted
	ConfigRefused Code = "config-refused" // the program's own test refuses its configuration
	OutOfMemory   Code = "out-of-memory"  // the kernel killed the process as the memory was used up
	Killed        Code = "killed"         // something outside killed the process
	Exited        Code = "exited"         // the process ended by itself
	Elsewhere     Code = "elsewhere"      // the server listens on another port than its own
	Exposed       Code = "exposed"        // it listens to other machines, and the user of this one did not agree
)

// Why there is no plan:
const (
	NoProgram     Code = "no-program"     // no program of this machine fits the part
	NoExtension   Code = "no-extension"   // a program lacks an extension that the part needs
	NeedsConsent  Code = "needs-consent"  // it would convert data for good, and the user has not agreed
	NotOnPath     Code = "not-on-path"    // the program is there, and PATH does not find it
	NoPort        Code = "no-port"        // every port that could be given is taken
	PortForbidden Code = "port-forbidden" // this user may not open the port
	Contradiction Code = "contradiction"  // two lines of the stack file exclude each other
	Undecided     Code = "undecided"      // several things fit, and the stack file names none
	WrongKind     Code = "wrong-kind"     // a part cannot do what the stack file has it do
	NotThere      Code = "not-there"      // a file or folder of the project is missing
	Outside       Code = "outside"        // a path leads out of the project
	Reserved      Code = "reserved"       // the setting or name is not a repository's to decide
)

// Why a command failed:
const (
	NoSpace      Code = "no-space"       // the file system is full
	QuotaUsedUp  Code = "quota-used-up"  // your account's disk quota is used up
	ReadOnly     Code = "read-only"      // the file system is read-only
	Forbidden    Code = "forbidden"      // this account may not do that
	NoExec       Code = "no-exec"        // Dravit's folder is on a file system that starts no programs
	RunFolder    Code = "run-folder"     // the folder of Dravit's sockets is another user's, or no folder
	Damaged      Code = "damaged"        // a file of Dravit's and its copy cannot be read
	KeeperSilent Code = "keeper-silent"  // the keeper runs and does not answer
	KeeperGone   Code = "keeper-gone"    // no keeper accepted the request: none runs, or it was about to end
	NoStack      Code = "no-stack"       // there is no such stack
	NeverStarted Code = "never-started"  // the stack has no place on this machine yet
	NoPart       Code = "no-part"        // the stack has no such part
	NoSite       Code = "no-site"        // the stack has no such site
	NoTask       Code = "no-task"        // the stack has no such task
	TaskFailed   Code = "task-failed"    // a task of the stack failed
	SeedFailed   Code = "seed-failed"    // the seed of a database was not loaded
	Busy         Code = "busy"           // another command changes the same data
	LoadFailed   Code = "load-failed"    // a dump was not loaded
	NoMark       Code = "no-mark"        // the database has no such mark
	NoMail       Code = "no-mail"        // no such mail came in time
	BadName      Code = "bad-name"       // nothing can have this name
	Refused      Code = "refused"        // a database refuses a statement
	NoExtensions Code = "no-extensions"  // no part, or not exactly one, has extensions to switch
	NoProject    Code = "no-project"     // a folder holds nothing that could be a stack
	BadFolder    Code = "bad-folder"     // the folder cannot be a project
	BadStackFile Code = "bad-stack-file" // the stack file has a fault
	BadSettings  Code = "bad-settings"   // Dravit's own settings have a fault
	NotEditable  Code = "not-editable"   // the stack file is written in a way that Dravit does not edit
	ForeignFile  Code = "foreign-file"   // the file is not Dravit's to write
	NoSource     Code = "no-source"      // no source of programs is known, or it does not answer
	NoWay        Code = "no-way"         // this machine has no way to do it
	Unanswered   Code = "unanswered"     // it needs your word, and there was nobody to ask
	BadPassword  Code = "bad-password"   // this cannot be a password
)

// Error returns the code itself.
func (c Code) Error() string { return string(c) }

// system are the errors of the operating system that a code stands for.
var system = []struct {
	code Code
	err  error
}{
	{NoSpace, syscall.ENOSPC},
	{QuotaUsedUp, syscall.EDQUOT},
	{ReadOnly, syscall.EROFS},
	{Forbidden, fs.ErrPermission},
}

// Trouble is a failure with a code and the three parts of a message.
type Trouble struct {
	Code    Code          `json:"code,omitempty"`
	Subject about.Subject `json:"subject"` // about.Nothing if it is about nothing in particular
	What    string        `json:"what"`
	Because string        `json:"because"`
	Next    string        `json:"next"` // what to do or type
	// Err is the underlying error. It is nil if there is none, or if it stayed on the other side of a socket.
	Err error `json:"-"`
}

// Error returns What and Because in one line.
func (t *Trouble) Error() string {
	if t.Because == "" {
		return t.What
	}
	return t.What + ": " + t.Because
}

// Unwrap returns the error behind it.
func (t *Trouble) Unwrap() error { return t.Err }

// Is reports whether target is the trouble's Code, or an error of the system that the code stands for.
func (t *Trouble) Is(target error) bool {
	if code, ok := target.(Code); ok {
		return code != "" && code == t.Code
	}
	for _, s := range system {
		if s.code == t.Code && s.err == target {
			return true
		}
	}
	return false
}

// Of returns the first Trouble in an error's chain. For any other error it makes one, with the error's text as What and
// the code that stands for an error of the operating system.
func Of(err error) *Trouble {
	var t *Trouble
	if errors.As(err, &t) {
		return t
	}
	t = &Trouble{What: err.Error(), Err: err}
	for _, s := range system {
		if errors.Is(err, s.err) {
			t.Code = s.code
		}
	}
	return t
}

// CodeOf returns the code of Of(err), or "" for nil.
func CodeOf(err error) Code {
	if err == nil {
		return ""
	}
	return Of(err).Code
}

// NoSuchPart returns the error which says that a stack has no part of that name, and lists its parts.
func NoSuchPart(name string, parts []string) *Trouble {
	return &Trouble{
		Code:    NoPart,
		Subject: about.Part(name),
		What:    fmt.Sprintf("the stack has no part %q", name),
		Because: "its parts are " + List(parts),
	}
}

// mostNames is how many names one line of a message has.
const mostNames = 8

// List returns names as a text for people contains them: "a, b, c", and of many the first ones, "and 12 more".
func List(names []string) string {
	if len(names) > mostNames+1 {
		names = append(slices.Clone(names[:mostNames]), fmt.Sprintf("and %d more", len(names)-mostNames))
	}
	return strings.Join(names, ", ")
}

// Paste begins each line of a stack file within a text for people: it is shown on a line of its own, as it is, to be
// pasted.
const Paste = "\n\t"

// Lines returns lines of a stack file as a text for people contains them.
func Lines(lines ...string) string { return Paste + strings.Join(lines, Paste) }
