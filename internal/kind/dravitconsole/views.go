package dravitconsole

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"dravit/internal/kind"
)

// pageRows is how many rows a page of a table has, and queryRows how many of a query's rows are shown.
const (
	pageRows  = 100
	queryRows = 1000
)

// lists fills what every page has: the databases, the tables of the open one, and what can be done with it.
func (s *site) lists(ctx context.Context, v *view) {
	for _, d := range s.databases {
		names, err := d.kind.Names(ctx, d.Part)
		if err != nil || len(names) == 0 {
			names = []string{d.own} // the page says what is wrong with it
		}
		for _, name := range names {
			other := view{Part: d.Name, Database: name, db: d}
			label := d.Name
			if name != d.own {
				label += " / " + name
			}
			v.Databases = append(v.Databases, link{label, other.at("/"), v.Part == d.Name && v.Database == name})
		}
	}
	if v.all == nil {
		v.all, _ = v.db.kind.Tables(ctx, v.db.Part, false) // the page says what is wrong
	}
	for _, t := range v.all {
		v.Tables = append(v.Tables, link{t.Name, v.at("/rows", "table", t.Name), t.Name == v.Table})
	}
	v.Server = v.db.Kind + " " + v.db.Version
	v.Top = []link{{"Tables", v.at("/"), v.Showing == "tables"}, {"Query", v.at("/query"), v.Showing == "query"}}
	v.Exports = append(v.Exports, link{Name: "The database as SQL", Href: v.at("/dump.sql")})
	if v.Table != "" {
		v.Tabs = []link{{"Rows", v.at("/rows", "table", v.Table), v.Showing == "rows"},
			{"Structure", v.at("/structure", "table", v.Table), v.Showing == "structure"}}
	}
}

func (s *site) tables(ctx context.Context, v *view, _ *http.Request) error {
	v.Showing = "tables"
	all, err := v.db.kind.Tables(ctx, v.db.Part, true)
	v.all = all
	g := &grid{Columns: []column{{Name: "table"}, {Name: "rows", Number: true}, {Name: "size", Number: true}}}
	for _, t := range all {
		rows, size := "", ""
		if t.View {
			rows = "view"
		}
		if t.Rows != nil {
			rows = strconv.FormatInt(*t.Rows, 10)
			if !t.Exact {
				rows = "about " + rows
			}
		}
		if t.Bytes != nil {
			size = fmt.Sprintf("%.2f MB", float64(*t.Bytes)/1e6)
		}
		g.Rows = append(
			g.Rows,
			[]cell{
				{Text: t.Name, Href: v.at("/rows", "table", t.Name)},
				{Text: rows, Number: true},
				{Text: size, Number: true},
			},
		)
	}
	v.Grid = g
	return err
}

// filter is what the rows of a table are searched for.
type filter struct {
	Column, Op, Value string
	Order             string
	Down              bool
	Page              int
}

// Ops are the comparisons that a filter offers.
func (filter) Ops() []string {
	return []string{"contains", "=", "<>", "<", "<=", ">", ">=", "is NULL", "is not NULL"}
}

// read takes a filter from a request. It knows only columns that the table has.
func readFilter(r *http.Request, columns []string) (filter, error) {
	f := filter{Column: r.FormValue("column"), Op: r.FormValue("op"), Value: r.FormValue("value"),
		Order: r.FormValue("order"), Down: r.FormValue("down") != "", Page: 1}
	for _, name := range []string{f.Column, f.Order} {
		if name != "" && !slices.Contains(columns, name) {
			return f, fmt.Errorf("%w: column %s", errNotHere, name)
		}
	}
	if f.Column != "" && !slices.Contains(f.Ops(), f.Op) {
		return f, fmt.Errorf("%w: comparison %s", errNotHere, f.Op)
	}
	if n, err := strconv.Atoi(r.FormValue("page")); err == nil && n > 1 && n < 1e9 {
		f.Page = n
	}
	return f, nil
}

// statement returns the query for a table's rows, without a limit. keys are the columns of its primary key.
func (f filter) statement(d kind.Dialect, t kind.Table, what string, keys []string) string {
	text := "SELECT " + what + " FROM " + t.SQL
	name := d.Name(f.Column)
	switch {
	case f.Column == "":
	case strings.HasPrefix(f.Op, "is "):
		text += " WHERE " + name + " " + strings.ToUpper(f.Op)
	case f.Op == "contains":
		like := strings.NewReplacer("!", "!!", "%", "!%", "_", "!_").Replace(f.Value)
		text += " WHERE LOWER(CAST(" + name + " AS " + d.Text + ")) LIKE LOWER(" + d.Literal(
			"%"+like+"%",
		) + ") ESCAPE '!'"
	default:
		text += " WHERE " + name + " " + f.Op + " " + d.Literal(f.Value)
	}
	var order []string
	if f.Order != "" {
		order = append(order, d.Name(f.Order))
		if f.Down {
			order[0] += " DESC"
		}
	}
	for _, k := range keys { // so that pages do not overlap; without another order, an index gives this one
		if k != f.Order {
			order = append(order, d.Name(k))
		}
	}
	if len(order) > 0 {
		text += " ORDER BY " + strings.Join(order, ", ")
	}
	return text
}

// found is a table with what a request wants of it.
type found struct {
	database
	table  kind.Table
	all    []kind.Table
	names  []string // of the columns
	keys   []string // those in the primary key
	filter filter
}

