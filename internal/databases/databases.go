// Package databases is what commands do with the data of a stack: load, dump, copy, query, mark and rewind. What a data
// folder is and how a change of it survives any death, package data knows; how an engine does it, its kind.
package databases

import (
	"context"
	"strings"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/trouble"
)

// Stack is a stack as far as its data are concerned. It has been started at least once.
type Stack struct {
	Host
	Home     *home.Home
	ID, Name string
	Dir      string // the project's folder
	Kinds    kind.List
	Parts    []kind.Part // as they were started last
}

// Host is what this package needs of whoever runs the stack.
type Host interface {
	// Runs reports whether the stack should run now.
	Runs() bool
	// AtRest stops the servers of parts, calls do, and starts them again, also if this process dies meanwhile. Requests
	// wait. A server that does not run stays so. parts are in the order of their names, and their data may be changed
	// by do; caches without data are emptied by it.
	AtRest(ctx context.Context, parts []kind.Part, do func() error) error
	// Environment returns the environment of a command that a user runs, whose own environment is user.
	Environment(part string, user []string) ([]string, error)
	// Loaded notes that a dump has taken the place of what a part's seed had put into its database.
	Loaded(p kind.Part) error
}

// Target names what a command works on.
type Target struct {
	Part string // "": the only part with an SQL database, or the one that is main
	Name string // "": the part's own database
	All  bool   // all that the stack keeps: for marks, which are then of every part and of the writable folders
}

// database is a part with an SQL database, or, where only its data as a whole matter, another part that keeps data:
// kind is nil then.
type database struct {
	*Stack
	part kind.Part
	kind kind.Database
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
	var all []database
	var names []string
	for _, p := range s.Parts {
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
		Because: because, Next: "name one with --part"}
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
	var all []database
	var names []string
	for _, p := range s.Parts {
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
		t.What = "there is no database part " + name
		t.Because = "the stack's database parts are " + strings.Join(names, ", ")
		t.Next = "name one with --part"
	case len(all) > 1:
		t.Code, t.What = trouble.Undecided, "it is not clear which database is meant"
		t.Because, t.Next = "the stack has several: "+trouble.List(names), "name one with --part"
	}
	return database{}, t
}
