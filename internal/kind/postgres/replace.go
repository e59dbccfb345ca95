package postgres

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"dravit/internal/health"
	"dravit/internal/kind"
)

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

// newSuffix and oldSuffix end the names of the databases that Replace fills, and that it replaced.
const newSuffix, oldSuffix = " (new, of Dravit)", " (old, of Dravit)"

// Tidy drops the databases that Replace left, and the account of loads.
func (postgres) Tidy(ctx context.Context, p kind.Part) error {
	if err := dropLoader(ctx, p); err != nil {
		return err
	}
	return asAdmin(ctx, p, func(db *pgconn.PgConn) error {
		r := db.ExecParams(ctx, "SELECT datname FROM pg_database WHERE right(datname, "+
			strconv.Itoa(len(newSuffix))+") IN ("+quote(newSuffix)+", "+quote(oldSuffix)+")", nil, nil, nil, nil).Read()
		if r.Err != nil {
			return r.Err
		}
		for _, row := range r.Rows {
			if err := drop(ctx, db, string(row[0])); err != nil {
				return err
			}
		}
		return nil
	})
}

// Replace fills a database beside the part's, and renames both in one transaction.
func (k postgres) Replace(ctx context.Context, p kind.Part, load func(staged kind.Part) error) error {
	const longest = 63 // bytes of a name (postgresql.org, "Identifiers and Key Words")
	begin := strings.ToValidUTF8(p.Database[:min(len(p.Database), longest-len(newSuffix))], "")
	staged, old := p, begin+oldSuffix
	staged.Database = begin + newSuffix
	late := context.WithoutCancel(ctx)
	if err := k.Tidy(ctx, p); err != nil {
		return err
	}
	return asAdmin(ctx, p, func(db *pgconn.PgConn) error {
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
