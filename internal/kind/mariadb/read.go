package mariadb

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"strings"

	"github.com/go-sql-driver/mysql"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// Read runs the statement as an account that has no right but to read this database. A view or a function could write
// with the rights of its definer, so the transaction only reads, too, and a statement of another sort, which could end
// it, is refused.
func (mariadb) Read(ctx context.Context, p kind.Part, statement string, rows kind.Rows) error {
	if !reads().MatchString(statement) {
		return errors.New("it only reads: a statement begins with SELECT, WITH, SHOW, DESCRIBE, EXPLAIN or VALUES")
	}
	db, err := readSession(ctx, p)
	if err != nil {
		return said(err)
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return said(err)
	}
	defer conn.Close()
	for _, first := range []string{"SET SESSION TRANSACTION READ ONLY", "START TRANSACTION READ ONLY"} {
		if _, err := conn.ExecContext(ctx, first); err != nil {
			return said(err)
		}
	}
	found, err := conn.QueryContext(ctx, statement)
	if err != nil {
		return said(err)
	}
	defer found.Close()
	return said(health.SQLRows(found, rows))
}

// reads matches the beginning of a statement that reads, after blanks and comments that are none to the server.
var reads = pattern.New(`(?is)^(?:\s+|--[ \t][^\n]*\n|#[^\n]*\n|/\*[^!M].*?\*/|\()*` +
	`(?:SELECT|WITH|SHOW|DESCRIBE|DESC|EXPLAIN|VALUES)\b`)

// readerPrefix begins the names of the accounts that read, one for each database.
const readerPrefix = "dravit_read_"

// reader returns the name of the account that reads a database, and its password, which follows from the
// application's: whoever knows that one may do more.
func reader(p kind.Part) (name, password string) {
	sum := sha256.Sum256([]byte(p.Database))
	mac := hmac.New(sha256.New, []byte(p.Password))
	mac.Write([]byte("reads " + p.Database))
	return readerPrefix + hex.EncodeToString(sum[:6]), hex.EncodeToString(mac.Sum(nil))
}

// readSession logs in as the account that reads, and creates it if the server does not know it. On a server that
// somebody else runs it creates none: there the caller's checks and transaction alone keep a statement from writing.
func readSession(ctx context.Context, p kind.Part) (*sql.DB, error) {
	if p.Outside != "" {
		return session(p, false)
	}
	as := p
	as.User, as.Password = reader(p)
	db, err := session(as, false)
	if err != nil {
		return nil, err
	}
	err = db.PingContext(ctx)
	var refused *mysql.MySQLError
	if err == nil || !errors.As(err, &refused) {
		return db, err
	}
	statements := []string{}
	for _, host := range accountHosts {
		account := dialect.Literal(as.User) + "@" + dialect.Literal(host)
		statements = append(statements, "CREATE USER IF NOT EXISTS "+account,
			"ALTER USER "+account+" IDENTIFIED BY "+dialect.Literal(as.Password),
			"GRANT SELECT, SHOW VIEW ON "+inDatabase(p)+" TO "+account)
	}
	if err := asAdmin(ctx, p, statements...); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// ofDravit reports whether an account is Dravit's own.
func ofDravit(name string) bool { return name == loader || strings.HasPrefix(name, readerPrefix) }
