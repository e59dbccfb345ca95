package cli

import (
	"github.com/spf13/cobra"

	"dravit/internal/about"
	"dravit/internal/plan"
	"dravit/internal/trouble"
	"dravit/internal/ui"
)

type whyJSON struct {
	Format int `json:"format"`
	plan.Decision
}

func (a *app) whyCommand() *cobra.Command {
	var from string
	c := &cobra.Command{
		Use:   "why [SUBJECT]",
		Short: "Explain one decision of the plan",
		Long: `Why explains one decision of the plan: what Dravit chose, the reasons, and each option that it
rejected with the reason for that. You name the decision by its path in the stack file, such as
part.app.version. You may shorten it as long as it stays unambiguous: app.version. Without a name,
why lists all decisions.`,
		Example: `  dravit why
  dravit why app.version     why this version of the part app
  dravit why part.app.extensions.redis
  dravit why db.port`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return &ui.Failure{Exit: exitUsage, What: "why takes one subject", Next: "dravit why lists them"}
			}
			return nil
		},
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			s, err := a.stack()
			if err != nil || len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			_, p, _ := s.Plan(cmd.Context(), plan.Consent{})
			return paths(p.Subjects()), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			var p plan.Plan
			if from != "" {
				var err error
				if _, p, err = planFrom(from, false); err != nil {
					return err
				}
			} else {
				s, err := a.stack()
				if err != nil {
					return err
				}
				if _, p, err = s.Plan(cmd.Context(), plan.Consent{}); err != nil {
					return err
				}
			}
			if len(args) == 0 {
				if a.json {
					return a.print(map[string]any{"format": 1, "subjects": p.Subjects()})
				}
				a.ui.Subjects(p)
				return nil
			}
			d, fault, near := p.Why(args[0])
			switch {
			case fault != nil:
				return &ui.Failure{Exit: exitNoPlan, What: fault.What, Because: fault.Because, Next: fault.Next}
			case d == nil && len(near) > 0:
				return &ui.Failure{
					Exit:    exitUsage,
					What:    "it is ambiguous what " + args[0] + " means",
					Because: "there are " + trouble.List(paths(near)),
					Next:    "dravit why " + near[0].String(),
				}
			case d == nil:
				return &ui.Failure{
					Exit: exitUsage,
					What: "there is no decision about " + args[0],
					Next: "dravit why lists every subject",
				}
			case a.json:
				return a.print(whyJSON{1, *d})
			}
			a.ui.Why(*d)
			return nil
		},
	}
	c.Flags().StringVar(&from, "from", "", "explain the plan of this `file`, which plan --save wrote")
	return c
}

// paths returns subjects as a user types them.
func paths(all []about.Subject) (texts []string) {
	for _, s := range all {
		texts = append(texts, s.String())
	}
	return texts
}
