// Package trouble gives failures a code, so that code that has to know what happened need not read a sentence.
package trouble

import "errors"

// Code says what happened. The zero Code says nothing.
type Code string

const (
	PortTaken     Code = "port-taken"     // another program has the part's port
	SocketTaken   Code = "socket-taken"   // another program has the part's socket
	SocketGone    Code = "socket-gone"    // the part's socket was deleted
	ConfigRefused Code = "config-refused" // the program's own test refuses its configuration
	OutOfMemory   Code = "out-of-memory"  // the kernel killed the process for want of memory
	Killed        Code = "killed"         // something outside killed the process
	Exited        Code = "exited"         // the process ended by itself
	Elsewhere     Code = "elsewhere"      // the server listens, but not where it should
	NeedsConsent  Code = "needs-consent"  // it would change data for good, and nobody consented
)

// Trouble is a failure with a code and the three parts of a message.
type Trouble struct {
	Code    Code   `json:"code"`
	Subject string `json:"subject,omitempty"` // a path of the stack file, such as part.db; "" if it speaks of no one thing
	What    string `json:"what"`
	Because string `json:"because,omitempty"`
	Next    string `json:"next,omitempty"` // what to do or type
}

// Error returns what happened and because of what, in one line.
func (t *Trouble) Error() string {
	if t.Because == "" {
		return t.What
	}
	return t.What + ": " + t.Because
}

// CodeOf returns the code of the first Trouble in an error's chain, the zero Code if there is none.
func CodeOf(err error) Code {
	var t *Trouble
	if errors.As(err, &t) {
		return t.Code
	}
	return ""
}
