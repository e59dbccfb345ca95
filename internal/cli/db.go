package cli

import (
	"io"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dravit/internal/ui"
)

// dbPart is the part that a db command means, or "".
type dbPart struct{ name string }

func (a *app) dbCommand() *cobra.Command {
	var part dbPart
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
	c.PersistentFlags().StringVar(&part.name, "part", "", "the database `part` that is meant")
	c.AddCommand(a.dbLoadCommand(&part), a.dbDumpCommand(&part), a.dbCopyCommand(&part), a.dbMarkCommand(&part),
		a.dbRewindCommand(&part), a.dbMarksCommand(&part), a.dbShellCommand(&part), a.dbQueryCommand(&part),
		a.dbTablesCommand(&part), a.dbAccessCommand(&part))
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

// raw returns where data go as they are. A terminal does not get their control characters.
func (a *app) raw() io.Writer {
	if term.IsTerminal(int(os.Stdout.Fd())) {
		return a.ui.Out
	}
	return os.Stdout
}
