package kind

import (
	"context"
	"io"
	"strings"
)

// Database is a store of SQL databases. Its methods act in the part's database as the application's user, unless they
// say otherwise; the part's server answers. A kind is one if and only if its Traits have Databases.
type Database interface {
	Store
	// Load runs the SQL of a dump, and returns what it left out as it reaches beyond the database. The dump is somebody
	// else's: it runs with rights in this database alone, and no client obeys it. Load may have run a part of the dump
	// when it fails; the error then names the dump's line and the server's words. One load at a time runs on a server.
	Load(ctx context.Context, p Part, dump io.Reader) (left []string, err error)
	// Create creates the database, empty and with all rights of the application's user in it, unless it exists. Drop
	// deletes it, whoever is connected; a database that is not there is no error.
	Create(ctx context.Context, p Part) error
	Drop(ctx context.Context, p Part) error
	// Names returns the names of the databases that the application's user has, sorted.
	Names(ctx context.Context, p Part) ([]string, error)
	// Replace calls load with a part whose database is another, empty one, and then puts that in the place of p's: as a
	// whole, and only if load returned nil, whatever dies meanwhile. It is called only if Traits.Replaces.
	Replace(ctx context.Context, p Part, load func(staged Part) error) error
	// Tidy removes what a load left that was killed: accounts, databases, files. The caller has taken the part's data
	// for a change, and the server answers.
	Tidy(ctx context.Context, p Part) error
	// Dump writes the SQL that creates everything in the database again, without owners and rights.
	Dump(ctx context.Context, p Part, to io.Writer) error
	// Query runs SQL statements, and gives the result of each to rows. The values are texts as the database writes
	// them, or nil for NULL.
	Query(ctx context.Context, p Part, sql string, rows Rows) error
	// Read runs one statement, which can change nothing and opens no other file, whatever it says: the server or the
	// library keeps it from that. It gives its result to rows, as Query does.
	Read(ctx context.Context, p Part, statement string, rows Rows) error
	// Tables describes the tables and views, in the order of their names. If count, it counts the rows of small tables.
	Tables(ctx context.Context, p Part, count bool) ([]Table, error)
	Dialect() Dialect
	// Shell returns the command of the database's own interactive client: one of the programs that Files returned.
	Shell(p Part) []string
	// Copy copies the data of a part without a process, while others may use them, into the empty folder dir, and
	// Restore puts such a copy in their place, as a whole. A part with a process is copied at rest, without them.
	Copy(ctx context.Context, p Part, dir string) error
	Restore(ctx context.Context, p Part, dir string) error
}

// Rows takes the results of a query: the columns of each that has some, and then its rows. An error of theirs ends the
// query.
type Rows struct {
	Columns func(names []string) error
	Row     func(values []*string) error
}

// Table is a table or a view of a database.
type Table struct {
	Name string `json:"name"`
	SQL  string `json:"-"` // the name as a statement writes it
	View bool   `json:"view"`
	// Rows is how many rows the table has, and Exact whether the database counted them for this answer. nil: unknown.
	Rows  *int64 `json:"rows"`
	Exact bool   `json:"exact"`
	Bytes *int64 `json:"bytes"` // with its indexes; nil: unknown
}

// Account is a user of a database besides the application.
type Account struct {
	Name, Password string
	ReadOnly       bool
}

// Dialect is how a database writes SQL.
type Dialect struct {
	Quote   string // around a name
	Escapes bool   // a backslash in a literal is written twice
	Text    string // the type to which every value can be cast
	// AsLiteral returns an expression for a column's value as SQL writes it. If nil, Literal makes that of the text.
	AsLiteral func(column string) string
	// Columns returns a query for the columns of a table: name, type, whether it may be NULL, default, and whether it
	// is in the primary key.
	Columns func(Table) string
	// Indexes returns a query for the indexes of a table: name, whether it is unique, and its columns.
	Indexes func(Table) string
}

// Name returns a name as a statement writes it.
func (d Dialect) Name(name string) string {
	return d.Quote + strings.ReplaceAll(name, d.Quote, d.Quote+d.Quote) + d.Quote
}

// Literal returns a text as a statement writes it.
func (d Dialect) Literal(text string) string {
	if d.Escapes {
		text = strings.ReplaceAll(text, `\`, `\\`)
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}
