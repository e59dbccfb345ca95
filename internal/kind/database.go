package kind

import (
	"context"
	"io"
)

// Database is a store of SQL databases. Its methods act in the part's database as the application's user, unless they
// say otherwise; the part's server answers. A kind is one if and only if its Traits have Databases.
type Database interface {
	Store
	// Load runs the SQL of a dump, and returns what it left out as it reaches beyond the database. It may have run a
	// part of the dump when it fails; the error then names the dump's line and the server's words.
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
	// Dump writes the SQL that creates everything in the database again, without owners and rights.
	Dump(ctx context.Context, p Part, to io.Writer) error
	// Query runs SQL statements, and gives the result of each to rows. The values are texts as the database writes
	// them, or nil for NULL.
	Query(ctx context.Context, p Part, sql string, rows Rows) error
	// Tables describes the tables and views, in the order of their names.
	Tables(ctx context.Context, p Part) ([]Table, error)
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
	View bool   `json:"view"`
	// Rows is how many rows the table has, and Exact whether the database counted them for this answer. nil: unknown.
	Rows  *int64 `json:"rows"`
	Exact bool   `json:"exact"`
	Bytes *int64 `json:"bytes"` // with its indexes; nil: unknown
}
