package cli

import (
	"errors"
	"io/fs"
	"os"

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
		Short: "Show what start would run, and why",
		Long: `Plan shows what start would decide for this stack: which program serves each part, on which port,
and under which host names its sites answer. It gives the reasons for each decision, and the
options that it rejected. It starts nothing and reserves no port and no name.

With --save, plan also writes everything that its decisions depend on to a file: the stack file,
facts about the project, this machine's programs and ports, and what earlier starts left. It leaves
out the values of [env] and of settings. With --from, it decides on such a file: you see what
another machine would do.`,
		Example: `  dravit plan
  dravit plan --json | jq .decisions
  dravit plan --save ferry.json     to send to a colleague
  dravit plan --from ferry.json     what the colleague's machine would do`,
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
				a.ui.Note("what the plan depends on is in " + saveTo)
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
	c.Flags().StringVar(&saveTo, "save", "", "also write what the plan depends on to this `file`, as JSON")
	c.Flags().StringVar(&from, "from", "", "decide on this `file`, which --save wrote, not on this machine")
	c.Flags().BoolVar(&afresh, "afresh", false, "choose programs and ports as if the stack had never run")
	c.MarkFlagsMutuallyExclusive("save", "from")
	return c
}

// planFrom makes the plan for a saved input.
func planFrom(file string, afresh bool) (plan.Input, plan.Plan, error) {
	text, err := os.ReadFile(file)
	var in plan.Input
	if err == nil {
		in, err = plan.ParseInput(text)
	}
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
			Next:    "dravit plan --save writes one",
		}
	}
	in.Consent.Afresh = in.Consent.Afresh || afresh
	return in, plan.Make(in, all.Kinds().ByName()), nil
}
