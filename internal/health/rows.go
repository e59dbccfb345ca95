package health

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"dravit/internal/kind"
)

// SQLRows gives one result of a query to to. A result without columns is none.
func SQLRows(found *sql.Rows, to kind.Rows) error {
	names, err := found.Columns()
	if err != nil || len(names) == 0 {
		return err
	}
	if err := to.Columns(names); err != nil {
		return err
	}
	values, into := make([]any, len(names)), make([]any, len(names))
	for i := range values {
		into[i] = &values[i]
	}
	row := make([]*string, len(names))
	for found.Next() {
		if err := found.Scan(into...); err != nil {
			return err
		}
		for i, v := range values {
			row[i] = text(v)
		}
		if err := to.Row(row); err != nil {
			return err
		}
	}
	return found.Err()
}

// text returns a value as the database writes it, or nil for NULL. A driver may have read a time from a text.
func text(value any) *string {
	var s sql.NullString
	if at, ok := value.(time.Time); ok {
		value = strings.TrimSuffix(at.Format("2006-01-02 15:04:05.999999"), " 00:00:00")
	}
	if err := s.Scan(value); err != nil || !s.Valid {
		return nil
	}
	return &s.String
}

// countBelow is the size up to which a table's rows are counted, in bytes: that takes some milliseconds.
const countBelow = 16 << 20

// SQLTables describes the tables of a database. query returns name, whether it is a view, an estimate of its rows and
// its size, where the last two may be NULL. If count, the rows of small tables are counted.
func SQLTables(ctx context.Context, db *sql.DB, d kind.Dialect, query string, count bool) ([]kind.Table, error) {
	found, err := db.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	all := []kind.Table{}
	for found.Next() {
		var t kind.Table
		if err := found.Scan(&t.Name, &t.View, &t.Rows, &t.Bytes); err != nil {
			found.Close()
			return nil, err
		}
		t.SQL = d.Name(t.Name)
		all = append(all, t)
	}
	if err := found.Close(); err != nil {
		return nil, err
	}
	if err := found.Err(); err != nil {
		return nil, err
	}
	for i := range all {
		t := &all[i]
		if !count || t.View || t.Rows != nil && t.Bytes != nil && *t.Bytes > countBelow {
			continue
		}
		if db.QueryRowContext(ctx, "SELECT COUNT(*) FROM "+t.SQL).Scan(&t.Rows) == nil { // else the estimate stays
			t.Exact = true
		}
	}
	return all, nil
}

// QueryTexts returns the first column of a query's result. NULL is left out.
func QueryTexts(ctx context.Context, k kind.Database, p kind.Part, query string) ([]string, error) {
	texts := []string{}
	err := k.Query(ctx, p, query, kind.Rows{
		Columns: func([]string) error { return nil },
		Row: func(values []*string) error {
			if values[0] != nil {
				texts = append(texts, *values[0])
			}
			return nil
		},
	})
	return texts, err
}
