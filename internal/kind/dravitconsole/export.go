package dravitconsole

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"io"
	"log/slog"
	"mime"
	"net/http"
	"strings"

	"dravit/internal/kind"
)

// export returns a handler that sends a file, as it comes: of any size, and for as long as the browser takes it.
func (s *site) export(name string,
	write func(ctx context.Context, d database, r *http.Request, to io.Writer) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		d, err := s.open(r.Context(), r)
		out := &attachment{w: w, name: d.Database + "-" + name}
		if table := r.FormValue("table"); table != "" {
			out.name = table + strings.TrimPrefix(name, "rows")
		}
		if err == nil {
			buffered := bufio.NewWriterSize(out, 64<<10)
			err = errors.Join(write(r.Context(), d, r, buffered), buffered.Flush())
		}
		switch {
		case err == nil:
		case out.begun: // the browser must not take what it has for the whole
			slog.Error("console: export", "error", err)
			panic(http.ErrAbortHandler)
		case errors.Is(err, errNotHere):
			http.Error(w, "404: "+err.Error(), http.StatusNotFound)
		default:
			http.Error(w, "502: "+err.Error(), http.StatusBadGateway)
		}
	}
}

// attachment is an answer that the browser saves.
type attachment struct {
	w     http.ResponseWriter
	name  string
	begun bool
}

func (a *attachment) Write(p []byte) (int, error) {
	if !a.begun {
		a.begun = true
		a.w.Header().Set("Content-Type", "application/octet-stream")
		a.w.Header().
			Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": a.name}))
	}
	return a.w.Write(p)
}

func (s *site) dump(ctx context.Context, d database, _ *http.Request, to io.Writer) error {
	return d.kind.Dump(ctx, d.Part, to)
}

func (s *site) queryCSV(ctx context.Context, d database, r *http.Request, to io.Writer) error {
	out := csv.NewWriter(to)
	return errors.Join(s.run(ctx, d, r.PostFormValue("sql"), csvRows(out)), flush(out))
}

func (s *site) rowsCSV(ctx context.Context, d database, r *http.Request, to io.Writer) error {
	x, err := s.find(ctx, d, r)
	if err != nil {
		return err
	}
	out := csv.NewWriter(to)
	statement := x.filter.statement(x.kind.Dialect(), x.table, "*", x.keys)
	return errors.Join(x.kind.Read(ctx, x.Part, statement, csvRows(out)), flush(out))
}

func flush(out *csv.Writer) error { out.Flush(); return out.Error() }

// csvRows writes rows as CSV. NULL is an empty field.
func csvRows(out *csv.Writer) kind.Rows {
	return kind.Rows{Columns: out.Write, Row: func(values []*string) error {
		record := make([]string, len(values))
		for i, v := range values {
			record[i] = text(v)
		}
		return out.Write(record)
	}}
}

// rowsSQL writes an INSERT for each row.
func (s *site) rowsSQL(ctx context.Context, d database, r *http.Request, to io.Writer) error {
	x, err := s.find(ctx, d, r)
	if err != nil {
		return err
	}
	dialect := x.kind.Dialect()
	var names, what []string
	for _, name := range x.names {
		name = dialect.Name(name)
		names, what = append(names, name), append(what, name)
		if dialect.AsLiteral != nil {
			what[len(what)-1] = dialect.AsLiteral(name)
		}
	}
	begin := "INSERT INTO " + x.table.SQL + " (" + strings.Join(names, ", ") + ") VALUES ("
	statement := x.filter.statement(dialect, x.table, strings.Join(what, ", "), x.keys)
	return x.kind.Read(ctx, x.Part, statement, kind.Rows{
		Columns: func([]string) error { return nil },
		Row: func(values []*string) error {
			literals := make([]string, len(values))
			for i, v := range values {
				literals[i] = literal(dialect, v)
			}
			_, err := io.WriteString(to, begin+strings.Join(literals, ", ")+");\n")
			return err
		},
	})
}

func literal(d kind.Dialect, value *string) string {
	switch {
	case value == nil:
		return "NULL"
	case d.AsLiteral != nil:
		return *value
	case !printable(*value):
		return "X'" + hex.EncodeToString([]byte(*value)) + "'"
	}
	return d.Literal(*value)
}
