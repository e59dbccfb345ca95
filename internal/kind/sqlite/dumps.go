package sqlite

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	driver "modernc.org/sqlite"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/sqltext"
)

// Replace fills another file, and copies it into the database in one transaction: others may read and write it.
func (k sqlite) Replace(ctx context.Context, p kind.Part, load func(staged kind.Part) error) error {
	if err := os.RemoveAll(stagedDir(p)); err != nil { // of a load that was killed
		return err
	}
	if err := os.Mkdir(stagedDir(p), 0o700); err != nil {
		return err
	}
	defer os.RemoveAll(stagedDir(p))
	staged := p
	staged.Data = stagedDir(p)
	if err := k.Fill(ctx, staged, staged.Data); err != nil {
		return err
	}
	if err := load(staged); err != nil {
		return err
	}
	return k.Restore(ctx, p, staged.Data)
}

// stagedDir is where a load fills another file. One load at a time works on the data of a part.
func stagedDir(p kind.Part) string { return p.Data + ".load" }

// Tidy deletes what a load left that was killed.
func (sqlite) Tidy(_ context.Context, p kind.Part) error { return os.RemoveAll(stagedDir(p)) }

// Copy writes a whole copy of the database, as one reader sees it.
func (sqlite) Copy(ctx context.Context, p kind.Part, dir string) error {
	db, err := open(path(p), "rw")
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, "VACUUM INTO ?", filepath.Join(dir, filepath.Base(path(p))))
	return err
}

// pagesAtOnce is how many pages are copied before Restore looks whether it was interrupted: some 16 MB.
const pagesAtOnce = 4096

// Restore copies another database into the part's, in one transaction (sqlite.org, "Online Backup API").
func (sqlite) Restore(ctx context.Context, p kind.Part, dir string) error {
	return with(ctx, p, func(conn *sql.Conn) error {
		return conn.Raw(func(raw any) error {
			backup, err := raw.(interface {
				NewRestore(from string) (*driver.Backup, error)
			}).NewRestore(filepath.Join(dir, filepath.Base(path(p))))
			if err != nil {
				return err
			}
			more := true
			for err == nil && more {
				if err = ctx.Err(); err == nil {
					more, err = backup.Step(pagesAtOnce)
				}
			}
			return errors.Join(err, backup.Finish()) // before the last page, nothing has changed
		})
	})
}

// Dump writes the schema and the rows as sqlite3's .dump does, in one read transaction.
func (sqlite) Dump(ctx context.Context, p kind.Part, to io.Writer) error {
	db, err := open(path(p), "rw")
	if err != nil {
		return err
	}
	defer db.Close()
	tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // it has read only
	out := bufio.NewWriterSize(to, 64<<10)
	if _, err := out.WriteString("PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n"); err != nil {
		return err
	}
	if err := dumpTables(ctx, tx, out); err != nil {
		return err
	}
	found, err := tx.QueryContext(
		ctx,
		"SELECT sql FROM sqlite_master WHERE type <> 'table' AND sql IS NOT NULL ORDER BY "+
			"type = 'trigger', type = 'view', rowid",
	)
	if err != nil {
		return err
	}
	defer found.Close()
	for found.Next() {
		var text string
		if err := found.Scan(&text); err != nil {
			return err
		}
		fmt.Fprintf(out, "%s;\n", text)
	}
	if err := found.Err(); err != nil {
		return err
	}
	if _, err := out.WriteString("COMMIT;\n"); err != nil {
		return err
	}
	return out.Flush()
}

// dumpTables writes each table and its rows. The tables in which a virtual table keeps its content come with that.
func dumpTables(ctx context.Context, tx *sql.Tx, out *bufio.Writer) error {
	found, err := tx.QueryContext(ctx, "SELECT m.name, m.sql FROM sqlite_master m JOIN pragma_table_list l "+
		"ON l.schema = 'main' AND l.name = m.name WHERE m.type = 'table' AND m.sql IS NOT NULL "+
		"AND l.type <> 'shadow' AND m.name NOT LIKE 'sqlite!_%' ESCAPE '!' ORDER BY m.rowid")
	if err != nil {
		return err
	}
	var tables [][2]string
	for found.Next() {
		var t [2]string
		if err := found.Scan(&t[0], &t[1]); err != nil {
			found.Close()
			return err
		}
		tables = append(tables, t)
	}
	if err := errors.Join(found.Close(), found.Err()); err != nil {
		return err
	}
	for _, t := range tables {
		fmt.Fprintf(out, "%s;\n", t[1])
		if err := dumpRows(ctx, tx, t[0], fullText().MatchString(t[1]), out); err != nil {
			return err
		}
	}
	return dumpSequences(ctx, tx, out)
}

// fullText matches the SQL of a full-text table, whose rows are known by their rowid alone.
var fullText = pattern.New(`(?i)^CREATE\s+VIRTUAL\s+TABLE\b[^(]*\bUSING\s+fts\d`)

