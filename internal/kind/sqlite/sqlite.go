// Package sqlite is the kind for SQLite databases: a file, and no server.
package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"sync"

	lib "modernc.org/sqlite/lib"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// New returns the kind.
func New() kind.Kind { return sqlite{} }

type sqlite struct{ kind.StoreDefaults }

var _ kind.Database = sqlite{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Way:       kind.WayFiles,
		Name:      "sqlite",
		Signs:     signs,
		Role:      kind.RoleDatabase,
		Keys:      []string{"main", "database", "seed"},
		BuiltIn:   lib.SQLITE_VERSION,
		Databases: true,
		Replaces:  true,
	}
})

func (sqlite) Traits() *kind.Traits { return traits() }

func (sqlite) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Data: true, Series: 1} }
func (sqlite) Command(kind.Part) kind.Command        { return kind.Command{} }
func (sqlite) Template(p kind.Part) string           { return "database=" + p.Database }

func path(p kind.Part) string { return filepath.Join(p.Data, p.Database+".sqlite") }

func (sqlite) Exports(p kind.Part) kind.Exports {
	link := "sqlite://" + (&url.URL{Path: path(p)}).EscapedPath() // sqlite:///absolute/path
	return kind.Exports{
		URL:      link,
		Database: path(p),
		NoLogin:  true,
		Common:   map[string]string{"DATABASE_URL": link, "DB_CONNECTION": "sqlite", "DB_DATABASE": path(p)},
	}
}

// open opens a file in a mode: rw to change it, ro to read it.
func open(file, mode string) (*sql.DB, error) {
	u := url.URL{Scheme: "file", Path: file, RawQuery: "mode=" + mode + "&_pragma=busy_timeout(3000)"}
	return sql.Open("sqlite", u.String())
}

// Fill creates an empty database in write-ahead mode, in which readers and a writer do not wait for each other.
func (sqlite) Fill(ctx context.Context, p kind.Part, dir string) error {
	file := filepath.Join(dir, p.Database+".sqlite")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		return err
	}
	db, err := open(file, "rw")
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, "PRAGMA journal_mode = WAL")
	return err
}

// with runs do with one connection to the part's database: a transaction belongs to one.
func with(ctx context.Context, p kind.Part, do func(conn *sql.Conn) error) error {
	db, err := open(path(p), "rw")
	if err != nil {
		return err
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return do(conn)
}

func (sqlite) Ladder(p kind.Part) []kind.Rung {
	return []kind.Rung{
		{Name: kind.Open, Ask: func(context.Context) error {
			f, err := os.OpenFile(path(p), os.O_RDWR, 0)
			if err != nil {
				return err
			}
			return f.Close()
		}},
		{Name: kind.Greets, Ask: func(ctx context.Context) error {
			return with(ctx, p, func(conn *sql.Conn) error {
				var verdict string
				if err := conn.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&verdict); err != nil {
					return err
				}
				if verdict != "ok" {
					return &kind.Miss{Expected: "an intact database", Got: verdict}
				}
				return nil
			})
		}},
		{Name: kind.Works, Ask: func(ctx context.Context) error {
			// A temporary table exists in this connection only, so the project's file is not written to.
			return with(ctx, p, func(conn *sql.Conn) error {
				var sum int
				if _, err := conn.ExecContext(ctx,
					"CREATE TEMP TABLE dravit_probe AS SELECT 40 AS n UNION ALL SELECT 2"); err != nil {
					return err
				}
				if err := conn.QueryRowContext(ctx, "SELECT SUM(n) FROM dravit_probe").Scan(&sum); err != nil {
					return err
				}
				if sum != 42 {
					return &kind.Miss{Expected: "42", Got: fmt.Sprint(sum)}
				}
				return nil
			})
		}},
	}
}

func (sqlite) DeepChecks(p kind.Part) []kind.DeepCheck {
	return health.SQLDeepChecks(func(context.Context) (*sql.DB, error) { return open(path(p), "rw") })
}
