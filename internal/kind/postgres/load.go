package postgres

import (
	"context"
	"io"
	"strings"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/pattern"
)

// refused is what psql writes when the server refuses a statement of a dump.
var refused = pattern.New(`(?s)psql:<stdin>:(\d+): (?:ERROR|FATAL): +(.*)`)

// Load gives the dump to the client psql, as the application's user. Everything that the dump creates belongs to that
// user; a dump that names other owners has to be written without them (pg_dump --no-owner).
func (postgres) Load(ctx context.Context, p kind.Part, dump io.Reader) error {
	return command.Load(ctx, p, dump, refused(), "psql", "-X", "-q", "-v", "ON_ERROR_STOP=1", "-f", "-")
}

// Reset drops the database, whoever is connected to it, and creates it again.
func (k postgres) Reset(ctx context.Context, p kind.Part) error {
	name, err := admin()
	if err != nil {
		return err
	}
	db, err := connect(ctx, health.Dial("unix", p.Socket), name, "", "postgres")
	if err != nil {
		return err
	}
	// A check may connect between the two statements: try again.
	for range 5 {
		_, err = db.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = "+
			quote(p.Database)).ReadAll()
		if err == nil {
			_, err = db.Exec(ctx, `DROP DATABASE IF EXISTS "`+strings.ReplaceAll(p.Database, `"`, `""`)+`"`).ReadAll()
		}
		if err == nil {
			break
		}
	}
	db.Close(ctx)
	if err != nil {
		return err
	}
	return k.Prepare(ctx, p)
}