// dumpSequences writes the last numbers that AUTOINCREMENT gave. The database has made the table for them.
func dumpSequences(ctx context.Context, tx *sql.Tx, out *bufio.Writer) error {
	const table = "sqlite_sequence"
	var there bool
	err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM sqlite_master WHERE name = ?)", table).Scan(&there)
	if err != nil || !there {
		return err
	}
	// The table may be left over from tables that are gone. It has no rows then, and a load does not make it.
	if err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM "+table+")").Scan(&there); err != nil || !there {
		return err
	}
	fmt.Fprintf(out, "DELETE FROM %s;\n", table)
	return dumpRows(ctx, tx, table, false, out)
}

func id(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// dumpRows writes the rows of a table as the database itself quotes them, with their rowid if withID.
func dumpRows(ctx context.Context, tx *sql.Tx, table string, withID bool, out *bufio.Writer) error {
	found, err := tx.QueryContext(ctx, "SELECT name FROM pragma_table_info(?) ORDER BY cid", table)
	if err != nil {
		return err
	}
	var columns, values []string
	if withID {
		columns, values = []string{"rowid"}, []string{"rowid"}
	}
	for found.Next() {
		var c string
		if err := found.Scan(&c); err != nil {
			found.Close()
			return err
		}
		columns, values = append(columns, id(c)), append(values, "quote("+id(c)+")")
	}
	if err := errors.Join(found.Close(), found.Err()); err != nil {
		return err
	}
	into := id(table)
	if withID {
		into += "(" + strings.Join(columns, ",") + ")"
	}
	rows, err := tx.QueryContext(ctx, "SELECT "+strings.Join(values, "||','||")+" FROM "+id(table))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var row string
		if err := rows.Scan(&row); err != nil {
			return err
		}
		if _, err := fmt.Fprintf(out, "INSERT INTO %s VALUES(%s);\n", into, row); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Query runs one statement after the other.
func (sqlite) Query(ctx context.Context, p kind.Part, text string, rows kind.Rows) error {
	return with(ctx, p, func(conn *sql.Conn) error {
		for in := sqltext.New(strings.NewReader(text), syntax); ; {
			s, err := in.Next()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
			found, err := conn.QueryContext(ctx, string(s.Text))
			if err != nil {
				return err
			}
			if err := errors.Join(health.SQLRows(found, rows), found.Close()); err != nil {
				return err
			}
		}
	})
}

// measuredBelow is the size of a file up to which the sizes of its tables are measured, in bytes: each page is read.
const measuredBelow = 64 << 20

// Tables counts the rows. The sizes of tables are those of their pages (sqlite.org, "The DBSTAT Virtual Table").
func (sqlite) Tables(ctx context.Context, p kind.Part, count bool) ([]kind.Table, error) {
	db, err := open(path(p), "rw")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	size := "NULL"
	if info, err := os.Stat(path(p)); count && err == nil && info.Size() <= measuredBelow {
		size = "CASE WHEN m.type = 'table' THEN (SELECT SUM(s.pgsize) FROM dbstat s WHERE s.name IN " +
			"(SELECT i.name FROM sqlite_master i WHERE i.tbl_name = m.name)) END"
	}
	return health.SQLTables(ctx, db, sqlite{}.Dialect(), "SELECT m.name, m.type = 'view', NULL, "+size+" FROM "+
		"sqlite_master m WHERE m.type IN ('table', 'view') AND m.name NOT LIKE 'sqlite!_%' ESCAPE '!' ORDER BY m.name",
		count)
}

func (sqlite) Dialect() kind.Dialect {
	d := kind.Dialect{Quote: `"`, Text: "TEXT"}
	d.AsLiteral = func(column string) string { return "quote(" + column + ")" }
	d.Columns = func(t kind.Table) string {
		return `SELECT name, type, "notnull" = 0, dflt_value, pk > 0 FROM pragma_table_xinfo(` + d.Literal(t.Name) +
			") WHERE hidden <> 1"
	}
	d.Indexes = func(t kind.Table) string {
		return `SELECT l.name, l."unique", (SELECT group_concat(coalesce(i.name, 'an expression'), ', ') ` +
			"FROM pragma_index_info(l.name) i) FROM pragma_index_list(" + d.Literal(t.Name) + ") l ORDER BY 1"
	}
	return d
}

// Read opens the file for reading only, in a session that can open no other file.
func (sqlite) Read(ctx context.Context, p kind.Part, statement string, rows kind.Rows) error {
	db, err := open(path(p), "ro")
	if err != nil {
		return err
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := confine(conn); err != nil {
		return err
	}
	for in := sqltext.New(strings.NewReader(statement), syntax); ; {
		s, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil {
			err = refusal(s)
		}
		if err != nil {
			return err
		}
	}
	found, err := conn.QueryContext(ctx, statement)
	if err != nil {
		return err
	}
	return errors.Join(health.SQLRows(found, rows), found.Close())
}

// Shell returns the client sqlite3.
func (sqlite) Shell(p kind.Part) []string {
	return []string{filepath.Join(p.Conf, "bin", "sqlite3"), path(p)}
}
