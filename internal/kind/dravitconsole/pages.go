package dravitconsole

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"sync"
	"time"

	"dravit/internal/kind"
	"dravit/internal/webrules"
)

//go:embed console.html
var pageText string

var page = sync.OnceValue(func() *template.Template { return template.Must(template.New("console").Parse(pageText)) })

// patience is how long a page waits for a database.
const patience = 30 * time.Second

// site is the console's pages.
type site struct {
	config
	databases []database
}

// database is one part of the stack.
type database struct {
	kind.Part
	kind kind.Database
	own  string // the part's own database, whichever is open
}

// handler returns the console's pages.
func handler(c config, kinds kind.List) (http.Handler, error) {
	s := &site{config: c}
	for _, p := range c.Databases {
		k, ok := kinds.Of(p.Kind).(kind.Database)
		if !ok {
			return nil, fmt.Errorf("part %s is of kind %s, which has none", p.Name, p.Kind)
		}
		s.databases = append(s.databases, database{p, k, p.Database})
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", s.show(s.tables))
	mux.HandleFunc("GET /rows", s.show(s.rows))
	mux.HandleFunc("GET /structure", s.show(s.structure))
	mux.HandleFunc("GET /query", s.show(func(_ context.Context, v *view, r *http.Request) error {
		v.Showing, v.SQL = "query", r.FormValue("sql")
		return nil
	}))
	mux.HandleFunc("POST /query", webrules.FormToken(s.Token, s.show(s.query)))
	mux.HandleFunc("POST /query.csv", webrules.FormToken(s.Token, s.export("query.csv", s.queryCSV)))
	mux.HandleFunc("GET /rows.csv", s.export("rows.csv", s.rowsCSV))
	mux.HandleFunc("GET /rows.sql", s.export("rows.sql", s.rowsSQL))
	mux.HandleFunc("GET /dump.sql", s.export("dump.sql", s.dump))
	mux.HandleFunc("GET /databases.json", func(w http.ResponseWriter, _ *http.Request) {
		names := []string{}
		for _, d := range s.databases {
			names = append(names, d.Name)
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"format": 1, "databases": names}) // the client left
	})
	return webrules.OwnPages(c.Host, "", mux), nil
}

// errNotHere says that a request names a part, database, table or column that does not exist.
var errNotHere = errors.New("there is no such thing")

// open returns the database that a request names: "part", and "database" for another than the part's own.
func (s *site) open(ctx context.Context, r *http.Request) (database, error) {
	if len(s.databases) == 0 {
		return database{}, fmt.Errorf("%w: the stack has no SQL database", errNotHere)
	}
	d := s.databases[0]
	if name := r.FormValue("part"); name != "" {
		i := slices.IndexFunc(s.databases, func(d database) bool { return d.Name == name })
		if i < 0 {
			return d, fmt.Errorf("%w: database %s", errNotHere, name)
		}
		d = s.databases[i]
	}
	if name := r.FormValue("database"); name != "" && name != d.Database {
		names, err := d.kind.Names(ctx, d.Part)
		if err != nil {
			return d, err
		}
		if !slices.Contains(names, name) {
			return d, fmt.Errorf("%w: database %s of %s", errNotHere, name, d.Name)
		}
		d.Database = name
	}
	return d, nil
}

// table returns a table of the database by its name, and all tables.
func (d database) table(ctx context.Context, name string) (kind.Table, []kind.Table, error) {
	all, err := d.kind.Tables(ctx, d.Part, false)
	if err != nil {
		return kind.Table{}, nil, err
	}
	i := slices.IndexFunc(all, func(t kind.Table) bool { return t.Name == name })
	if i < 0 {
		return kind.Table{}, all, fmt.Errorf("%w: table %s", errNotHere, name)
	}
	return all[i], all, nil
}

// link is an entry of a list.
type link struct {
	Name, Href string
	Current    bool
}

// view is what a page shows.
type view struct {
	Host, Token string
	Writes      bool
	Databases   []link
	Tables      []link
	List        []kind.Table // with rows and sizes
	Part        string
	Database    string
	Table       string
	Showing     string // tables, rows, structure, query
	Fault       string
	Server      string
	Top         []link // about the database
	Tabs        []link // about the table
	Exports     []link

	Grid    *grid
	Indexes *grid
	Filter  filter
	Names   []string // of the columns
	Pages   []link
	SQL     string
	Done    string // what a query did

	db  database
	all []kind.Table // without counted rows; nil: not asked yet
}

// at returns the address of a page about the view's database.
func (v *view) at(path string, more ...string) string {
	q := url.Values{"part": {v.Part}}
	if v.Database != v.db.own {
		q.Set("database", v.Database)
	}
	for i := 0; i+1 < len(more); i += 2 {
		if more[i+1] != "" {
			q.Set(more[i], more[i+1])
		}
	}
	return path + "?" + q.Encode()
}

// show returns a handler that fills a view and shows it.
func (s *site) show(fill func(ctx context.Context, v *view, r *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), patience)
		defer cancel()
		v := &view{Host: s.Host, Token: s.Token, Writes: s.Writes}
		status := http.StatusOK
		d, err := s.open(ctx, r)
		if err == nil {
			v.db, v.Part, v.Database = d, d.Name, d.Database
			err = fill(ctx, v, r)
			s.lists(ctx, v)
		}
		if err != nil {
			v.Fault, status = err.Error(), http.StatusBadGateway
			if errors.Is(err, errNotHere) {
				status = http.StatusNotFound
			}
			if ctx.Err() != nil {
				v.Fault = "no answer within " + strconv.Itoa(int(patience.Seconds())) + " s"
			}
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.WriteHeader(status)
		if err := page().Execute(w, v); err != nil {
			slog.Error("console", "error", err)
		}
	}
}
