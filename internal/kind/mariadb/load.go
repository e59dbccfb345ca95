package mariadb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/go-sql-driver/mysql"

	"dravit/internal/dump"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/sqltext"
)

// Load sends the dump's statements to the server itself, as the account of loads: no client reads them, so nothing in
// them can open a file of this machine.
func (mariadb) Load(ctx context.Context, p kind.Part, source io.Reader) (left []string, err error) {
	var out dump.Left
	err = asLoader(ctx, p, func(db *sql.Conn) error {
		for in := sqltext.New(source, syntax); ; {
			s, err := in.Next()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
			text := forHere(s, &out)
			if text == nil {
				continue
			}
			if _, err := db.ExecContext(ctx, string(text)); err != nil {
				if ctx.Err() != nil {
					return ctx.Err()
				}
				if strings.Contains(s.Head(), "LOCAL INFILE") {
					err = errors.New("LOCAL INFILE would read a file of this machine, and a load reads none")
				}
				return fmt.Errorf("line %d: %w", s.Line, said(err))
			}
		}
	})
	return out.Out, err
}

// loader is the account of loads. It has rights in the part's database alone, so whatever a dump says stays there. It
// exists only while a dump is loaded, and nobody knows its password.
const loader = "dravit_load"

// loaderHost is where the account comes from: over the socket.
const loaderHost = "localhost"

// asLoader runs do with a session of the account of loads. If do returns nil, what the account created then belongs to
// the application's user.
func asLoader(ctx context.Context, p kind.Part, do func(db *sql.Conn) error) error {
	if err := dropLoader(ctx, p); err != nil { // of a load that was killed
		return err
	}
	account, password := dialect.Literal(loader)+"@"+dialect.Literal(loaderHost), rand.Text()
	err := asAdmin(ctx, p, "CREATE USER "+account+" IDENTIFIED BY "+dialect.Literal(password),
		"GRANT ALL PRIVILEGES ON "+inDatabase(p)+" TO "+account)
	if err != nil {
		return err
	}
	late := context.WithoutCancel(ctx)
	err = func() error {
		c := mysql.NewConfig()
		c.Net, c.Addr, c.User, c.Passwd, c.DBName = "unix", p.Socket, loader, password, p.Database
		c.Timeout, c.MaxAllowedPacket, c.Logger = health.Deadline, 0, quiet{} // 0: ask the server
		connector, err := mysql.NewConnector(c)
		if err != nil {
			return err
		}
		db := sql.OpenDB(connector)
		defer db.Close()
		conn, err := db.Conn(ctx)
		if err != nil {
			return said(err)
		}
		defer conn.Close()
		if err := do(conn); err != nil {
			return err
		}
		return giveAway(ctx, p)
	}()
	return errors.Join(err, dropLoader(late, p))
}

// Tidy deletes the account of loads.
func (mariadb) Tidy(ctx context.Context, p kind.Part) error { return dropLoader(ctx, p) }

// dropLoader ends the sessions of the account of loads, and deletes it.
func dropLoader(ctx context.Context, p kind.Part) error {
	return withAdmin(ctx, p, func(db *sql.DB) error {
		sessions, err := texts(ctx, db, "SELECT ID FROM information_schema.PROCESSLIST WHERE USER = ?", loader)
		if err != nil {
			return err
		}
		for _, s := range sessions {
			_, _ = db.ExecContext(ctx, "KILL CONNECTION "+s[0]) // one that has ended is no error
		}
		_, err = db.ExecContext(ctx, "DROP USER IF EXISTS "+dialect.Literal(loader)+"@"+dialect.Literal(loaderHost))
		return said(err)
	})
}

// Create is a part of Prepare.
func (m mariadb) Create(ctx context.Context, p kind.Part) error { return m.Prepare(ctx, p) }

// Drop deletes the database as the administrator.
func (mariadb) Drop(ctx context.Context, p kind.Part) error {
	return asAdmin(ctx, p, "DROP DATABASE IF EXISTS "+dialect.Name(p.Database))
}

// Names asks as the application's user, who sees its own.
func (m mariadb) Names(ctx context.Context, p kind.Part) ([]string, error) {
	return health.QueryTexts(ctx, m, p, "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME NOT IN "+
		"('information_schema', 'performance_schema', 'mysql', 'sys') ORDER BY SCHEMA_NAME")
}

// Replace is impossible: MariaDB cannot rename a database with its views, triggers and routines.
func (mariadb) Replace(context.Context, kind.Part, func(kind.Part) error) error {
	return errors.ErrUnsupported
}
