package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"io"
	"path/filepath"
	"strings"

	"github.com/go-sql-driver/mysql"

	"dravit/internal/dump"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/pattern"
)

// refused is what the client writes when the server refuses a statement of a dump.
var refused = pattern.New(`(?s)ERROR \d+ \([^)]*\) at line (\d+)[^:]*: (.*)`)

// Load gives the dump to the client mariadb.
func (mariadb) Load(ctx context.Context, p kind.Part, source io.Reader) (left []string, err error) {
	var out dump.Left
	err = command.Load(ctx, p, forHere(source, &out), refused(), "mariadb", "--binary-mode",
		"--default-character-set=utf8mb4", p.Database)
	return out.Out, err
}

// Create is a part of Prepare.
func (m mariadb) Create(ctx context.Context, p kind.Part) error { return m.Prepare(ctx, p) }

// Drop deletes the database as the administrator.
func (mariadb) Drop(ctx context.Context, p kind.Part) error {
	name, err := admin()
	if err != nil {
		return err
	}
	db, err := connectAdmin(ctx, p, name)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, "DROP DATABASE IF EXISTS `"+strings.ReplaceAll(p.Database, "`", "``")+"`")
	return err
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

// session logs in as the application's user, for statements that may take long.
func session(p kind.Part) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.Net, c.Addr, c.User, c.Passwd, c.DBName = "tcp", p.Address(), p.User, p.Password, p.Database
	c.Timeout, c.MultiStatements, c.Logger = health.Deadline, true, quiet{}
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
	db, err := session(p)
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
func (mariadb) Tables(ctx context.Context, p kind.Part) ([]kind.Table, error) {
	db, err := session(p)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	return health.SQLTables(
		ctx,
		db,
		"`",
		`SELECT TABLE_NAME, TABLE_TYPE = 'VIEW', TABLE_ROWS, DATA_LENGTH + INDEX_LENGTH
FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() ORDER BY TABLE_NAME`,
	)
}

// Shell returns the client mariadb.
func (mariadb) Shell(p kind.Part) []string {
	return []string{filepath.Join(p.Conf, "bin", "mariadb"), p.Database}
}

func (mariadb) Copy(context.Context, kind.Part, string) error    { return errors.ErrUnsupported }
func (mariadb) Restore(context.Context, kind.Part, string) error { return errors.ErrUnsupported }
