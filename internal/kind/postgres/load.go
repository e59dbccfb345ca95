package postgres

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"dravit/internal/dump"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/pattern"
)

// refused is what psql writes when the server refuses a statement of a dump.
var refused = pattern.New(`(?s)psql:<stdin>:(\d+): (?:ERROR|FATAL|error): +(.*)`)

// archive is how an archive of pg_dump begins (pg_dump -Fc).
const archive = "PGDMP"

// Load gives the dump to the client psql: SQL as it is, an archive of pg_dump through pg_restore. The administrator
// creates the extensions that the dump wants and this server has.
func (postgres) Load(ctx context.Context, p kind.Part, source io.Reader) (left []string, err error) {
	var out dump.Left
	name, err := admin()
	if err != nil {
		return nil, err
	}
	db, err := connect(ctx, health.Dial("unix", p.Socket), name, "", p.Database)
	if err != nil {
		return nil, err
	}
	defer db.Close(context.WithoutCancel(ctx))
	s := server{parameters: parameters(ctx, db), extension: func(name string) string {
		_, err := db.Exec(ctx, `CREATE EXTENSION IF NOT EXISTS "`+strings.ReplaceAll(name, `"`, `""`)+`"`).ReadAll()
		var refused *pgconn.PgError
		switch {
		case errors.As(err, &refused) && refused.Code == "58P01", errors.As(err, &refused) && refused.Code == "0A000":
			return "this server does not have it"
		case err != nil:
			return plain(err)
		}
		return ""
	}}
	in := bufio.NewReader(source)
	var text io.Reader = in
	if head, _ := in.Peek(len(archive)); string(head) == archive {
		restored, end, err := restore(ctx, p, in)
		if err != nil {
			return nil, err
		}
		defer end()
		text = restored
	}
	err = command.Load(
		ctx,
		p,
		forHere(text, s, &out),
		refused(),
		"psql",
		"-X",
		"-q",
		"-v",
		"ON_ERROR_STOP=1",
		"-f",
		"-",
		"-d",
		p.Database,
	)
	return out.Out, err
}

// parameters returns the names of the server's settings, or nil if it does not tell.
func parameters(ctx context.Context, db *pgconn.PgConn) map[string]bool {
	r := db.ExecParams(ctx, "SELECT name FROM pg_settings", nil, nil, nil, nil).Read()
	if r.Err != nil {
		return nil
	}
	all := map[string]bool{}
	for _, row := range r.Rows {
		all[string(row[0])] = true
	}
	return all
}

// restore runs pg_restore, which turns an archive into SQL. Its reader fails as pg_restore does. The caller must call
// end.
func restore(ctx context.Context, p kind.Part, from io.Reader) (sql io.Reader, end func(), err error) {
	program := filepath.Join(p.Conf, "bin", "pg_restore")
	if _, err := os.Stat(program); err != nil {
		return nil, nil, errors.New("it is an archive of pg_dump, and the client pg_restore is not installed")
	}
	ctx, cancel := context.WithCancel(ctx)
	read, write := io.Pipe()
	var said strings.Builder
	cmd := exec.CommandContext(ctx, program, "--no-owner", "--no-privileges", "-f", "-")
	cmd.Stdin, cmd.Stdout, cmd.Stderr, cmd.Dir, cmd.Env = from, write, &said, p.Temp, p.Env
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if err := cmd.Run(); err != nil {
			write.CloseWithError(fmt.Errorf("pg_restore: %w: %s", err, strings.TrimSpace(said.String())))
			return
		}
		write.Close()
	}()
	return read, func() { cancel(); read.Close(); <-ended }, nil
}

// Create is a part of Prepare.
func (k postgres) Create(ctx context.Context, p kind.Part) error { return k.Prepare(ctx, p) }

// Drop deletes the database as the administrator.
func (postgres) Drop(ctx context.Context, p kind.Part) error {
	return asAdmin(ctx, p, func(db *pgconn.PgConn) error { return drop(ctx, db, p.Database) })
}

// Names returns the databases that belong to the application's user.
func (k postgres) Names(ctx context.Context, p kind.Part) ([]string, error) {
	return health.QueryTexts(ctx, k, p, "SELECT datname FROM pg_database WHERE datdba = (SELECT oid FROM pg_roles "+
		"WHERE rolname = current_user) ORDER BY datname")
}

// asAdmin runs do with a connection of the administrator, to no database of the part's.
func asAdmin(ctx context.Context, p kind.Part, do func(db *pgconn.PgConn) error) error {
	p.Database = "postgres"
	return asAdminIn(ctx, p, do)
}

