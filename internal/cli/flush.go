package cli

import (
	"github.com/spf13/cobra"
)

type flushJSON struct {
	Format  int      `json:"format"`
	Stack   string   `json:"stack"`
	Flushed []string `json:"flushed"`
}

func (a *app) flushCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "flush [PART...]",
		Short: "Empty the stack's caches",
		Long: `Flush deletes everything in the named caches (Redis, memcached, dravit-cache), or in all of the stack's.
If an application keeps sessions or queues in a cache, they go, too.`,
		Example: `  dravit flush
  dravit flush seats`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			flushed, err := s.Flush(cmd.Context(), args)
			if err != nil {
				return err
			}
			if a.json {
				return a.print(flushJSON{1, s.Name, flushed})
			}
			a.ui.Flushed(flushed)
			return nil
		},
	}
}
