package stack

import (
	"context"
	"errors"
	"path/filepath"
	"strings"

	"dravit/internal/data"
	"dravit/internal/kind"
	"dravit/internal/members"
	"dravit/internal/pattern"
	"dravit/internal/trouble"
)

// database is a part with an SQL database, or, where only its data as a whole matter, another part that keeps data:
// kind is nil then.
type database struct {
	*Stack
	part kind.Part
	kind kind.Database
}

// Target names a database.
type Target struct {
	Part string // "": the only part with an SQL database, or the one that is main
	Name string // "": the part's own database
}

// database returns a database.
func (s *Stack) database(t Target) (database, error) {
	d, err := s.databasePart(t.Part)
	if err != nil || t.Name == "" || t.Name == d.part.Database {
		return d, err
	}
	if because := d.badName(t.Name); because != "" {
		return d, &trouble.Trouble{Code: trouble.BadName, What: "no database can be called " + t.Name, Because: because,
			Next: "dravit db access lists the databases"}
	}
	d.part.Database = t.Name
	return d, nil
}

// badName returns why a database of the part's server cannot have a name, or "".
func (d database) badName(name string) string {
	if !pattern.Of(`^[A-Za-z][A-Za-z0-9_-]{0,47}$`).MatchString(name) {
		return "a name has up to 48 letters, digits, - and _, and begins with a letter"
	}
	want := d.part.Want
	want.Database = name
	return d.kind.Fit(want, kind.Program{Version: d.part.Version, Facts: d.part.Facts})
}

// keeping returns the part whose data a mark is of: the named one of those that keep data; without a name the one that
// database returns, or, if the stack has no SQL database, its only part that keeps data.
func (s *Stack) keeping(t Target) (database, error) {
	d, err := s.database(t)
	if err == nil || t.Name != "" || trouble.CodeOf(err) != trouble.NoPart {
		return d, err
	}
	spec, specErr := s.spec()
	if specErr != nil {
		return database{}, specErr
	}
	var all []database
	var names []string
	for _, p := range spec.Parts {
		if p.Data == "" {
			continue
		}
		sql, _ := s.Kinds.Database(p)
		all, names = append(all, database{s, p, sql}), append(names, p.Name)
		if p.Name == t.Part {
			return all[len(all)-1], nil
		}
	}
	if len(all) == 1 && t.Part == "" {
		return all[0], nil
	}
	if len(all) == 0 {
		return database{}, &trouble.Trouble{Code: trouble.NoPart, What: "no part of the stack keeps data",
			Because: "a mark is of a part's data", Next: "add a part that keeps some, such as a database"}
	}
	because := "the stack's parts that keep data are " + trouble.List(names)
	if t.Part == "" {
		return database{}, &trouble.Trouble{Code: trouble.Undecided, What: "it is not clear which part is meant",
			Because: because, Next: "name one with --part"}
	}
	return database{}, &trouble.Trouble{Code: trouble.NoPart, What: "no part " + t.Part + " keeps data",
		Because: because,
		Next:    "name one with --part"}
}

// is names the database, or the part, in a sentence.
func (d database) is() string {
	if d.kind == nil {
		return "part " + d.part.Name
	}
	return "the database " + d.part.Name
}

// databasePart returns the named part, or the only one with an SQL database, or the one that is main. "" names none.
func (s *Stack) databasePart(name string) (database, error) {
	spec, err := s.spec()
	if err != nil {
		return database{}, err
	}
	if spec.ID == "" {
		return database{}, ErrNeverStarted
	}
	var all []database
	var names []string
	for _, p := range spec.Parts {
		if k, ok := s.Kinds.Database(p); ok {
			all, names = append(all, database{s, p, k}), append(names, p.Name)
		}
	}
	for _, d := range all {
		if d.part.Name == name || name == "" && (len(all) == 1 || d.part.Want.Main) {
			return d, nil
		}
	}
	t := &trouble.Trouble{Code: trouble.NoPart, What: "the stack has no SQL database",
		Because: "none of its parts is of a kind that has one", Next: "add a part of kind mariadb, postgres or sqlite"}
	switch {
	case name != "" && len(all) > 0:
		t.What, t.Because = "there is no database part "+name, "the stack's database parts are "+strings.Join(
			names,
			", ",
		)
		t.Next = "name one with --part"
	case len(all) > 1:
		t.Code, t.What = trouble.Undecided, "it is not clear which database is meant"
		t.Because, t.Next = "the stack has several: "+trouble.List(names), "name one with --part"
	}
	return database{}, t
}

// answering returns an error if the part's server does not run.
func (d database) answering() error {
	if d.part.Outside == "" && d.served() && !members.Alive(d.part.Lock) || d.part.Outside == "" && !d.Runs() {
		return &trouble.Trouble{Code: trouble.NeverStarted, What: "the database " + d.part.Name + " does not run",
			Because: "it is stopped, or its server has failed", Next: "dravit start"}
	}
	return nil
}

// served reports whether a process serves the database. Otherwise it is a file.
func (d database) served() bool { return d.Kinds.For(d.part).Command(d.part).Path != "" }

// own returns an error if the database is somebody else's: Dravit only asks it.
func (d database) own(what string) error {
	if d.part.Outside == "" {
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
	done, err = d.takeData(d.part.Data, what)
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

// takeData takes the change lock of a data folder. The caller must call done.
func (s *Stack) takeData(dataDir, what string) (done func(), err error) {
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
	return s.atRest(context.Background(), []kind.Part{p}, func() error {
		return data.FinishRewind(context.Background(), p, s.Kinds.For(p))
	})
}
