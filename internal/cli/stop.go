package cli

import (
	"cmp"

	"github.com/spf13/cobra"

	"dravit/internal/lifecycle"
)

func (a *app) stopCommand() *cobra.Command {
	skip := false
	c := &cobra.Command{
		Use:   "stop [PART...]",
		Short: "Stop the stack, or only the named parts; data is kept",
		Long: "Stop stops the whole stack, or only the named parts, in an order that loses nothing: web servers " +
			"first, databases last. Databases and caught mail are kept. Before it stops the whole stack, it runs " +
			"the tasks with when = \"before-stop\"; if one fails, nothing is stopped.",
		Example: `  dravit stop
  dravit stop --stack saltmarsh-ferry     a stack of another folder`,
		RunE: func(cmd *cobra.Command, parts []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			tasks, end := a.showTasks()
			if skip {
				tasks = nil
			}
			last, err := s.Stop(cmd.Context(), parts, tasks)
			end()
			if err != nil {
				return err
			}
			if a.json {
				names := []string{}
				for _, p := range last {
					names = append(names, p.Name)
				}
				if err := a.print(map[string]any{"format": 1, "stack": s.Name, "ended": names}); err != nil {
					return err
				}
			} else {
				a.ui.Stopped(cmp.Or(s.Name, s.Dir), last) // without a name, it was never started
			}
			for _, p := range last {
				if p.State != lifecycle.Stopped {
					return exitCode(exitFailed)
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&skip, "skip-tasks", false, "do not run the tasks with when = \"before-stop\"")
	return c
}
