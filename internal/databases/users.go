package databases

import (
	"context"
	"crypto/rand"
	"slices"

	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/trouble"
)

// AddUser creates another account for a database, and returns it with its password, which is random and not kept. The
// account has all rights of the application's user, or only reads.
func (s *Stack) AddUser(ctx context.Context, t Target, name string, readOnly bool) (kind.Account, error) {
	d, names, err := s.accounts(ctx, t, name)
	if err != nil {
		return kind.Account{}, err
	}
	if slices.Contains(names, name) {
		return kind.Account{}, noUser(d, "there is a user "+name+" already", names)
	}
	a := kind.Account{Name: name, Password: rand.Text(), ReadOnly: readOnly}
	return a, d.kind.AddUser(ctx, d.part, a)
}

// DropUser deletes an account that AddUser created.
func (s *Stack) DropUser(ctx context.Context, t Target, name string) error {
	d, names, err := s.accounts(ctx, t, name)
	if err != nil {
		return err
	}
	if !slices.Contains(names, name) {
		return noUser(d, "there is no user "+name, names)
	}
	return d.kind.DropUser(ctx, d.part, name)
}

// accounts returns a database, and the accounts that AddUser created for its server.
func (s *Stack) accounts(ctx context.Context, t Target, name string) (database, []string, error) {
	d, err := s.database(t)
	if err != nil {
		return d, nil, err
	}
	if !d.kind.Traits().Accounts {
		return d, nil, &trouble.Trouble{Code: trouble.WrongKind, What: "the database " + d.part.Name + " has no users",
			Because: "it is of kind " + d.part.Kind + ", a file", Next: "its file's owner and mode say who may use it"}
	}
	if err := d.own("that"); err != nil {
		return d, nil, err
	}
	if err := d.answering(); err != nil {
		return d, nil, err
	}
	because := ""
	want := d.part.Want
	want.User = name
	switch {
	case !pattern.Of(`^[A-Za-z][A-Za-z0-9_]{0,31}$`).MatchString(name):
		because = "a name has up to 32 letters, digits and _, and begins with a letter"
	case name == d.part.User:
		because = "it is the application's own user"
	default:
		because = d.kind.Fit(want, kind.Program{Version: d.part.Version, Facts: d.part.Facts})
	}
	if because != "" {
		return d, nil, &trouble.Trouble{Code: trouble.BadName, What: "no user can be called " + name, Because: because,
			Next: "give another name"}
	}
	names, err := d.kind.Users(ctx, d.part)
	return d, names, err
}

func noUser(d database, what string, names []string) error {
	t := &trouble.Trouble{Code: trouble.BadName, What: what, Because: "no user was added to " + d.part.Name,
		Next: "dravit db access shows the users"}
	if len(names) > 0 {
		t.Because = "the users that were added to " + d.part.Name + " are " + trouble.List(names)
	}
	return t
}
