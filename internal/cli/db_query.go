package cli

import (
	"encoding/csv"
	"io"
	"os"

	"github.com/spf13/cobra"

	"dravit/internal/databases"
	"dravit/internal/kind"
	"dravit/internal/patient"
)

// queryJSON is the result of a query: one entry for each statement that has rows. A value is a text, or null.
type queryJSON struct {
	Format  int           `json:"format"`
	Stack   string        `json:"stack"`
	Results []queryResult `json:"results"`
}

type queryResult struct {
	Columns []string    `json:"columns"`
	Rows    [][]*string `json:"rows"`
}

type tablesJSON struct {
	Format int          `json:"format"`
	Stack  string       `json:"stack"`
	Part   string       `json:"part"`
	Tables []kind.Table `json:"tables"`
}

type accessJSON struct {
	Format int    `json:"format"`
	Stack  string `json:"stack"`
	databases.Access
}

func (a *app) dbQueryCommand(target *databases.Target) *cobra.Command {
	var asCSV bool
	c := &cobra.Command{
		Use:   "query SQL",
		Short: "Run SQL in the database, and show the rows",
		Long: `Query runs SQL as the application's user, and shows the rows of each statement that has some: as a
table, with --csv as CSV (RFC 4180), or with --json. With - the SQL comes from standard input. NULL is
shown as a dimmed NULL, in CSV as nothing.`,
		Example: `  dravit db query 'SELECT * FROM bookings LIMIT 5'
  dravit db query --csv 'SELECT name, seats FROM boats' > boats.csv
  dravit db query - < report.sql`,
		Args: argument("SQL, or - for standard input", "dravit db query 'SELECT 1'", false),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.databases()
			if err != nil {
				return err
			}
			sql := args[0]
			if sql == "-" {
				text, err := io.ReadAll(patient.Reader(cmd.Context(), os.Stdin))
				if err != nil {
					return err
				}
				sql = string(text)
			}
			switch {
			case a.json:
				out := queryJSON{1, s.Name, []queryResult{}}
				if err := s.Query(cmd.Context(), *target, sql, out.take()); err != nil {
					return err
				}
				return a.print(out)
			case asCSV:
				w := csv.NewWriter(a.raw())
				err := s.Query(cmd.Context(), *target, sql, csvRows(w))
				w.Flush()
				if err != nil {
					return err
				}
				return w.Error()
			}
			grid := a.ui.Grid()
			err = s.Query(cmd.Context(), *target, sql, kind.Rows{Columns: grid.Columns, Row: grid.Row})
			grid.End(err == nil)
			return err
		},
	}
	c.Flags().BoolVar(&asCSV, "csv", false, "write CSV")
	return c
}

// take collects results.
func (q *queryJSON) take() kind.Rows {
	return kind.Rows{
		Columns: func(names []string) error {
			q.Results = append(q.Results, queryResult{names, [][]*string{}})
			return nil
		},
		Row: func(values []*string) error {
			last := &q.Results[len(q.Results)-1]
			last.Rows = append(last.Rows, append([]*string{}, values...))
			return nil
		},
	}
}

// csvRows writes results one after the other, each with its columns first.
func csvRows(w *csv.Writer) kind.Rows {
	return kind.Rows{
		Columns: w.Write,
		Row: func(values []*string) error {
			record := make([]string, len(values))
			for i, v := range values {
				if v != nil {
					record[i] = *v
				}
			}
			return w.Write(record)
		},
	}
}

func (a *app) dbTablesCommand(target *databases.Target) *cobra.Command {
	return &cobra.Command{
		Use:   "tables",
		Short: "List the tables of the database, with rows and sizes",
		Long: `Tables lists the tables and views of the database with their rows and their sizes, indexes included.
Rows of small tables are counted; for large ones the server's own estimate is shown, with a ~.`,
		Example: `  dravit db tables
  dravit db tables --json | jq -r '.tables[].name'`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.databases()
			if err != nil {
				return err
			}
			name, tables, err := s.Tables(cmd.Context(), *target)
			if err != nil {
				return err
			}
			if a.json {
				return a.print(tablesJSON{1, s.Name, name, tables})
			}
			a.ui.Tables(name, tables)
			return nil
		},
	}
}

func (a *app) dbAccessCommand(target *databases.Target) *cobra.Command {
	var url, password bool
	c := &cobra.Command{
		Use:   "access",
		Short: "Show how a client of yours reaches the database",
		Long: `Access shows host, port, socket, user and database for a client of yours, such as a graphical one.
The password is shown with --password only. With --url one line is written, which most clients take.
Commands of the stack need none of it: dravit run gives them the same as variables.`,
		Example: `  dravit db access
  dravit db access --url --password | pbcopy`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.databases()
			if err != nil {
				return err
			}
			access, err := s.Access(cmd.Context(), *target, password)
			if err != nil {
				return err
			}
			switch {
			case a.json:
				return a.print(accessJSON{1, s.Name, access})
			case url:
				_, err := io.WriteString(a.ui.Out, access.URL+"\n")
				return err
			}
			a.ui.Access(access)
			return nil
		},
	}
	c.Flags().BoolVar(&url, "url", false, "write the URL alone")
	c.Flags().BoolVar(&password, "password", false, "with the password")
	return c
}
