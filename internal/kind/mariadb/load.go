package mariadb

import (
	"context"
	"io"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/pattern"
)

// refused is what the client writes when the server refuses a statement of a dump.
var refused = pattern.New(`(?s)ERROR \d+ \([^)]*\) at line (\d+)[^:]*: (.*)`)

// Load gives the dump to the client mariadb, as the application's user.
func (mariadb) Load(ctx context.Context, p kind.Part, dump io.Reader) error {
	return command.Load(ctx, p, dump, refused(), "mariadb", "--default-character-set=utf8mb4")
}

// Reset drops the database and creates it again.
func (m mariadb) Reset(ctx context.Context, p kind.Part) error {
	name, err := admin()
	if err != nil {
		return err
	}
	db, err := connectAdmin(ctx, p, name)
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, "DROP DATABASE IF EXISTS `"+strings.ReplaceAll(p.Database, "`", "``")+"`")
	db.Close()
	if err != nil {
		return err
	}
	return m.Prepare(ctx, p)
}
