package cli

import (
	"io"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dravit/internal/databases"
	"dravit/internal/ui"
)

func (a *app) dbCommand() *cobra.Command {
	var target databases.Target
	c := &cobra.Command{
		Use:   "db",
		Short: "Load, look at, mark and rewind databases",
		Long: `Db works on the stack's SQL databases: MariaDB, PostgreSQL and SQLite. If the stack has several, --part
names one; otherwise the one with main = true is meant.`,
		Example: `  dravit db load backup.sql.gz
  dravit db mark; dravit run -- php migrate.php; dravit db rewind
  dravit db query 'SELECT COUNT(*) FROM bookings'`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	c.PersistentFlags().StringVar(&target.Part, "part", "", "the database `part` that is meant")
	c.PersistentFlags().StringVar(&target.Name, "database", "",
		"another database of the part's server than its own, by `name`")
	c.AddCommand(a.dbLoadCommand(&target), a.dbDumpCommand(&target), a.dbCopyCommand(&target), a.dbMarkCommand(&target),
		a.dbRewindCommand(&target), a.dbMarksCommand(&target), a.dbShellCommand(&target), a.dbQueryCommand(&target),
		a.dbTablesCommand(&target), a.dbAccessCommand(&target), a.dbAddCommand(&target), a.dbDropCommand(&target))
	return c
}

// argument returns a check that a command has one argument, or none if that is allowed.
func argument(what, next string, optional bool) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 1 || len(args) == 0 && optional {
			return nil
		}
		return &ui.Failure{Exit: exitUsage, What: cmd.CommandPath() + " takes " + what, Next: next}
	}
}

// databases returns the data of the stack that is meant.
func (a *app) databases() (*databases.Stack, error) {
	s, err := a.stack()
	if err != nil {
		return nil, err
	}
	return s.Databases()
}

// raw returns where data go as they are. A terminal does not get their control characters.
func (a *app) raw() io.Writer {
	if term.IsTerminal(int(os.Stdout.Fd())) {
		return a.ui.Out
	}
	return os.Stdout
}
