package databases

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/data"
	"dravit/internal/dump"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/kind/sqlite"
	"dravit/internal/run"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// quay is who runs a stack of these tests: nobody. It notes what it was asked for.
type quay struct {
	runs   bool
	rested [][]string // the names of the parts that were at rest, each time
	loaded []string
}

func (q *quay) Runs() bool { return q.runs }

func (q *quay) AtRest(_ context.Context, parts []kind.Part, do func() error) error {
	var names []string
	for _, p := range parts {
		names = append(names, p.Name)
	}
	q.rested = append(q.rested, names)
	return do()
}

func (q *quay) Environment(part string, user []string) ([]string, error) {
	return append(user, "PART="+part), nil
}

func (q *quay) Loaded(p kind.Part) error {
	q.loaded = append(q.loaded, p.Name)
	return nil
}

// moored is a way whose parts run while their name is in it.
type moored map[string]bool

var atQuay = moored{}

func init() { run.Register("moored", atQuay) }

func (moored) Offers() run.Offers {
	return run.Offers{Process: true, Data: true, Accounts: true, Log: true}
}
func (moored) View(p kind.Part) kind.Part                { return p }
func (moored) Adopt(kind.Part, run.Note) run.Handle      { return nil }
func (m moored) Seen(p kind.Part, _ run.Note) run.Handle { return berth{alive: m[p.Name]} }
func (moored) Start(context.Context, kind.Part, kind.Command, func()) (run.Handle, error) {
	return nil, errors.ErrUnsupported
}

type berth struct {
	run.Handle
	alive bool
}

func (b berth) Alive() bool { return b.alive }

// ledgers is a kind whose data are SQLite's, and which a server would serve: it has users.
type ledgers struct {
	kind.Database
	users *[]string
}

func (ledgers) Traits() *kind.Traits {
	return &kind.Traits{Name: "ledgers", Role: kind.RoleDatabase, Way: "moored", Databases: true, Accounts: true,
		Replaces: true}
}
func (l ledgers) Users(context.Context, kind.Part) ([]string, error) {
	return slices.Clone(*l.users), nil
}
func (l ledgers) AddUser(_ context.Context, _ kind.Part, a kind.Account) error {
	*l.users = append(*l.users, a.Name)
	return nil
}
func (l ledgers) DropUser(_ context.Context, _ kind.Part, name string) error {
	*l.users = slices.DeleteFunc(*l.users, func(x string) bool { return x == name })
	return nil
}
func (ledgers) Fit(want stackfile.PartConfig, _ kind.Program) string {
	if want.User == "root" || want.Database == "system" {
		return "the server keeps that name for itself"
	}
	return ""
}
func (ledgers) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Data: true, Series: 1} }

// crates is a store that is no SQL database.
type crates struct{ kind.StoreDefaults }

func (crates) Traits() *kind.Traits                  { return &kind.Traits{Name: "crates", Role: kind.RoleCache} }
func (crates) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Data: true, Series: 1} }
func (crates) Command(kind.Part) kind.Command        { return kind.Command{} }
func (crates) Ladder(kind.Part) []kind.Rung          { return nil }

// pier is a running stack with these parts: db is a file, office a served database, store keeps crates, far is
// somebody else's.
func pier(t *testing.T, names ...string) (*Stack, *quay) {
	t.Helper()
	dir := t.TempDir()
	q := &quay{runs: true}
	s := &Stack{Host: q, Home: &home.Home{Dir: filepath.Join(dir, "home"), Run: filepath.Join(dir, "run")}, ID: "abc",
		Name: "pier", Dir: filepath.Join(dir, "project"),
		Kinds: kind.List{sqlite.New(), ledgers{sqlite.New().(kind.Database), &[]string{}}, crates{}}}
	require.NoError(t, os.MkdirAll(s.Dir, 0o700))
	for _, folder := range []string{s.Home.Stack("abc", "data"), s.Home.Path("templates")} {
		require.NoError(t, os.MkdirAll(folder, 0o700))
	}
	for _, name := range names {
		p := kind.Part{Name: name, Kind: "sqlite", Way: kind.WayFiles, Role: kind.RoleDatabase, Version: "3.40",
			Database: "ferry", User: "ferry", Password: "salt"}
		switch name {
		case "office":
			p.Kind, p.Way = "ledgers", "moored"
			atQuay[name] = true
		case "store":
			p.Kind, p.Way, p.Role = "crates", "moored", kind.RoleCache
		case "far":
			p.Kind, p.Way, p.Outside, p.Port = "ledgers", kind.WayOutside, "10.0.0.7", 3306
		}
		if name != "far" {
			p.Data = s.Home.Stack("abc", "data", name)
			_, err := data.Ensure(t.Context(), s.Home, p, s.Kinds.Of(p.Kind))
			require.NoError(t, err)
		}
		s.Parts = append(s.Parts, p)
	}
	return s, q
}

