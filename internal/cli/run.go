package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"

	"dravit/internal/kind"
	"dravit/internal/ui"
)

func (a *app) runCommand() *cobra.Command {
	var part string
	c := &cobra.Command{
		Use:   "run -- COMMAND [ARG...]",
		Short: "Run a command with the stack's environment",
		Long: `Run runs a command with the stack's environment: DATABASE_URL, DB_HOST and so on, and a PATH on
which the stack's own runtime comes first. php, for example, is the version that serves the pages,
with the same settings and extensions. mariadb, psql, redis-cli and sqlite3 connect to the
stack's databases as the application's user, without asking for a password.

With -C or --stack the command runs in the project's folder, otherwise in the current one. The exit
code is the command's own. 125 means that Dravit failed, 127 that there is no such command, 126
that the command cannot be executed.`,
		Example: `  dravit run -- php -m
  dravit run --part old -- php -v     the version that the part old runs
  dravit run -- sh -c 'echo $DATABASE_URL'`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return &ui.Failure{Exit: exitUsage, What: "run needs a command", Next: "dravit run -- php -m"}
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			env, err := s.Environment(part, os.Environ())
			if err != nil {
				return err
			}
			if a.dir != "." || a.name != "" { // else where the caller stands
				if err := os.Chdir(s.Dir); err != nil {
					return err
				}
			}
			if err := os.Setenv("PATH", kind.Getenv(env, "PATH")); err != nil { // LookPath reads it
				return err
			}
			file, err := exec.LookPath(args[0])
			if err == nil {
				file, err = filepath.Abs(file)
			}
			if err == nil {
				err = syscall.Exec(file, args, env)
			}
			a.ui.Failure(&ui.Failure{What: fmt.Sprintf("the command %s cannot be run", args[0]), Because: err.Error()})
			if errors.Is(err, fs.ErrNotExist) || errors.Is(err, exec.ErrNotFound) {
				return exitCode(127)
			}
			return exitCode(126)
		},
	}
	c.Flags().StringVar(&part, "part", "",
		"use the environment of this `part`; its runtime comes first in PATH")
	c.Flags().SetInterspersed(false)
	return c
}
