package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/plan"
	"dravit/internal/stack"
	"dravit/internal/supply"
	"dravit/internal/ui"
)

type supplyJSON struct {
	Format int          `json:"format"`
	Offer  supply.Offer `json:"offer"`
	Tree   *treeJSON    `json:"tree"` // null: nothing was fetched
}

type treeJSON struct {
	Kind    string   `json:"kind"`
	Version string   `json:"version"`
	Package string   `json:"package"`
	Release string   `json:"release"`
	Program string   `json:"program"`
	Bytes   int64    `json:"size_bytes"`
	Stacks  []string `json:"stacks"` // that use it
}

type treesJSON struct {
	Format int        `json:"format"`
	Trees  []treeJSON `json:"trees"`
}

type verifyJSON struct {
	Format int        `json:"format"`
	Wrong  []wrongOne `json:"wrong"`
}

type wrongOne struct {
	Kind    string   `json:"kind"`
	Version string   `json:"version"`
	Files   []string `json:"files"`
}

func asTree(t supply.Tree, stacks []string) treeJSON {
	return treeJSON{t.Kind, t.Version, t.Package, t.Release, t.Program, t.Bytes, stacks}
}

func (a *app) supplyCommand() *cobra.Command {
	var dryRun bool
	c := &cobra.Command{
		Use:   "supply KIND [VERSION]",
		Short: "Get a version of a program that this machine lacks",
		Long: `Supply fetches a program into a folder of Dravit's own: no root, nothing installed, several versions side
by side. Every stack can use it, an installed program goes first, and it is gone with supply discard.

It takes the newest release that fits VERSION, a prefix such as 18 or comparisons such as ">= 16, < 20",
from the npm-format registry that this machine's own client uses, or that Dravit's settings name. What
comes has to have the SHA-512 that the registry's document says. Node.js and PostgreSQL can be supplied.`,
		Example: `  dravit supply node 18
  dravit supply postgres 17 --dry-run
  dravit supply list
  dravit supply discard node 18.20.4`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 || len(args) == 2 {
				return nil
			}
			return &ui.Failure{Exit: exitUsage, What: "dravit supply takes a kind, and a version of it if you like",
				Next: "dravit supply node 18; dravit supply list shows what there is"}
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := a.machine()
			if err != nil {
				return err
			}
			end := func() {}
			if !a.json {
				end = a.ui.Busy("asking the source")
			}
			offer, err := m.Offer(cmd.Context(), args[0], append(args, "")[1])
			end()
			if err != nil {
				return err
			}
			if dryRun {
				if a.json {
					return a.print(supplyJSON{1, offer, nil})
				}
				a.ui.Offer(offer)
				return nil
			}
			t, err := a.fetch(cmd.Context(), m, offer)
			if err != nil {
				return err
			}
			if a.json {
				tree := asTree(t, []string{})
				return a.print(supplyJSON{1, offer, &tree})
			}
			a.ui.Supplied(t)
			return nil
		},
	}
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would be fetched, and fetch nothing")
	c.AddCommand(a.supplyListCommand(), a.supplyDiscardCommand(), a.supplyVerifyCommand())
	return c
}

// fetch asks, and gets what an offer names.
func (a *app) fetch(ctx context.Context, m *stack.Machine, offers ...supply.Offer) (t supply.Tree, err error) {
	agreed, err := a.agrees(ctx, "", ui.FetchQuestion(offers))
	if err != nil {
		return t, err
	}
	if !agreed {
		return t, &ui.Failure{Exit: exitForbidden, What: "nothing was fetched", Because: "you did not agree",
			Next: "the same command with --yes"}
	}
	for _, o := range offers {
		meter := a.ui.Meter("fetching "+o.Kind+" "+o.Version, a.json)
		t, err = m.Supply(ctx, o, func(b stack.Bytes) { meter.Show(b.Done, b.Size) })
		meter.End()
		if err != nil {
			return t, fmt.Errorf("supplying %s %s: %w", o.Kind, o.Version, err)
		}
	}
	return t, nil
}

