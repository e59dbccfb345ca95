package databases

import (
	"context"
	"io"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// Dump writes the SQL that creates a database again.
func (s *Stack) Dump(ctx context.Context, t Target, to io.Writer) error {
	d, err := s.database(t)
	if err != nil {
		return err
	}
	if err := d.answering(); err != nil {
		return err
	}
	return d.kind.Dump(ctx, d.part, to)
}

// Query runs SQL in a database as the application's user.
func (s *Stack) Query(ctx context.Context, t Target, sql string, rows kind.Rows) error {
	d, err := s.database(t)
	if err != nil {
		return err
	}
	if err := d.answering(); err != nil {
		return err
	}
	if err := d.kind.Query(ctx, d.part, sql, rows); err != nil {
		return &trouble.Trouble{Code: trouble.Refused, Subject: about.Part(d.part.Name),
			What: "the database " + d.part.Name + " refuses the query", Because: err.Error(), Next: "correct it"}
	}
	return nil
}

// Tables describes the tables of a database, and returns the name of its part.
func (s *Stack) Tables(ctx context.Context, t Target) (name string, tables []kind.Table, err error) {
	d, err := s.database(t)
	if err != nil {
		return "", nil, err
	}
	if err := d.answering(); err != nil {
		return "", nil, err
	}
	tables, err = d.kind.Tables(ctx, d.part, true)
	return d.part.Name, tables, err
}

// Shell returns the command of a database's own client, and its environment. user is the user's own
// environment.
func (s *Stack) Shell(t Target, user []string) (command, env []string, err error) {
	d, err := s.database(t)
	if err != nil {
		return nil, nil, err
	}
	if err := d.answering(); err != nil {
		return nil, nil, err
	}
	env, err = s.Environment("", user)
	return d.kind.Shell(d.part), env, err
}

// Access is how a client of the user's reaches a database.
type Access struct {
	Part     string `json:"part"`
	Kind     string `json:"kind"`
	Host     string `json:"host,omitempty"`
	Port     int    `json:"port,omitempty"`
	Socket   string `json:"socket,omitempty"`
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"` // only if it was asked for
	Database string `json:"database"`           // a name, or the path of a file
	URL      string `json:"url"`                // with the password only if it was asked for
	// Others are the other databases of the server that the application's user has; nil if the server does not answer.
	Others []string `json:"others,omitempty"`
	Users  []string `json:"users,omitempty"` // that were added
}

// Access returns how to reach a database, with its password only on request.
func (s *Stack) Access(ctx context.Context, t Target, withPassword bool) (Access, error) {
	d, err := s.database(t)
	if err != nil {
		return Access{}, err
	}
	p := d.part
	if !withPassword {
		p.Password = ""
	}
	exports := d.kind.Exports(p)
	a := Access{Part: p.Name, Kind: p.Kind, Port: p.Port, Socket: p.Socket, User: p.User, Password: p.Password,
		Database: p.Database, URL: exports.URL}
	if exports.Database != "" {
		a.Database = exports.Database
	}
	if exports.NoLogin {
		a.User, a.Password = "", ""
	}
	if p.Port != 0 {
		a.Host = p.HostName()
	}
	if !withPassword {
		a.URL = strings.Replace(a.URL, ":@", "@", 1)
	}
	if d.answering() == nil {
		if names, err := d.kind.Names(ctx, d.part); err == nil {
			a.Others = slices.DeleteFunc(names, func(name string) bool { return name == p.Database })
		}
		if d.kind.Traits().Accounts && run.Of(p).Offers().Accounts {
			a.Users, _ = d.kind.Users(ctx, d.part) // as above
		}
	}
	return a, nil
}
