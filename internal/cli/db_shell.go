package cli

import (
	"errors"
	"os"

	"github.com/spf13/cobra"

	"dravit/internal/databases"
	"dravit/internal/ui"
)

func (a *app) dbShellCommand(target *databases.Target) *cobra.Command {
	return &cobra.Command{
		Use:   "shell",
		Short: "Open the database's own client",
		Long: `Shell opens the database's own client (mariadb, psql or sqlite3) as the application's user, without
asking for a password. It keeps its history as it always does. Input that is no terminal is run.`,
		Example: `  dravit db shell
  dravit db shell < migration.sql`,
		Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.databases()
			if err != nil {
				return err
			}
			command, env, err := s.Shell(*target, os.Environ())
			if err != nil {
				return err
			}
			if _, err := os.Stat(command[0]); errors.Is(err, os.ErrNotExist) {
				return &ui.Failure{Exit: exitFailed, What: "the database's client is not installed",
					Because: "this machine has no program of that kind", Next: "dravit db query SQL"}
			}
			return replaceProcess(command, env)
		},
	}
}
