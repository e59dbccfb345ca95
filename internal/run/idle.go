package run

import (
	"context"
	"os"
	"syscall"

	"dravit/internal/kind"
)

// idle is a way in which nothing runs: the part consists of files, or somebody else runs it.
type idle struct{ offers Offers }

func init() {
	Register(kind.WayFiles, idle{Offers{Data: true, Accounts: true}})
	Register(kind.WayOutside, idle{})
}

func (i idle) Offers() Offers           { return i.offers }
func (idle) View(p kind.Part) kind.Part { return p }
func (idle) Adopt(kind.Part, Note) Handle {
	return nil // it is looked at as if it were new
}
func (idle) Seen(kind.Part, Note) Handle { return nothing{} }

func (idle) Start(context.Context, kind.Part, kind.Command, func()) (Handle, error) {
	return nothing{}, nil
}

// nothing is the handle of a part of which nothing runs.
type nothing struct{}

func (nothing) Watch(context.Context, func()) <-chan End { return nil }
func (nothing) PID() int                                 { return 0 }
func (nothing) Alive() bool                              { return false }
func (nothing) Includes(int) bool                        { return false }
func (nothing) Owns(_, _ string) (bool, error)           { return false, nil }
func (nothing) Listens() ([]string, error)               { return nil, nil }
func (nothing) Look() (memory int64, changed bool)       { return 0, false }
func (nothing) Signal(syscall.Signal) error              { return os.ErrProcessDone }
func (nothing) End(context.Context) error                { return nil }
func (nothing) Stop(context.Context, Stop) error         { return nil }
func (nothing) Note() Note                               { return Note{} }
