package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"io"
	"path/filepath"

	"github.com/go-sql-driver/mysql"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/kind/command"
)

// Dump writes one state of the database, while others use it.
func (mariadb) Dump(ctx context.Context, p kind.Part, to io.Writer) error {
	return command.Dump(
		ctx,
		p,
		to,
		[]string{"mariadb-dump", "mysqldump"},
		"--single-transaction",
		"--quick",
		"--routines",
		"--triggers",
		"--events",
		"--hex-blob",
		"--default-character-set=utf8mb4",
		p.Database,
	)
}

// session logs in as the application's user, for statements that may take long: one at a time, or many.
func session(p kind.Part, many bool) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.Net, c.Addr, c.User, c.Passwd, c.DBName = "tcp", p.Address(), p.User, p.Password, p.Database
	c.Timeout, c.MultiStatements, c.Logger = health.Deadline, many, quiet{}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(1)
	return db, nil
}

// Query sends all statements at once.
func (mariadb) Query(ctx context.Context, p kind.Part, text string, rows kind.Rows) error {
	db, err := session(p, true)
	if err != nil {
		return err
	}
	defer db.Close()
	found, err := db.QueryContext(ctx, text)
	if err != nil {
		return said(err)
	}
	defer found.Close()
	for {
		if err := health.SQLRows(found, rows); err != nil {
			return said(err)
		}
		if !found.NextResultSet() {
			return said(found.Err())
		}
	}
}

// said returns an error of the server in its own words.
func said(err error) error {
	var refused *mysql.MySQLError
	if errors.As(err, &refused) {
		return errors.New(refused.Message)
	}
	return err
}

// Tables takes the server's estimates, and counts small tables.
func (mariadb) Tables(ctx context.Context, p kind.Part, count bool) ([]kind.Table, error) {
	db, err := session(p, true)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	return health.SQLTables(
		ctx,
		db,
		dialect,
		`SELECT TABLE_NAME, TABLE_TYPE = 'VIEW', TABLE_ROWS, DATA_LENGTH + INDEX_LENGTH
FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() ORDER BY TABLE_NAME`,
		count,
	)
}

func (mariadb) Dialect() kind.Dialect { return dialect }

var dialect = kind.Dialect{Quote: "`", Escapes: true, Text: "CHAR", Columns: func(t kind.Table) string {
	return "SELECT COLUMN_NAME, COLUMN_TYPE, IS_NULLABLE = 'YES', COLUMN_DEFAULT, COLUMN_KEY = 'PRI' FROM " +
		"information_schema.COLUMNS" + ofTable(t) + "ORDER BY ORDINAL_POSITION"
}, Indexes: func(t kind.Table) string {
	return "SELECT INDEX_NAME, MIN(NON_UNIQUE) = 0, GROUP_CONCAT(COLUMN_NAME ORDER BY SEQ_IN_INDEX SEPARATOR ', ') " +
		"FROM information_schema.STATISTICS" + ofTable(t) + "GROUP BY INDEX_NAME ORDER BY INDEX_NAME"
}}

func ofTable(t kind.Table) string {
	name := kind.Dialect{Escapes: true}.Literal(t.Name)
	return " WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = " + name + " "
}

// Shell returns the client mariadb.
func (mariadb) Shell(p kind.Part) []string {
	return []string{filepath.Join(p.Conf, "bin", "mariadb"), p.Database}
}

func (mariadb) Copy(context.Context, kind.Part, string) error    { return errors.ErrUnsupported }
func (mariadb) Restore(context.Context, kind.Part, string) error { return errors.ErrUnsupported }
