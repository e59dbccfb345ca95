package cli

import (
	"github.com/spf13/cobra"

	"dravit/internal/stack"
	"dravit/internal/ui"
)

type databaseJSON struct {
	Format   int    `json:"format"`
	Stack    string `json:"stack"`
	Database string `json:"database"`
}

func (a *app) dbAddCommand(target *stack.Target) *cobra.Command {
	return &cobra.Command{
		Use:   "add NAME",
		Short: "Create another database on the same server",
		Long: `Add creates another database on the server of the stack's database, empty, with all rights for the
application's user. The other commands take it with --database NAME.`,
		Example: `  dravit db add archive
  dravit db load old.sql --database archive`,
		Args: argument("the name of a new database", "dravit db add NAME", false),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			if err := s.AddDatabase(cmd.Context(), target.Part, args[0]); err != nil {
				return err
			}
			if a.json {
				return a.print(databaseJSON{1, s.Name, args[0]})
			}
			a.ui.DatabaseAdded(args[0])
			return nil
		},
	}
}

func (a *app) dbDropCommand(target *stack.Target) *cobra.Command {
	return &cobra.Command{
		Use:   "drop NAME",
		Short: "Delete a database that was added",
		Long: `Drop deletes a database with everything in it, whoever is connected. The part's own database stays: it
goes with dravit remove. Dravit asks first, unless --yes was given.`,
		Example: `  dravit db drop archive`,
		Args:    argument("the name of a database", "dravit db access lists them", false),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			agreed, err := a.agrees(cmd.Context(), "", "Delete the database "+args[0]+" with everything in it?")
			if err != nil {
				return err
			}
			if !agreed {
				return &ui.Failure{Exit: exitForbidden, What: "nothing was deleted", Because: "you did not agree",
					Next: "dravit db drop " + args[0] + " --yes"}
			}
			if err := s.DropDatabase(cmd.Context(), target.Part, args[0]); err != nil {
				return err
			}
			if a.json {
				return a.print(databaseJSON{1, s.Name, args[0]})
			}
			a.ui.DatabaseDropped(args[0])
			return nil
		},
	}
}
