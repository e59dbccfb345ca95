package cli

import (
	"github.com/spf13/cobra"

	"dravit/internal/databases"
	"dravit/internal/kind"
	"dravit/internal/ui"
)

type databaseJSON struct {
	Format   int    `json:"format"`
	Stack    string `json:"stack"`
	Database string `json:"database"`
}

type userJSON struct {
	Format   int    `json:"format"`
	Stack    string `json:"stack"`
	User     string `json:"user"`
	Password string `json:"password,omitempty"`
	ReadOnly bool   `json:"read_only"`
}

func (a *app) dbAddCommand(target *databases.Target) *cobra.Command {
	var user kind.Account
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Create another database, or another user, on the same server",
		Long: `Add creates another database on the server of the stack's database, empty, with all rights for the
application's user. The other commands take it with --database NAME.

With --user, it creates an account for somebody else, with the rights of the application's user, or with
--read-only for reading. Its password is random, and shown this once.`,
		Example: `  dravit db add archive
  dravit db load old.sql --database archive
  dravit db add --user clerk --read-only`,
		Args: databaseOrUser(&user.Name),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.databases()
			if err != nil {
				return err
			}
			if user.Name != "" {
				made, err := s.AddUser(cmd.Context(), *target, user.Name, user.ReadOnly)
				if err != nil {
					return err
				}
				if a.json {
					return a.print(userJSON{1, s.Name, made.Name, made.Password, made.ReadOnly})
				}
				a.ui.UserAdded(made)
				return nil
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
	c.Flags().StringVar(&user.Name, "user", "", "create this `user` instead of a database")
	c.Flags().BoolVar(&user.ReadOnly, "read-only", false, "the user may read, and change nothing")
	return c
}

// databaseOrUser checks that a command has the name of a database, or the option --user.
func databaseOrUser(user *string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if *user != "" && len(args) == 0 {
			return nil
		}
		if *user != "" {
			return &ui.Failure{Exit: exitUsage, What: cmd.CommandPath() + " takes a database or --user, not both",
				Next: "leave one of them out"}
		}
		return argument("the name of a database", cmd.CommandPath()+" NAME", false)(cmd, args)
	}
}

func (a *app) dbDropCommand(target *databases.Target) *cobra.Command {
	var user string
	c := &cobra.Command{
		Use:   "drop NAME",
		Short: "Delete a database, or a user, that was added",
		Long: `Drop deletes a database with everything in it, whoever is connected; with --user, an account. The part's
own database and user stay: they go with dravit remove. Dravit asks first, unless --yes was given.`,
		Example: `  dravit db drop archive
  dravit db drop --user clerk`,
		Args: databaseOrUser(&user),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.databases()
			if err != nil {
				return err
			}
			name, question := user, "Delete the user "+user+"?"
			if user == "" {
				name, question = args[0], "Delete the database "+args[0]+" with everything in it?"
			}
			agreed, err := a.agrees(cmd.Context(), "", question)
			if err != nil {
				return err
			}
			if !agreed {
				return &ui.Failure{Exit: exitForbidden, What: "nothing was deleted", Because: "you did not agree",
					Next: "the same command with --yes"}
			}
			if user != "" {
				err = s.DropUser(cmd.Context(), *target, user)
			} else {
				err = s.DropDatabase(cmd.Context(), target.Part, name)
			}
			if err != nil {
				return err
			}
			switch {
			case a.json && user != "":
				return a.print(userJSON{Format: 1, Stack: s.Name, User: user})
			case a.json:
				return a.print(databaseJSON{1, s.Name, name})
			}
			a.ui.DatabaseDropped(name)
			return nil
		},
	}
	c.Flags().StringVar(&user, "user", "", "delete this `user` instead of a database")
	return c
}
