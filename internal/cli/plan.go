package cli

import "github.com/spf13/cobra"

func (a *app) planCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "plan",
		Short: "Show what would run here, and why",
		Long: `Plan decides which program serves each part of the stack file, on which port, and under which names its sites answer,
and gives the reasons for each decision with the options it turned down. It starts nothing and gives no port or name away.`,
		Example: "  dravit plan\n  dravit plan --json | jq .decisions",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			_, p, err := s.Plan(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				if err := a.print(p); err != nil || p.OK {
					return err
				}
				return exitCode(exitNoPlan)
			}
			a.ui.Plan(p)
			if !p.OK {
				return noPlan(p)
			}
			a.ui.Next("dravit start")
			return nil
		},
	}
}
