package cli

import (
	"github.com/spf13/cobra"

	"dravit/internal/data"
	"dravit/internal/stack"
)

type markJSON struct {
	Format int       `json:"format"`
	Stack  string    `json:"stack"`
	Mark   data.Mark `json:"mark"`
}

type marksJSON struct {
	Format int         `json:"format"`
	Stack  string      `json:"stack"`
	Part   string      `json:"part"`
	Marks  []data.Mark `json:"marks"`
}

func (a *app) dbMarkCommand(target *stack.Target) *cobra.Command {
	return &cobra.Command{
		Use:   "mark [NAME]",
		Short: "Mark the database as it is now, to come back to it",
		Long: `Mark keeps the database as it is now; dravit db rewind goes back to it, as often as you like. Without a
name, the mark is named after the time. Where the file system can (btrfs, xfs, APFS), a mark shares its
blocks with the data and takes no time; elsewhere it is a copy.

A database server is stopped for the moment of the copy, and requests to the sites behind it wait.`,
		Example: `  dravit db mark
  dravit db mark 'before the import'`,
		Args: argument("one name, or none", "dravit db mark NAME", true),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			m, err := s.Mark(cmd.Context(), *target, append(args, "")[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.print(markJSON{1, s.Name, m})
			}
			a.ui.Marked(m)
			return nil
		},
	}
}

func (a *app) dbRewindCommand(target *stack.Target) *cobra.Command {
	var forget bool
	c := &cobra.Command{
		Use:   "rewind [NAME]",
		Short: "Go back to a mark of the database",
		Long: `Rewind puts a mark in the place of the database: the named one, or the newest that you made. The mark
stays. What the database was before becomes the mark before-rewind, unless you say --forget.

Requests to the sites behind the database wait meanwhile. Whatever dies, the database is as it was or
as the mark is, never half of each.`,
		Example: `  dravit db rewind
  dravit db rewind 'before the import'
  dravit db rewind before-rewind     undo a rewind`,
		Args: argument("one name, or none for the newest mark", "dravit db marks lists them", true),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			m, err := s.Rewind(cmd.Context(), *target, append(args, "")[0], forget)
			if err != nil {
				return err
			}
			if a.json {
				return a.print(markJSON{1, s.Name, m})
			}
			a.ui.Rewound(m, forget)
			return nil
		},
	}
	c.Flags().BoolVar(&forget, "forget", false, "do not keep what the database was before")
	return c
}

func (a *app) dbMarksCommand(target *stack.Target) *cobra.Command {
	var gone string
	c := &cobra.Command{
		Use:   "marks",
		Short: "List the marks of the database",
		Long: `Marks lists the marks of the database, the newest first, each with its age, its size on the disk and
what made it. Marks that share blocks with the data take less than their size.`,
		Example: `  dravit db marks
  dravit db marks --delete 'before the import'`,
		Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			if gone != "" {
				if err := s.DeleteMark(*target, gone); err != nil {
					return err
				}
			}
			name, marks, err := s.Marks(*target)
			if err != nil {
				return err
			}
			if a.json {
				return a.print(marksJSON{1, s.Name, name, marks})
			}
			a.ui.Marks(name, marks)
			return nil
		},
	}
	c.Flags().StringVar(&gone, "delete", "", "delete the mark of this `name` first")
	return c
}