// supplyLacking offers to fetch the programs that a stack lacks, and reports whether it did.
func (a *app) supplyLacking(ctx context.Context, s *stack.Stack, consent plan.Consent) (bool, error) {
	if !a.yes && !a.asks() {
		return false, nil
	}
	offers, err := s.Lacking(ctx, consent)
	if err != nil && ctx.Err() == nil { // the plan's own fault says what is missing
		a.ui.Note("nothing was fetched: " + err.Error())
	}
	if err != nil || len(offers) == 0 {
		return false, ctx.Err()
	}
	_, err = a.fetch(ctx, s.Machine, offers...)
	var refused *ui.Failure
	if errors.As(err, &refused) && refused.Exit == exitForbidden {
		return false, nil
	}
	return err == nil, err
}

func (a *app) supplyListCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the supplied programs, with the stacks that use them",
		Example: "  dravit supply list",
		Args:    noArgs,
		RunE: func(*cobra.Command, []string) error {
			all, err := a.chosen(nil)
			if err != nil {
				return err
			}
			if a.json {
				trees := []treeJSON{}
				for _, t := range all {
					trees = append(trees, asTree(t.Tree, t.Stacks))
				}
				return a.print(treesJSON{1, trees})
			}
			a.ui.Supplies(all)
			return nil
		},
	}
}

// chosen returns the trees that arguments name: a kind, and a version of it; all if there are none.
func (a *app) chosen(args []string) ([]stack.Supplied, error) {
	m, err := a.machine()
	if err != nil {
		return nil, err
	}
	all, err := m.Supplies()
	if err != nil {
		return nil, err
	}
	found := slices.DeleteFunc(slices.Clone(all), func(t stack.Supplied) bool {
		return len(args) > 0 && t.Kind != args[0] || len(args) > 1 && t.Version != args[1]
	})
	if len(found) == 0 && len(args) > 0 {
		return nil, &ui.Failure{Exit: exitUsage, What: "there is no supplied " + strings.Join(args, " "),
			Because: "no tree is of that kind and version", Next: "dravit supply list"}
	}
	return found, nil
}

func (a *app) supplyDiscardCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "discard [KIND [VERSION]]",
		Short: "Delete supplied programs that no stack uses",
		Long: `Discard deletes the supplied programs that no stack uses, or of those the named ones. One that a stack
uses stays: dravit remove the stack, or start it with another version.`,
		Example: `  dravit supply discard
  dravit supply discard node 18.20.4`,
		Args: cobra.MaximumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := a.chosen(args)
			if err != nil {
				return err
			}
			gone := []treeJSON{}
			for _, t := range all {
				if len(t.Stacks) > 0 {
					if len(args) == 2 {
						return &ui.Failure{Exit: exitUsage, What: t.Kind + " " + t.Version + " was not discarded",
							Because: "it is used by " + strings.Join(t.Stacks, ", "),
							Next:    "dravit remove --stack " + t.Stacks[0]}
					}
					continue
				}
				if err := t.Discard(); err != nil {
					return err
				}
				gone = append(gone, asTree(t.Tree, t.Stacks))
			}
			if a.json {
				return a.print(treesJSON{1, gone})
			}
			a.ui.Discarded(len(gone), sumOf(gone))
			return nil
		},
	}
	return c
}

func sumOf(trees []treeJSON) (bytes int64) {
	for _, t := range trees {
		bytes += t.Bytes
	}
	return bytes
}

func (a *app) supplyVerifyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "verify [KIND [VERSION]]",
		Short: "Check that supplied programs are what was fetched",
		Long: `Verify compares every file of the supplied programs, or of the named ones, with what it was when it was
fetched (SHA-256), and lists files that were changed, removed or added. It then exits with 1.`,
		Example: "  dravit supply verify",
		Args:    cobra.MaximumNArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			all, err := a.chosen(args)
			if err != nil {
				return err
			}
			wrong := []wrongOne{}
			for _, t := range all {
				files, err := t.Verify()
				if err != nil {
					return err
				}
				if len(files) > 0 {
					wrong = append(wrong, wrongOne{t.Kind, t.Version, files})
				}
				if !a.json {
					a.ui.Verified(t.Tree, files)
				}
			}
			if a.json {
				if err := a.print(verifyJSON{1, wrong}); err != nil {
					return err
				}
			}
			if len(wrong) > 0 {
				return exitCode(exitFailed)
			}
			return nil
		},
	}
}
