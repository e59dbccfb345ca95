package cli

import (
	"fmt"
	"os"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dravit/internal/ui"
)

func (a *app) shellCommand() *cobra.Command {
	var part string
	c := &cobra.Command{
		Use:   "shell",
		Short: "Open a shell in the stack's environment",
		Long: `Shell opens your interactive shell ($SHELL) with the stack's environment, as dravit run gives it to a
command. The shell reads its usual files, and its prompt begins with the stack's name. With -C or
--stack it opens in the project's folder, otherwise in the current one. Leave it with exit.`,
		Example: `  dravit shell
  dravit shell --part old     with the runtime of the part old first in PATH`,
		Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.json || !term.IsTerminal(int(os.Stdin.Fd())) {
				return &ui.Failure{
					Exit:    exitUsage,
					What:    "a shell needs a terminal",
					Because: "standard input is none, or --json was given",
					Next:    "dravit run -- COMMAND, or dravit env",
				}
			}
			s, err := a.stack()
			if err != nil {
				return err
			}
			command, env, err := s.Shell(part, os.Environ())
			if err != nil {
				return err
			}
			if a.dir != "." || a.name != "" { // else where the user is
				if err := os.Chdir(s.Dir); err != nil {
					return err
				}
			}
			return replaceProcess(command, env)
		},
	}
	c.Flags().StringVar(&part, "part", "", "use the environment of this `part`; its runtime comes first in PATH")
	return c
}

// replaceProcess runs a command in this process. It returns only if that fails.
func replaceProcess(command, env []string) error {
	err := syscall.Exec(command[0], command, env)
	return fmt.Errorf("%s cannot be run: %w", command[0], err)
}