// asAdminIn runs do with a connection of the administrator to the part's database.
func asAdminIn(ctx context.Context, p kind.Part, do func(db *pgconn.PgConn) error) error {
	name, err := admin()
	if err != nil {
		return err
	}
	db, err := connect(ctx, health.Dial("unix", p.Socket), name, "", p.Database)
	if err != nil {
		return fmt.Errorf("the administrator %s cannot log in: %w", name, err)
	}
	defer db.Close(context.WithoutCancel(ctx))
	return do(db)
}

func id(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// leave ends every session in some databases.
func leave(databases ...string) string {
	var names []string
	for _, d := range databases {
		names = append(names, quote(d))
	}
	return "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname IN (" + strings.Join(names, ", ") +
		") AND pid <> pg_backend_pid()"
}

// persist runs statements until they succeed: somebody may connect between the end of the other sessions and them.
func persist(ctx context.Context, db *pgconn.PgConn, first, statements string) error {
	var err error
	for range 50 {
		if _, err = db.Exec(ctx, first).ReadAll(); err == nil {
			_, err = db.Exec(ctx, statements).ReadAll()
		}
		var refused *pgconn.PgError
		if !errors.As(err, &refused) || refused.Code != "55006" { // object_in_use
			return err
		}
	}
	return err
}

func drop(ctx context.Context, db *pgconn.PgConn, database string) error {
	return persist(ctx, db, leave(database), "DROP DATABASE IF EXISTS "+id(database))
}

// Replace fills a database beside the part's, and renames both in one transaction.
func (k postgres) Replace(ctx context.Context, p kind.Part, load func(staged kind.Part) error) error {
	staged, old := p, p.Database+" (old, of Dravit)"
	staged.Database = p.Database + " (new, of Dravit)"
	late := context.WithoutCancel(ctx)
	return asAdmin(ctx, p, func(db *pgconn.PgConn) error {
		for _, left := range []string{staged.Database, old} { // by one that was killed
			if err := drop(ctx, db, left); err != nil {
				return err
			}
		}
		if err := k.Prepare(ctx, staged); err != nil {
			return err
		}
		if err := load(staged); err != nil {
			return errors.Join(err, drop(late, db, staged.Database))
		}
		err := persist(
			ctx,
			db,
			leave(p.Database, staged.Database),
			"ALTER DATABASE "+id(p.Database)+" RENAME TO "+id(old)+
				"; ALTER DATABASE "+id(staged.Database)+" RENAME TO "+id(p.Database),
		) // statements sent at once are one transaction
		if err != nil {
			return errors.Join(err, drop(late, db, staged.Database))
		}
		return drop(late, db, old)
	})
}

// Dump writes one state of the database, while others use it.
func (postgres) Dump(ctx context.Context, p kind.Part, to io.Writer) error {
	return command.Dump(ctx, p, to, []string{"pg_dump"}, "--no-owner", "--no-privileges", "-d", p.Database)
}

// Query sends all statements at once, in one transaction unless they have their own.
func (postgres) Query(ctx context.Context, p kind.Part, text string, rows kind.Rows) error {
	db, err := connect(ctx, health.Dial("tcp", p.Address()), p.User, p.Password, p.Database)
	if err != nil {
		return errors.New(plain(err))
	}
	defer db.Close(context.WithoutCancel(ctx))
	results := db.Exec(ctx, text)
	for results.NextResult() {
		if err := give(results.ResultReader(), rows); err != nil {
			return errors.Join(err, results.Close())
		}
	}
	if err := results.Close(); err != nil {
		return errors.New(plain(err))
	}
	return nil
}

// Read uses the extended protocol, which takes one statement only, in a transaction that only reads (postgresql.org,
// "SET TRANSACTION").
func (postgres) Read(ctx context.Context, p kind.Part, statement string, rows kind.Rows) error {
	db, err := connect(ctx, health.Dial("tcp", p.Address()), p.User, p.Password, p.Database)
	if err != nil {
		return errors.New(plain(err))
	}
	defer db.Close(context.WithoutCancel(ctx))
	if _, err := db.Exec(ctx, "BEGIN READ ONLY").ReadAll(); err != nil {
		return errors.New(plain(err))
	}
	return give(db.ExecParams(ctx, statement, nil, nil, nil, nil), rows)
}

func give(r *pgconn.ResultReader, rows kind.Rows) error {
	var names []string
	for _, f := range r.FieldDescriptions() {
		names = append(names, f.Name)
	}
	if len(names) == 0 {
		if _, err := r.Close(); err != nil {
			return errors.New(plain(err))
		}
		return nil
	}
	if err := rows.Columns(names); err != nil {
		return err
	}
	row := make([]*string, len(names))
	for r.NextRow() {
		for i, value := range r.Values() {
			row[i] = nil
			if value != nil {
				text := string(value)
				row[i] = &text
			}
		}
		if err := rows.Row(row); err != nil {
			return err
		}
	}
	_, err := r.Close()
	if err != nil {
		return errors.New(plain(err))
	}
	return nil
}
