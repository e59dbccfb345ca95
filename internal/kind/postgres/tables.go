package postgres

import (
	"context"
	"errors"
	"path/filepath"
	"strconv"

	"dravit/internal/kind"
)

// tables lists tables and views with their schema, the estimate of their rows (-1: none yet) and their size.
const tables = `SELECT CASE WHEN n.nspname = 'public' THEN c.relname ELSE n.nspname || '.' || c.relname END,
  c.relkind IN ('v', 'm'), c.reltuples::bigint, pg_total_relation_size(c.oid),
  quote_ident(n.nspname) || '.' || quote_ident(c.relname)
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm') AND n.nspname <> 'information_schema' AND n.nspname !~ '^pg_' ORDER BY 1`

// countBelow is the size up to which a table's rows are counted, in bytes: that takes some milliseconds.
const countBelow = 16 << 20

// Tables takes the server's estimates, and counts small tables.
func (k postgres) Tables(ctx context.Context, p kind.Part, count bool) ([]kind.Table, error) {
	all := []kind.Table{}
	err := k.Query(ctx, p, tables, kind.Rows{
		Columns: func([]string) error { return nil },
		Row: func(v []*string) error {
			estimate, _ := strconv.ParseInt(*v[2], 10, 64)
			size, _ := strconv.ParseInt(*v[3], 10, 64)
			t := kind.Table{Name: *v[0], SQL: *v[4], View: *v[1] == "t"}
			if !t.View {
				t.Bytes = &size
				if estimate >= 0 {
					t.Rows = &estimate
				}
			}
			all = append(all, t)
			return nil
		},
	})
	if err != nil {
		return nil, err
	}
	for i := range all {
		t := &all[i]
		if !count || t.View || t.Rows != nil && *t.Bytes > countBelow {
			continue
		}
		_ = k.Query(ctx, p, "SELECT COUNT(*) FROM "+t.SQL, kind.Rows{ // refused: the estimate stays
			Columns: func([]string) error { return nil },
			Row: func(v []*string) error {
				n, err := strconv.ParseInt(*v[0], 10, 64)
				t.Rows, t.Exact = &n, true
				return err
			},
		})
	}
	return all, nil
}

func (postgres) Dialect() kind.Dialect {
	of := func(t kind.Table) string { return quote(t.SQL) + "::regclass" }
	return kind.Dialect{Quote: `"`, Text: "text", Columns: func(t kind.Table) string {
		return "SELECT a.attname, format_type(a.atttypid, a.atttypmod), NOT a.attnotnull, " +
			"pg_get_expr(d.adbin, d.adrelid), EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = a.attrelid " +
			"AND i.indisprimary AND a.attnum = ANY (i.indkey)) FROM pg_attribute a LEFT JOIN pg_attrdef d " +
			"ON d.adrelid = a.attrelid AND d.adnum = a.attnum WHERE a.attrelid = " + of(t) +
			" AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum"
	}, Indexes: func(t kind.Table) string {
		return "SELECT c.relname, i.indisunique, (SELECT string_agg(pg_get_indexdef(i.indexrelid, k, true), ', ' " +
			"ORDER BY k) FROM generate_series(1, i.indnkeyatts) k) FROM pg_index i JOIN pg_class c " +
			"ON c.oid = i.indexrelid WHERE i.indrelid = " + of(t) + " ORDER BY 1"
	}}
}

// Shell returns the client psql.
func (postgres) Shell(p kind.Part) []string {
	return []string{filepath.Join(p.Conf, "bin", "psql"), "-d", p.Database}
}

func (postgres) Copy(context.Context, kind.Part, string) error    { return errors.ErrUnsupported }
func (postgres) Restore(context.Context, kind.Part, string) error { return errors.ErrUnsupported }
