package cli

import (
	"errors"
	"io/fs"

	"github.com/spf13/cobra"

	"dravit/internal/kind/all"
	"dravit/internal/plan"
	"dravit/internal/ui"
)

func (a *app) planCommand() *cobra.Command {
	var saveTo, from string
	var afresh bool
	c := &cobra.Command{
		Use:   "plan",
		Short: "Show what would run here, and why",
		Long: `Plan decides which program serves each part of the stack file, on which port, and under which names its sites answer,
and gives the reasons for each decision with the options it turned down. It starts nothing and gives no port or name away.

With --save it also writes everything that the decisions rest on: the stack file, what the project's files say, the machine's
programs and ports, and what earlier starts left. Values of [env] and of settings are left out. With --from it decides on such a
file, anywhere: what a colleague's machine would do.`,
		Example: "  dravit plan\n  dravit plan --json | jq .decisions\n  dravit plan --save ferry.json\n" +
			"  dravit plan --from ferry.json",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var in plan.Input
			var p plan.Plan
			if from != "" {
				var err error
				if in, p, err = planFrom(from, afresh); err != nil {
					return err
				}
			} else {
				s, err := a.stack()
				if err != nil {
					return err
				}
				if in, p, err = s.Plan(cmd.Context(), plan.Consent{Afresh: afresh}); err != nil {
					return err
				}
			}
			if saveTo != "" {
				if err := save(saveTo, in.Saved()); err != nil {
					return err
				}
			}
			if a.json {
				if err := a.print(p); err != nil || p.OK {
					return err
				}
				return exitCode(exitNoPlan)
			}
			a.ui.Plan(p)
			if saveTo != "" {
				a.ui.Note("what the plan rests on is in " + saveTo)
			}
			if !p.OK {
				return noPlan(p)
			}
			if from == "" {
				a.ui.Next("dravit start")
			}
			return nil
		},
	}
	c.Flags().StringVar(&saveTo, "save", "", "also write what the plan rests on to a `file`, as JSON")
	c.Flags().StringVar(&from, "from", "", "decide on what a `file` of --save holds, not on this machine")
	c.Flags().BoolVar(&afresh, "afresh", false, "choose as if nothing had run before")
	c.MarkFlagsMutuallyExclusive("save", "from")
	return c
}

// planFrom decides on a saved input.
func planFrom(file string, afresh bool) (plan.Input, plan.Plan, error) {
	in, err := plan.ReadInput(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return in, plan.Plan{}, &ui.Failure{
			Exit: exitUsage,
			What: "there is no file " + file,
			Next: "dravit plan --save " + file + ", where the stack is",
		}
	case err != nil:
		return in, plan.Plan{}, &ui.Failure{
			Exit:    exitUsage,
			What:    file + " holds no saved plan",
			Because: err.Error(),
			Next:    "dravit plan --save makes one",
		}
	}
	in.Consent.Afresh = in.Consent.Afresh || afresh
	return in, plan.Make(in, all.Kinds().ByName()), nil
}
