package mariadb

import (
	"context"
	"database/sql"
	"slices"
	"strings"

	"dravit/internal/kind"
)

// accountHosts are the hosts of every account: a client over the socket comes from localhost, one over TCP from its
// address, as the server resolves no names.
var accountHosts = []string{"localhost", "127.0.0.1"}

// inDatabase names the part's database as GRANT does: _ would stand for any character.
func inDatabase(p kind.Part) string {
	return dialect.Name(strings.ReplaceAll(p.Database, "_", `\_`)) + ".*"
}

// AddUser gives rights by the database's name, so they hold for what is loaded later, too.
func (mariadb) AddUser(ctx context.Context, p kind.Part, a kind.Account) error {
	rights := "ALL PRIVILEGES"
	if a.ReadOnly {
		rights = "SELECT, SHOW VIEW"
	}
	var statements []string
	for _, host := range accountHosts {
		account := dialect.Literal(a.Name) + "@" + dialect.Literal(host)
		statements = append(statements, "CREATE USER "+account+" IDENTIFIED BY "+dialect.Literal(a.Password),
			"GRANT "+rights+" ON "+inDatabase(p)+" TO "+account)
	}
	return asAdmin(ctx, p, statements...)
}

// DropUser leaves the tables: they belong to no account.
func (mariadb) DropUser(ctx context.Context, p kind.Part, name string) error {
	var accounts []string
	for _, host := range accountHosts {
		accounts = append(accounts, dialect.Literal(name)+"@"+dialect.Literal(host))
	}
	return asAdmin(ctx, p, "DROP USER IF EXISTS "+strings.Join(accounts, ", "))
}

func (mariadb) Users(ctx context.Context, p kind.Part) ([]string, error) {
	admin, err := admin()
	if err != nil {
		return nil, err
	}
	others := []string{"", "root", "mariadb.sys", admin, p.User}
	names := []string{}
	err = withAdmin(ctx, p, func(db *sql.DB) error {
		found, err := texts(ctx, db, "SELECT DISTINCT User, is_role FROM mysql.user ORDER BY User")
		for _, row := range found {
			if row[1] != "Y" && !slices.Contains(others, row[0]) && !ofDravit(row[0]) {
				names = append(names, row[0])
			}
		}
		return said(err)
	})
	return names, err
}

// asAdmin runs statements as the administrator.
func asAdmin(ctx context.Context, p kind.Part, statements ...string) error {
	return withAdmin(ctx, p, func(db *sql.DB) error {
		for _, s := range statements {
			if _, err := db.ExecContext(ctx, s); err != nil {
				return said(err)
			}
		}
		return nil
	})
}

// withAdmin runs do with a connection of the administrator.
func withAdmin(ctx context.Context, p kind.Part, do func(db *sql.DB) error) error {
	name, err := admin()
	if err != nil {
		return err
	}
	db, err := connectAdmin(ctx, p, name)
	if err != nil {
		return err
	}
	defer db.Close()
	return do(db)
}
