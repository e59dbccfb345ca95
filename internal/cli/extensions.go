package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"dravit/internal/lifecycle"
	"dravit/internal/stack"
	"dravit/internal/ui"
)

func (a *app) extensionsCommand() *cobra.Command {
	var part string
	c := &cobra.Command{
		Use:   "extensions",
		Short: "Show the runtimes' extensions, and switch them on and off",
		Long: `Extensions lists the extensions of each runtime of the stack: those that are built in, loaded,
available, unfit (built for another version) or missing. Dravit reads from the extension's file
what it was built for, and does not load it for that.

If the stack runs, Dravit also asks the web process and the command-line program what they have
loaded, and names the differences. For runtimes other than PHP it shows native modules and
packages of the project that were built for another version.`,
		Example: `  dravit extensions
  dravit extensions --part app     only those of the part app
  dravit extensions on intl        add intl to the stack file, and restart its part
  dravit extensions off xdebug`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			x, err := s.Extensions(cmd.Context(), part)
			if err != nil {
				return err
			}
			if a.json {
				err = a.print(x)
			} else {
				a.ui.Extensions(x)
			}
			for _, p := range x.Parts {
				if err == nil && (len(p.Differences) > 0 || p.Debugger != nil && !p.Debugger.Live) {
					err = exitCode(exitFailed)
				}
			}
			return err
		},
	}
	c.PersistentFlags().StringVar(&part, "part", "", "only the extensions of this `part`")
	c.AddCommand(a.switchCommand("on", true, &part), a.switchCommand("off", false, &part))
	return c
}

func (a *app) switchCommand(word string, on bool, part *string) *cobra.Command {
	short, long := "Switch an extension on", "On adds an extension to the part's list in the stack file"
	if !on {
		short, long = "Switch an extension off",
			"Off removes an extension from the part's list in the stack file"
	}
	return &cobra.Command{
		Use:   word + " NAME",
		Short: short,
		Long: long + `. Everything else in the file stays as it
is written. If the stack runs, Dravit restarts the part, and asks both its web process and its
command-line program what they have loaded.

If the stack file has no list of extensions, every extension is loaded. Then the command changes
the list of those to leave out (without). If no plan would satisfy the changed file, the command
leaves the file as it is.`,
		Example: "  dravit extensions " + word + " intl",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return &ui.Failure{
					Exit: exitUsage,
					What: "extensions " + word + " needs one name",
					Next: "dravit extensions lists them",
				}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			report, end := func(lifecycle.Progress) {}, func() {}
			if !a.json {
				progress := a.ui.Progress()
				report, end = progress.Report, progress.End
			}
			out, err := s.Switch(cmd.Context(), *part, args[0], on, report)
			end()
			if errors.Is(err, stack.ErrNoPlan) {
				f := noPlan(out.Plan)
				f.Next = "dravit extensions lists what there is; the stack file was not changed"
				return f
			}
			if err != nil {
				return err
			}
			wrong := out.Runs && out.Because == "" && (out.Web != on || out.Command != on)
			if a.json {
				err = a.print(out)
			} else {
				a.ui.Switched(out)
			}
			if err == nil && wrong {
				return exitCode(exitFailed)
			}
			if err == nil && !out.Runs && out.Report != nil {
				return &ui.Failure{
					Exit:    exitFailed,
					What:    fmt.Sprintf("the processes of part %s could not be asked", out.Part),
					Because: out.Report.Unproved,
					Next:    "dravit status",
				}
			}
			return err
		},
	}
}
