package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/stack"
	"dravit/internal/ui"
)

type removeJSON struct {
	Format  int              `json:"format"`
	Stack   string           `json:"stack"`
	Removed bool             `json:"removed"` // false: you did not agree, and nothing was deleted
	Ports   []int            `json:"ports"`
	Names   []string         `json:"names"`
	Data    []stack.PartData `json:"data"` // deleted data; with data_stays, kept data
	Stays   bool             `json:"data_stays"`
}

func (a *app) removeCommand() *cobra.Command {
	var withData bool
	c := &cobra.Command{
		Use:   "remove [PART...]",
		Short: "Remove a stack from this machine; its data only with --data",
		Long: `Remove stops a stack and deletes what Dravit keeps of it: its ports and names, its configuration
and its logs. It does not touch the project's folder. It keeps the data, and the next start in the
same folder uses them again; with --data it deletes them, too.

With the names of parts, remove --data deletes only the data of these parts. You need that before a
part can become one of another kind. Remove shows what it would delete, with the size, and asks.`,
		Example: `  dravit remove
  dravit remove --stack old-office --data     also if its folder is gone
  dravit remove db --data                     only the data of the part db`,
		RunE: func(cmd *cobra.Command, parts []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			if len(parts) > 0 && !withData {
				return &ui.Failure{
					Exit:    exitUsage,
					What:    "a single part cannot be removed",
					Because: "the stack file lists the parts; only a part's data can be deleted",
					Next:    "dravit remove " + strings.Join(parts, " ") + " --data",
				}
			}
			return a.remove(cmd, s, parts, withData)
		},
	}
	c.Flags().BoolVar(&withData, "data", false, "delete the data, too; with names of parts: only their data")
	return c
}

// remove shows what would be deleted, asks, and deletes it.
func (a *app) remove(cmd *cobra.Command, s *stack.Stack, parts []string, withData bool) error {
	kept, err := s.Kept()
	if err != nil {
		return err
	}
	out := removeJSON{
		Format: 1,
		Stack:  s.Name,
		Ports:  append([]int{}, kept.Ports...),
		Names:  append([]string{}, kept.Names...),
		Data:   append([]stack.PartData{}, kept.Data...),
		Stays:  !withData,
	}
	if len(parts) > 0 {
		out.Ports, out.Names = []int{}, []string{}
		out.Data = slices.DeleteFunc(out.Data, func(d stack.PartData) bool { return !slices.Contains(parts, d.Part) })
	}
	if s.ID == "" {
		return &ui.Failure{Exit: exitUsage, What: "there is nothing to remove", Because: "this stack was never started"}
	}
	agreed, err := a.agrees(cmd.Context(), ui.Removal(s.Name, s.Dir, kept, parts, withData), "Remove it?")
	if err != nil {
		return err
	}
	if !agreed {
		if a.json {
			_ = a.print(out)
			return exitCode(exitForbidden)
		}
		return &ui.Failure{
			Exit:    exitForbidden,
			What:    "nothing was removed",
			Because: "you did not agree",
			Next: strings.TrimSpace(
				fmt.Sprintf("%s %s --yes", cmd.CommandPath(), strings.Join(flagsOf(parts, withData), " ")),
			),
		}
	}
	if len(parts) > 0 {
		err = s.Discard(cmd.Context(), parts)
	} else {
		err = s.Remove(cmd.Context(), withData)
	}
	if err != nil {
		return err
	}
	out.Removed = true
	if a.json {
		return a.print(out)
	}
	a.ui.Removed(s.Name, kept, parts, withData)
	return nil
}

func flagsOf(parts []string, withData bool) []string {
	if withData {
		parts = append(slices.Clone(parts), "--data")
	}
	return parts
}
