package mariadb

import (
	"context"
	"slices"
	"strings"

	"dravit/internal/health"
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
	name, err := admin()
	if err != nil {
		return nil, err
	}
	db, err := connectAdmin(ctx, p, name)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	found, err := db.QueryContext(ctx, "SELECT DISTINCT User, is_role FROM mysql.user ORDER BY User")
	if err != nil {
		return nil, said(err)
	}
	defer found.Close()
	others := []string{"", "root", "mariadb.sys", name, p.User}
	names := []string{}
	err = health.SQLRows(found, kind.Rows{
		Columns: func([]string) error { return nil },
		Row: func(v []*string) error {
			if *v[1] != "Y" && !slices.Contains(others, *v[0]) && !ofDravit(*v[0]) {
				names = append(names, *v[0])
			}
			return nil
		},
	})
	return names, err
}

// asAdmin runs statements as the administrator.
func asAdmin(ctx context.Context, p kind.Part, statements ...string) error {
	name, err := admin()
	if err != nil {
		return err
	}
	db, err := connectAdmin(ctx, p, name)
	if err != nil {
		return err
	}
	defer db.Close()
	for _, s := range statements {
		if _, err := db.ExecContext(ctx, s); err != nil {
			return said(err)
		}
	}
	return nil
}