// load loads SQL into a database.
func (s *Stack) loadText(t *testing.T, of Target, sql string) (Loaded, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "dump.sql")
	require.NoError(t, os.WriteFile(file, []byte(sql), 0o600))
	f, err := os.Open(file)
	require.NoError(t, err)
	d, err := dump.New(t.Context(), f)
	require.NoError(t, err)
	defer d.Close()
	return s.Load(t.Context(), of, d, func(Bytes) {})
}

const boats = "CREATE TABLE boats (name TEXT);\nINSERT INTO boats VALUES ('Cormorant');\n"

// rows returns the names in the table boats.
func (s *Stack) rows(t *testing.T, of Target) (names []string) {
	t.Helper()
	require.NoError(t, s.Query(t.Context(), of, "SELECT name FROM boats ORDER BY name", kind.Rows{
		Columns: func([]string) error { return nil },
		Row: func(values []*string) error {
			names = append(names, *values[0])
			return nil
		},
	}))
	return names
}

func (s *Stack) exec(t *testing.T, of Target, sql string) {
	t.Helper()
	require.NoError(t, s.Query(t.Context(), of, sql, kind.Rows{
		Columns: func([]string) error { return nil }, Row: func([]*string) error { return nil },
	}))
}

// which database is meant, and what an unclear name is answered with.
func TestWhichDatabase(t *testing.T) {
	for name, c := range map[string]struct {
		parts  []string
		main   string
		target Target
		want   string // the part
		code   trouble.Code
		says   string
	}{
		"the only one":     {parts: []string{"db", "store"}, want: "db"},
		"the named one":    {parts: []string{"db", "office"}, target: Target{Part: "office"}, want: "office"},
		"the main one":     {parts: []string{"db", "office"}, main: "office", want: "office"},
		"several":          {parts: []string{"db", "office"}, code: trouble.Undecided, says: "db, office"},
		"none":             {parts: []string{"store"}, code: trouble.NoPart, says: "none of its parts"},
		"another name":     {parts: []string{"db"}, target: Target{Part: "x"}, code: trouble.NoPart, says: "are db"},
		"another database": {parts: []string{"office"}, target: Target{Name: "archive"}, want: "office"},
		"a bad name": {parts: []string{"office"}, target: Target{Name: "1 a"}, code: trouble.BadName,
			says: "48"},
		"a name of its own": {parts: []string{"office"}, target: Target{Name: "system"}, code: trouble.BadName,
			says: "keeps"},
		"its own by its name": {parts: []string{"db"}, target: Target{Name: "ferry"}, want: "db"},
	} {
		s, _ := pier(t, c.parts...)
		for i := range s.Parts {
			s.Parts[i].Want.Main = s.Parts[i].Name == c.main
		}
		d, err := s.database(c.target)
		if c.code != "" {
			assert.Equal(t, c.code, trouble.CodeOf(err), name)
			assert.ErrorContains(t, err, c.says, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.want, d.part.Name, name)
	}
	s, _ := pier(t, "office")
	d, err := s.database(Target{Name: "archive"})
	require.NoError(t, err)
	assert.Equal(t, "archive", d.part.Database)
}

// Marks are also of parts that keep data without being a database.
func TestWhichData(t *testing.T) {
	s, _ := pier(t, "store")
	d, err := s.keeping(Target{})
	require.NoError(t, err)
	assert.Equal(t, "store", d.part.Name)
	assert.Equal(t, "part store", d.is())
	s, _ = pier(t, "db", "store")
	d, err = s.keeping(Target{Part: "store"})
	require.NoError(t, err)
	assert.Equal(t, "store", d.part.Name)
	d, err = s.keeping(Target{})
	require.NoError(t, err)
	assert.Equal(t, "the database db", d.is(), "a database goes before")
	_, err = s.keeping(Target{Part: "x"})
	require.ErrorContains(t, err, "db, store")
	_, err = s.keeping(Target{Part: "x", Name: "archive"})
	require.ErrorContains(t, err, "no database part x")
	s.Parts = nil
	_, err = s.keeping(Target{})
	require.ErrorContains(t, err, "no part of the stack keeps data")
	s, _ = pier(t, "store", "store")
	_, err = s.keeping(Target{})
	assert.Equal(t, trouble.Undecided, trouble.CodeOf(err))
}

// Whoever asks a database whose server does not run is told to start it.
func TestAnswering(t *testing.T) {
	for _, c := range []struct {
		part        string
		runs, alive bool
		want        bool
	}{
		{"db", true, false, true}, {"db", false, false, false}, {"office", true, true, true},
		{"office", true, false, false}, {"office", false, true, false}, {"far", false, false, true},
	} {
		s, q := pier(t, c.part)
		q.runs, atQuay["office"] = c.runs, c.alive
		d, err := s.databasePart("")
		require.NoError(t, err)
		assert.Equal(t, c.want, d.answering() == nil, c)
	}
	atQuay["office"] = false
	s, _ := pier(t, "office")
	atQuay["office"] = false
	for _, ask := range []func() error{
		func() error { return s.Dump(t.Context(), Target{}, io.Discard) },
		func() error { return s.Query(t.Context(), Target{}, "", kind.Rows{}) },
		func() error { _, _, err := s.Tables(t.Context(), Target{}); return err },
		func() error { _, _, err := s.Shell(Target{}, nil); return err },
		func() error { _, err := s.loadText(t, Target{}, boats); return err },
		func() error { return s.AddDatabase(t.Context(), "", "archive") },
		func() error { _, err := s.AddUser(t.Context(), Target{}, "clerk", false); return err },
		func() error { _, err := s.CopyFrom(t.Context(), Target{}, s, Target{}, nil); return err },
	} {
		assert.Equal(t, trouble.NeverStarted, trouble.CodeOf(ask()))
	}
}

// What is somebody else's is asked, and not changed.
func TestOfSomebodyElse(t *testing.T) {
	s, _ := pier(t, "far")
	for _, change := range []func() error{
		func() error { _, err := s.loadText(t, Target{}, boats); return err },
		func() error { _, _, err := s.Mark(t.Context(), Target{}, ""); return err },
		func() error { _, _, err := s.Marks(Target{}); return err },
		func() error { return s.AddDatabase(t.Context(), "", "archive") },
		func() error { _, err := s.AddUser(t.Context(), Target{}, "clerk", false); return err },
	} {
		err := change()
		assert.Equal(t, trouble.WrongKind, trouble.CodeOf(err))
		assert.ErrorContains(t, err, "10.0.0.7:3306")
	}
	_, _, err := s.Mark(t.Context(), Target{All: true}, "")
	assert.ErrorContains(t, err, "nothing to mark")
	a, err := s.Access(t.Context(), Target{}, true)
	require.NoError(t, err)
	assert.Equal(t, "10.0.0.7", a.Host)
	assert.Empty(t, a.Users, "they are not asked for")
}

func TestQueries(t *testing.T) {
	s, _ := pier(t, "db")
	s.exec(t, Target{}, boats)
	assert.Equal(t, []string{"Cormorant"}, s.rows(t, Target{}))
	err := s.Query(t.Context(), Target{}, "SELECT * FROM tides", kind.Rows{})
	assert.Equal(t, trouble.Refused, trouble.CodeOf(err))
	assert.ErrorContains(t, err, "tides")
	name, tables, err := s.Tables(t.Context(), Target{})
	require.NoError(t, err)
	assert.Equal(t, "db", name)
	require.Len(t, tables, 1)
	assert.EqualValues(t, 1, *tables[0].Rows)
	var sql strings.Builder
	require.NoError(t, s.Dump(t.Context(), Target{}, &sql))
	assert.Contains(t, sql.String(), "Cormorant")
	_, env, err := s.Shell(Target{}, []string{"A=1"})
	require.NoError(t, err)
	assert.Equal(t, []string{"A=1", "PART="}, env)
}

// A password is shown only on request.
func TestAccess(t *testing.T) {
	s, _ := pier(t, "office")
	s.Parts[0].Port = 3306
	a, err := s.Access(t.Context(), Target{}, false)
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1", a.Host)
	assert.Empty(t, a.Password)
	assert.NotContains(t, a.URL, "salt")
	file, _ := pier(t, "db")
	a, err = file.Access(t.Context(), Target{}, true)
	require.NoError(t, err)
	assert.Empty(t, a.Password, "a file has none")
	assert.Equal(t, filepath.Join(file.Parts[0].Data, "ferry.sqlite"), a.Database)
	assert.Empty(t, a.Host)
}

// maria stands for a kind of server whose dumps say what wrote them.
type maria struct{ crates }

func (maria) Traits() *kind.Traits                  { return &kind.Traits{Name: "mariadb", Role: kind.RoleDatabase} }
func (maria) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Data: true, Series: 2} }

// Only a dump of a newer series of the same kind of server is one to tell of.
func TestNewerDumps(t *testing.T) {
	const written = "-- MariaDB dump 10.19  Distrib "
	for text, newer := range map[string]bool{
		written + "11.8.2-MariaDB\n": true, written + "10.12.1-MariaDB\n": true, written + "10.11.9-MariaDB\n": false,
		written + "9.9\n": false, written + "\n": false, boats: false,
		"-- PostgreSQL database dump\n-- Dumped from database version 17.2\n": false,
	} {
		file := filepath.Join(t.TempDir(), "dump.sql")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		f, err := os.Open(file)
		require.NoError(t, err)
		d, err := dump.New(t.Context(), f)
		require.NoError(t, err)
		found := Newer(kind.List{maria{}}, kind.Part{Kind: "mariadb", Name: "db", Version: "10.11.3"}, d)
		assert.Equal(t, newer, found != nil, text)
		d.Close()
	}
}
