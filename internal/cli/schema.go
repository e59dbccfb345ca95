package cli

import (
	"runtime"

	"github.com/spf13/cobra"

	"dravit/internal/kind/all"
	"dravit/internal/stackfile"
)

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the stack file's JSON Schema, for editors",
		Long: "Schema prints the JSON Schema (draft 2020-12) of dravit.toml. An editor that knows it " +
			"completes keys and marks faults.",
		Example: "  dravit schema > dravit.schema.json",
		Args:    noArgs,
		RunE: func(*cobra.Command, []string) error {
			return a.print(stackfile.Schema(all.Kinds().Vocabulary()))
		},
	}
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Print Dravit's version",
		Example: "  dravit version\n  dravit version --json",
		Args:    noArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.json {
				return a.print(map[string]any{
					"format":  1,
					"version": Version,
					"go":      runtime.Version(),
					"os":      runtime.GOOS,
					"arch":    runtime.GOARCH,
				})
			}
			a.ui.Line(versionLine())
			return nil
		},
	}
}

// versionLine is what version and --version print.
func versionLine() string {
	return "dravit " + Version + " (" + runtime.Version() + ", " + runtime.GOOS + "/" + runtime.GOARCH + ")"
}