// find reads which table a request is about, and how its rows are filtered.
func (s *site) find(ctx context.Context, d database, r *http.Request) (found, error) {
	x := found{database: d}
	var err error
	if x.table, x.all, err = d.table(ctx, r.FormValue("table")); err != nil {
		return x, err
	}
	err = d.each(ctx, d.kind.Dialect().Columns(x.table), func(v []*string) {
		x.names = append(x.names, text(v[0]))
		if yes(v[4]) {
			x.keys = append(x.keys, text(v[0]))
		}
	})
	if err == nil {
		x.filter, err = readFilter(r, x.names)
	}
	return x, err
}

func (s *site) rows(ctx context.Context, v *view, r *http.Request) error {
	v.Showing, v.Table = "rows", r.FormValue("table")
	x, err := s.find(ctx, v.db, r)
	v.Filter, v.Names, v.all = x.filter, x.names, x.all
	if err != nil {
		return err
	}
	f := x.filter
	more := []string{"table", v.Table, "column", f.Column, "op", f.Op, "value", f.Value}
	v.Exports = append(v.Exports, link{Name: "These rows as CSV", Href: v.at("/rows.csv", more...)},
		link{Name: "These rows as SQL", Href: v.at("/rows.sql", more...)})
	g := &grid{}
	for _, name := range x.names {
		c := column{Name: name, Href: v.at("/rows", append(more, "order", name)...)}
		if name == f.Order {
			c.Sorted = "▲"
			if f.Down {
				c.Sorted = "▼"
			} else {
				c.Href = v.at("/rows", append(more, "order", name, "down", "1")...)
			}
		}
		g.Columns = append(g.Columns, c)
	}
	statement := x.filter.statement(x.kind.Dialect(), x.table, "*", x.keys) +
		fmt.Sprintf(" LIMIT %d OFFSET %d", pageRows+1, (f.Page-1)*pageRows)
	if err := x.kind.Read(ctx, x.Part, statement, g.take(pageRows)); err != nil && !errors.Is(err, errFull) {
		return err
	}
	v.Grid = g
	down := ""
	if f.Down {
		down = "1"
	}
	order := append(more, "order", f.Order, "down", down)
	if f.Page > 1 {
		v.Pages = append(
			v.Pages,
			link{Name: "earlier rows", Href: v.at("/rows", append(order, "page", fmt.Sprint(f.Page-1))...)},
		)
	}
	if len(g.Rows) > 0 {
		first := (f.Page - 1) * pageRows
		v.Pages = append(v.Pages, link{Name: fmt.Sprintf("rows %d to %d", first+1, first+len(g.Rows)), Current: true})
	}
	if g.Full {
		v.Pages = append(
			v.Pages,
			link{Name: "later rows", Href: v.at("/rows", append(order, "page", fmt.Sprint(f.Page+1))...)},
		)
	}
	return nil
}

func (s *site) structure(ctx context.Context, v *view, r *http.Request) error {
	v.Showing, v.Table = "structure", r.FormValue("table")
	t, all, err := v.db.table(ctx, v.Table)
	v.all = all
	if err != nil {
		return err
	}
	d := v.db.kind.Dialect()
	v.Grid = &grid{
		Columns: []column{{Name: "column"}, {Name: "type"}, {Name: "NULL"}, {Name: "default"}, {Name: "key"}},
	}
	err = v.db.each(ctx, d.Columns(t), func(c []*string) {
		null, key := "no", ""
		if yes(c[2]) {
			null = "yes"
		}
		if yes(c[4]) {
			key = "primary"
		}
		v.Grid.Rows = append(
			v.Grid.Rows,
			[]cell{cellOf(c[0]), cellOf(c[1]), {Text: null}, {Text: text(c[3])}, {Text: key}},
		)
	})
	if err != nil || t.View {
		return err
	}
	v.Indexes = &grid{Columns: []column{{Name: "index"}, {Name: "unique"}, {Name: "columns"}}}
	return v.db.each(ctx, d.Indexes(t), func(c []*string) {
		unique := "no"
		if yes(c[1]) {
			unique = "yes"
		}
		v.Indexes.Rows = append(v.Indexes.Rows, []cell{cellOf(c[0]), {Text: unique}, cellOf(c[2])})
	})
}

// query runs what the developer wrote.
func (s *site) query(ctx context.Context, v *view, r *http.Request) error {
	v.Showing, v.SQL = "query", r.PostFormValue("sql")
	began := time.Now()
	g := &grid{}
	err := s.run(ctx, v.db, v.SQL, g.take(queryRows))
	if err != nil && !errors.Is(err, errFull) {
		return err
	}
	v.Done = fmt.Sprintf("done in %d ms", time.Since(began).Milliseconds())
	if g.Columns != nil {
		v.Grid = g
		v.Done = fmt.Sprintf("%d rows in %d ms", len(g.Rows), time.Since(began).Milliseconds())
	}
	if g.Full {
		v.Done = fmt.Sprintf("the first %d rows; the export as CSV has all", queryRows)
	}
	return nil
}

// run runs a query: one statement that changes nothing, or any if the stack file allows it.
func (s *site) run(ctx context.Context, d database, sql string, rows kind.Rows) error {
	if strings.TrimSpace(sql) == "" {
		return fmt.Errorf("%w: the query is empty", errNotHere)
	}
	if s.Writes {
		return d.kind.Query(ctx, d.Part, sql, rows)
	}
	return d.kind.Read(ctx, d.Part, strings.TrimRight(strings.TrimSpace(sql), ";"), rows)
}

// each gives every row of a result to row.
func (d database) each(ctx context.Context, query string, row func(values []*string)) error {
	return d.kind.Query(ctx, d.Part, query, kind.Rows{
		Columns: func([]string) error { return nil },
		Row:     func(values []*string) error { row(values); return nil },
	})
}

func text(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// yes reports whether a database said yes, in its own way.
func yes(s *string) bool { return s != nil && (*s == "1" || *s == "t" || *s == "true") }
