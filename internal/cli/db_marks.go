package cli

import (
	"github.com/spf13/cobra"

	"dravit/internal/data"
	"dravit/internal/databases"
	"dravit/internal/ui"
)

type markJSON struct {
	Format int       `json:"format"`
	Stack  string    `json:"stack"`
	Mark   data.Mark `json:"mark"`
	Left   []string  `json:"left_out,omitempty"` // of a mark of the whole stack, or not put back
}

type marksJSON struct {
	Format int         `json:"format"`
	Stack  string      `json:"stack"`
	Part   string      `json:"part"`
	Marks  []data.Mark `json:"marks"`
}

// allFlag adds the option --all.
func allFlag(c *cobra.Command, all *bool) {
	c.Flags().BoolVar(all, "all", false, "all that the stack keeps: the data of every part, and the writable folders")
}

// marked returns what marks are of. If all, no database may be named.
func marked(all bool, target *databases.Target) (databases.Target, error) {
	if all && *target != (databases.Target{}) {
		return *target, &ui.Failure{Exit: exitUsage, What: "--all takes no --part and no --database",
			Because: "it means all that the stack keeps", Next: "leave one of them out"}
	}
	return databases.Target{Part: target.Part, Name: target.Name, All: all}, nil
}

func (a *app) dbMarkCommand(target *databases.Target) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "mark [NAME]",
		Short: "Mark the database as it is now, to come back to it",
		Long: `Mark keeps the database as it is now; dravit db rewind goes back to it, as often as you like. Without a
name, the mark is named after the time. Where the file system can (btrfs, xfs, APFS), a mark shares its
blocks with the data and takes no time; elsewhere it is a copy.

A database server is stopped for the moment of the copy, and requests to the sites behind it wait.

With --all, the mark is of all that the stack keeps, at one moment: databases, caches, mails, queues, and
the folders that the stack file calls writable.`,
		Example: `  dravit db mark
  dravit db mark 'before the import'
  dravit db mark --all`,
		Args: argument("one name, or none", "dravit db mark NAME", true),
		RunE: func(cmd *cobra.Command, args []string) error {
			of, err := marked(all, target)
			if err != nil {
				return err
			}
			s, err := a.databases()
			if err != nil {
				return err
			}
			m, left, err := s.Mark(cmd.Context(), of, append(args, "")[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.print(markJSON{1, s.Name, m, left})
			}
			a.ui.Marked(m, left)
			return nil
		},
	}
	allFlag(c, &all)
	return c
}

func (a *app) dbRewindCommand(target *databases.Target) *cobra.Command {
	var forget, all bool
	c := &cobra.Command{
		Use:   "rewind [NAME]",
		Short: "Go back to a mark of the database",
		Long: `Rewind puts a mark in the place of the database: the named one, or the newest that you made. The mark
stays. What the database was before becomes the mark before-rewind, unless you say --forget.

Requests to the sites behind the database wait meanwhile. Whatever dies, the database is as it was or
as the mark is, never half of each.

With --all, it puts a mark of the whole stack back, and empties caches that keep nothing on the disk.`,
		Example: `  dravit db rewind
  dravit db rewind --all
  dravit db rewind 'before the import'
  dravit db rewind before-rewind     undo a rewind`,
		Args: argument("one name, or none for the newest mark", "dravit db marks lists them", true),
		RunE: func(cmd *cobra.Command, args []string) error {
			of, err := marked(all, target)
			if err != nil {
				return err
			}
			s, err := a.databases()
			if err != nil {
				return err
			}
			m, left, err := s.Rewind(cmd.Context(), of, append(args, "")[0], forget)
			if err != nil {
				return err
			}
			if a.json {
				return a.print(markJSON{1, s.Name, m, left})
			}
			a.ui.Rewound(m, left, forget)
			return nil
		},
	}
	c.Flags().BoolVar(&forget, "forget", false, "do not keep what was before")
	allFlag(c, &all)
	return c
}

func (a *app) dbMarksCommand(target *databases.Target) *cobra.Command {
	var gone string
	var all bool
	c := &cobra.Command{
		Use:   "marks",
		Short: "List the marks of the database",
		Long: `Marks lists the marks of the database, the newest first, each with its age, its size on the disk and
what made it. Marks that share blocks with the data take less than their size.

With --all, it lists the marks of the whole stack.`,
		Example: `  dravit db marks
  dravit db marks --all
  dravit db marks --delete 'before the import'`,
		Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			of, err := marked(all, target)
			if err != nil {
				return err
			}
			s, err := a.databases()
			if err != nil {
				return err
			}
			if gone != "" {
				if err := s.DeleteMark(of, gone); err != nil {
					return err
				}
			}
			name, marks, err := s.Marks(of)
			if err != nil {
				return err
			}
			if a.json {
				return a.print(marksJSON{1, s.Name, name, marks})
			}
			a.ui.Marks(s.Name, name, marks)
			return nil
		},
	}
	c.Flags().StringVar(&gone, "delete", "", "delete the mark of this `name` first")
	allFlag(c, &all)
	return c
}
