package cli

import (
	"github.com/spf13/cobra"

	"dravit/internal/data"
	"dravit/internal/stack"
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

// wholeStack returns an error if a database was named although the whole stack is meant.
func wholeStack(all bool, target *stack.Target) error {
	if all && *target != (stack.Target{}) {
		return &ui.Failure{Exit: exitUsage, What: "--all takes no --part and no --database",
			Because: "it means all that the stack keeps", Next: "leave one of them out"}
	}
	return nil
}

func (a *app) dbMarkCommand(target *stack.Target) *cobra.Command {
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
			s, err := a.stack()
			if err != nil {
				return err
			}
			if err := wholeStack(all, target); err != nil {
				return err
			}
			var m data.Mark
			var left []string
			name := append(args, "")[0]
			if all {
				m, left, err = s.MarkAll(cmd.Context(), name)
			} else {
				m, err = s.Mark(cmd.Context(), *target, name)
			}
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

func (a *app) dbRewindCommand(target *stack.Target) *cobra.Command {
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
			s, err := a.stack()
			if err != nil {
				return err
			}
			if err := wholeStack(all, target); err != nil {
				return err
			}
			var m data.Mark
			var left []string
			name := append(args, "")[0]
			if all {
				m, left, err = s.RewindAll(cmd.Context(), name, forget)
			} else {
				m, err = s.Rewind(cmd.Context(), *target, name, forget)
			}
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

func (a *app) dbMarksCommand(target *stack.Target) *cobra.Command {
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
			s, err := a.stack()
			if err != nil {
				return err
			}
			if err := wholeStack(all, target); err != nil {
				return err
			}
			name, marks, err := marksOf(s, *target, all, gone)
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

// marksOf deletes a mark, unless gone is "", and returns those that are left. part is "" for the whole stack.
func marksOf(s *stack.Stack, target stack.Target, all bool, gone string) (part string, marks []data.Mark, err error) {
	switch {
	case gone != "" && all:
		err = s.DeleteAllMark(gone)
	case gone != "":
		err = s.DeleteMark(target, gone)
	}
	if err != nil {
		return "", nil, err
	}
	if all {
		marks, err = s.AllMarks()
		return "", marks, err
	}
	return s.Marks(target)
}
