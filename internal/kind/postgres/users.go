package postgres

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5/pgconn"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/version"
)

// AddUser has the account act as the application's user, so that both see what either creates. One that only reads
// reads every database of the server: rights in one would end with the next load, which replaces it.
func (postgres) AddUser(ctx context.Context, p kind.Part, a kind.Account) error {
	if a.ReadOnly && version.Compare(p.Version, "14") < 0 {
		return errors.New("an account that only reads everything needs PostgreSQL 14 (pg_read_all_data)")
	}
	create := "CREATE ROLE " + id(a.Name) + " LOGIN PASSWORD " + quote(a.Password)
	rights := "GRANT " + id(p.User) + " TO " + id(a.Name) + "; ALTER ROLE " + id(a.Name) + " SET role TO " + id(p.User)
	if a.ReadOnly {
		rights = "GRANT pg_read_all_data TO " + id(a.Name)
	}
	return asAdmin(ctx, p, func(db *pgconn.PgConn) error {
		_, err := db.Exec(ctx, create+"; "+rights).ReadAll() // one transaction
		return err
	})
}

func (k postgres) DropUser(ctx context.Context, p kind.Part, name string) error {
	databases, err := k.Names(ctx, p)
	if err != nil {
		return err
	}
	for _, database := range databases {
		in := p
		in.Database = database
		err := asAdminIn(ctx, in, func(db *pgconn.PgConn) error {
			give := "REASSIGN OWNED BY " + id(name) + " TO " + id(p.User)
			_, err := db.Exec(ctx, give+"; DROP OWNED BY "+id(name)).ReadAll()
			return err
		})
		if err != nil {
			return err
		}
	}
	return asAdmin(ctx, p, func(db *pgconn.PgConn) error {
		_, err := db.Exec(ctx, "DROP ROLE "+id(name)).ReadAll()
		return err
	})
}

func (k postgres) Users(ctx context.Context, p kind.Part) ([]string, error) {
	return health.QueryTexts(ctx, k, p, "SELECT rolname FROM pg_roles WHERE rolcanlogin AND NOT rolsuper "+
		"AND rolname NOT IN ("+quote(p.User)+", '"+loader+"') ORDER BY rolname")
}
