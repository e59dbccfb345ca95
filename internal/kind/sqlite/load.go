package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	driver "modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"dravit/internal/dump"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/sqltext"
)

// syntax is how SQLite writes SQL.
var syntax = sqltext.Syntax{Brackets: true, Triggers: true, Longest: dump.LongestStatement}

// Load runs the statements of a dump one after the other, in a session that can open no other file. The error names the
// line at which a statement begins.
func (sqlite) Load(ctx context.Context, p kind.Part, source io.Reader) (left []string, err error) {
	return nil, with(ctx, p, func(conn *sql.Conn) error {
		if err := confine(conn); err != nil {
			return err
		}
		for in := sqltext.New(source, syntax); ; {
			s, err := in.Next()
			if errors.Is(err, io.EOF) {
				return whole(ctx, conn)
			}
			if err != nil {
				return err
			}
			if err = refusal(s); err == nil {
				_, err = conn.ExecContext(ctx, string(s.Text))
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err != nil {
				return fmt.Errorf("line %d: %w", s.Line, err)
			}
		}
	})
}

// confine keeps a session in its own file: neither ATTACH nor VACUUM INTO can name another one (sqlite.org, "Run-Time
// Limits").
func confine(conn *sql.Conn) error {
	_, err := driver.Limit(conn, lib.SQLITE_LIMIT_ATTACHED, 0)
	return err
}

// pragmas are those that a dump may set: they concern its own database or session. Others name folders and libraries.
var pragmas = []string{
	"APPLICATION_ID", "AUTO_VACUUM", "BUSY_TIMEOUT", "CACHE_SIZE", "CASE_SENSITIVE_LIKE", "CELL_SIZE_CHECK",
	"CHECKPOINT_FULLFSYNC", "COUNT_CHANGES", "DEFER_FOREIGN_KEYS", "ENCODING", "FOREIGN_KEYS", "FOREIGN_KEY_CHECK",
	"FULL_COLUMN_NAMES", "FULLFSYNC", "IGNORE_CHECK_CONSTRAINTS", "INTEGRITY_CHECK", "JOURNAL_MODE",
	"JOURNAL_SIZE_LIMIT", "LEGACY_ALTER_TABLE", "LEGACY_FILE_FORMAT", "LOCKING_MODE", "OPTIMIZE", "PAGE_SIZE",
	"QUICK_CHECK", "RECURSIVE_TRIGGERS", "REVERSE_UNORDERED_SELECTS", "SECURE_DELETE", "SHORT_COLUMN_NAMES",
	"SYNCHRONOUS", "TEMP_STORE", "THREADS", "TRUSTED_SCHEMA", "USER_VERSION", "WAL_AUTOCHECKPOINT", "WRITABLE_SCHEMA",
}

var pragma = pattern.New(`^(?:EXPLAIN (?:QUERY PLAN )?)?PRAGMA (?:\w+ ?\. ?|"\w+" ?\. ?)?"?(\w+)`)

// refusal returns why a statement of a dump is not run, or nil.
func refusal(s sqltext.Statement) error {
	if slices.Contains(s.Text, 0) {
		return errors.New("a NUL byte, at which SQLite stops reading")
	}
	head := s.Head()
	if m := pragma().FindStringSubmatch(head); m != nil && !slices.Contains(pragmas, m[1]) {
		return errors.New("PRAGMA " + strings.ToLower(m[1]) + " may reach beyond the database: a load does not run it")
	}
	return nil
}

// whole returns an error if the dump began a transaction that does not end.
func whole(ctx context.Context, conn *sql.Conn) error {
	_, err := conn.ExecContext(ctx, "BEGIN")
	if err != nil {
		return fmt.Errorf("the dump breaks off: the transaction that it began does not end (%w)", err)
	}
	_, err = conn.ExecContext(ctx, "ROLLBACK")
	return err
}

// Create creates an empty database, unless there is one.
func (k sqlite) Create(ctx context.Context, p kind.Part) error {
	if _, err := os.Stat(path(p)); err == nil {
		return nil
	}
	return k.Fill(ctx, p, filepath.Dir(path(p)))
}

// Drop deletes the database's files.
func (sqlite) Drop(_ context.Context, p kind.Part) error {
	for _, end := range []string{"", "-wal", "-shm"} {
		if err := os.Remove(path(p) + end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Names returns the names of the files.
func (sqlite) Names(_ context.Context, p kind.Part) ([]string, error) {
	files, err := filepath.Glob(filepath.Join(pattern.Literal(p.Data), "*.sqlite"))
	names := []string{}
	for _, f := range files {
		names = append(names, strings.TrimSuffix(filepath.Base(f), ".sqlite"))
	}
	return names, err
}
