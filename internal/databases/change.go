package databases

import (
	"context"
	"errors"
	"path/filepath"

	"dravit/internal/data"
	"dravit/internal/kind"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// answering returns an error if the part's server does not run.
func (d database) answering() error {
	if d.own("") == nil && (d.served() && !run.Seen(d.part).Alive() || !d.Runs()) {
		return &trouble.Trouble{Code: trouble.NeverStarted, What: "the database " + d.part.Name + " does not run",
			Because: "it is stopped, or its server has failed", Next: "dravit start"}
	}
	return nil
}

// served reports whether a process serves the database. Otherwise it is a file.
func (d database) served() bool { return run.Of(d.part).Offers().Process }

// own returns an error if the database is somebody else's: Dravit only asks it.
func (d database) own(what string) error {
	if run.Of(d.part).Offers().Data {
		return nil
	}
	return &trouble.Trouble{Code: trouble.WrongKind, What: what + " is not for " + d.is(),
		Because: "its server runs outside of Dravit, at " + d.part.Address(),
		Next:    "use that server's own tools, or a database of the stack's own"}
}

// change takes the data for a command that changes them as a whole. The caller must call done.
func (d database) change(what string) (done func(), err error) {
	if err := d.own(what); err != nil {
		return nil, err
	}
	done, err = d.TakeData(d.part.Data, what)
	if err != nil {
		return nil, err
	}
	if err = d.finishRewind(d.part); err == nil {
		err = d.putRight()
	}
	if err != nil {
		done()
		return nil, err
	}
	return done, nil
}

// putRight puts right what a load left that died. The caller has taken the data.
func (d database) putRight() error {
	if !data.Torn(d.part.Data) {
		return nil
	}
	if d.answering() != nil {
		return &trouble.Trouble{Code: trouble.Busy, What: "the data of " + d.part.Name + " cannot be changed",
			Because: "a load died, and what it left is not put right yet", Next: "dravit start, which does that"}
	}
	return data.PutRight(context.Background(), d.part, d.kind)
}

// TakeData takes the change lock of a data folder: until done is called, no other command changes the data.
func (s *Stack) TakeData(dataDir, what string) (done func(), err error) {
	unlock, err := data.Change(dataDir)
	if errors.Is(err, data.ErrBusy) {
		of := "the database " + filepath.Base(dataDir)
		if filepath.Base(dataDir) == filepath.Base(data.All("")) {
			of = "the whole stack"
		}
		return nil, &trouble.Trouble{Code: trouble.Busy, What: what + " cannot begin",
			Because: "another command loads, marks or rewinds " + of, Next: "wait until it has ended"}
	}
	if err != nil {
		return nil, err
	}
	return func() {
		if !s.Runs() { // no keeper does it
			_ = data.Sweep(dataDir) // else the next command does
		}
		unlock()
	}, nil
}

// finishRewind finishes a rewind of the whole stack that died, as far as the part is concerned.
func (s *Stack) finishRewind(p kind.Part) error {
	if !data.ToFinish(p.Data) {
		return nil
	}
	return s.AtRest(context.Background(), []kind.Part{p}, func() error {
		return data.FinishRewind(context.Background(), p, s.Kinds.Of(p.Kind))
	})
}
