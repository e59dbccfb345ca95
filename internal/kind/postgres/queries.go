package postgres

import (
	"context"
	"errors"
	"io"

	"github.com/jackc/pgx/v5/pgconn"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/kind/command"
)

// Dump writes one state of the database, while others use it.
func (postgres) Dump(ctx context.Context, p kind.Part, to io.Writer) error {
	return command.Dump(ctx, p, to, []string{"pg_dump"}, "--no-owner", "--no-privileges", "-d", p.Database)
}

// Query sends all statements at once, in one transaction unless they have their own.
func (postgres) Query(ctx context.Context, p kind.Part, text string, rows kind.Rows) error {
	db, err := connect(ctx, health.Dial("tcp", p.Address()), p.User, p.Password, p.Database)
	if err != nil {
		return errors.New(plain(err))
	}
	defer db.Close(context.WithoutCancel(ctx))
	results := db.Exec(ctx, text)
	for results.NextResult() {
		if err := give(results.ResultReader(), rows); err != nil {
			return errors.Join(err, results.Close())
		}
	}
	if err := results.Close(); err != nil {
		return errors.New(plain(err))
	}
	return nil
}

// Read uses the extended protocol, which takes one statement only, in a transaction that only reads (postgresql.org,
// "SET TRANSACTION").
func (postgres) Read(ctx context.Context, p kind.Part, statement string, rows kind.Rows) error {
	db, err := connect(ctx, health.Dial("tcp", p.Address()), p.User, p.Password, p.Database)
	if err != nil {
		return errors.New(plain(err))
	}
	defer db.Close(context.WithoutCancel(ctx))
	if _, err := db.Exec(ctx, "BEGIN READ ONLY").ReadAll(); err != nil {
		return errors.New(plain(err))
	}
	return give(db.ExecParams(ctx, statement, nil, nil, nil, nil), rows)
}

func give(r *pgconn.ResultReader, rows kind.Rows) error {
	var names []string
	for _, f := range r.FieldDescriptions() {
		names = append(names, f.Name)
	}
	if len(names) == 0 {
		if _, err := r.Close(); err != nil {
			return errors.New(plain(err))
		}
		return nil
	}
	if err := rows.Columns(names); err != nil {
		return err
	}
	row := make([]*string, len(names))
	for r.NextRow() {
		for i, value := range r.Values() {
			row[i] = nil
			if value != nil {
				text := string(value)
				row[i] = &text
			}
		}
		if err := rows.Row(row); err != nil {
			return err
		}
	}
	_, err := r.Close()
	if err != nil {
		return errors.New(plain(err))
	}
	return nil
}
