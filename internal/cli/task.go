package cli

import (
	"github.com/spf13/cobra"

	"dravit/internal/stack"
	"dravit/internal/task"
	"dravit/internal/ui"
)

type tasksJSON struct {
	Format int                `json:"format"`
	Stack  string             `json:"stack"`
	Tasks  []stack.TaskStatus `json:"tasks"`
}

type taskJSON struct {
	Format int         `json:"format"`
	Stack  string      `json:"stack"`
	Task   string      `json:"task"`
	Run    task.Record `json:"run"`
}

func (a *app) taskCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "task [NAME]",
		Short: "List the stack's tasks, or run one",
		Long: `Task lists the tasks of the stack file: commands that prepare the project, such as one that creates
its tables. For each it shows when it runs, when it ran last, how long it took and how it ended.

With the name of a task, it runs this task now, in the environment of its part. The stack must run.
Dravit runs the other tasks by itself: at the first start (once for the data of the databases), at
every start, or before a stop.`,
		Example: `  dravit task
  dravit task tables     run the task tables now
  dravit task --json | jq '.tasks[] | select(.last.code != 0)'`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return &ui.Failure{Exit: exitUsage, What: "task takes one name", Next: "dravit task lists them"}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			if len(args) == 0 {
				return a.tasks(s)
			}
			r, err := s.RunTask(cmd.Context(), args[0], func(e stack.TaskEvent) {
				if e.Ended == nil && !a.json {
					a.ui.Line(e.Line)
				}
			})
			if err == nil && a.json {
				return a.print(taskJSON{1, s.Name, args[0], r})
			}
			return err
		},
	}
}

func (a *app) tasks(s *stack.Stack) error {
	all, err := s.Tasks()
	if err != nil {
		return err
	}
	if a.json {
		return a.print(tasksJSON{1, s.Name, all})
	}
	a.ui.Tasks(all)
	return nil
}

// showTasks returns a function that shows the steps of tasks, and one that ends that.
func (a *app) showTasks() (report func(stack.TaskEvent), end func()) {
	if a.json {
		return func(stack.TaskEvent) {}, func() {}
	}
	progress := a.ui.Progress()
	return progress.Task, progress.End
}
