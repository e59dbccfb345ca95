package cli

import (
	"os"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/environment"
	"dravit/internal/stack"
	"dravit/internal/ui"
)

type envJSON struct {
	Format    int               `json:"format"`
	Stack     string            `json:"stack"`
	Variables map[string]string `json:"variables"`
	Path      []string          `json:"path"` // folders that come first in PATH
}

func (a *app) envCommand() *cobra.Command {
	var part, format string
	var editor bool
	c := &cobra.Command{
		Use:   "env",
		Short: "Print the stack's environment, for a shell or a program",
		Long: `Env prints the stack's environment: the variables that dravit run gives to a command, and the folders
that come first in PATH. Choose the form with --format:

  sh           for sh, bash and zsh
  fish         for fish
  powershell   for PowerShell
  dotenv       NAME='value' lines, without PATH

The output contains passwords. With --editor, env says instead what an editor needs to know, without
passwords: which programs run the code, where the debugger calls, and where the databases are.`,
		Example: `  eval "$(dravit env)"                  in this shell, until it ends
  dravit env --format fish | source
  dravit env --format dotenv > .env.local
  dravit env --json | jq -r .variables.DATABASE_URL
  dravit env --editor`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			if editor {
				if cmd.Flags().Changed("part") || cmd.Flags().Changed("format") {
					return &ui.Failure{
						Exit:    exitUsage,
						What:    "--editor goes with neither --part nor --format",
						Because: "it describes the whole stack, and prints no variables",
						Next:    "dravit env --editor, or with --json",
					}
				}
				return a.editor(s)
			}
			vars, folders, err := s.Variables(part)
			if err != nil {
				return err
			}
			if a.json {
				all := map[string]string{}
				for _, v := range vars {
					name, value, _ := strings.Cut(v, "=")
					all[name] = value
				}
				return a.print(envJSON{1, s.Name, all, folders})
			}
			text, err := environment.Format(format, vars, folders)
			if err != nil {
				return &ui.Failure{Exit: exitUsage, What: err.Error()}
			}
			_, err = os.Stdout.WriteString(text) // a shell reads it: it must not be changed
			return err
		},
	}
	c.Flags().BoolVar(&editor, "editor", false, "say what an editor needs to know about the stack")
	c.Flags().StringVar(&part, "part", "", "the environment of this `part`; its runtime comes first in PATH")
	c.Flags().StringVar(&format, "format", "sh", "write it in this `form`: "+strings.Join(environment.Formats, ", "))
	return c
}

// editor shows what an editor needs to know about a stack.
func (a *app) editor(s *stack.Stack) error {
	e, err := s.Editor()
	if err != nil {
		return err
	}
	if a.json {
		return a.print(e)
	}
	a.ui.Editor(e)
	return nil
}
