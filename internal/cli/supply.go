package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/stack"
	"dravit/internal/starting"
	"dravit/internal/supply"
	"dravit/internal/trouble"
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
	Launch  string   `json:"launch,omitempty"`  // loader or namespace; absent: it runs as it is
	Without []string `json:"without,omitempty"` // files that were left out, and what each lacks
	Stacks  []string `json:"stacks"`            // that use it
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
	return treeJSON{t.Kind, t.Version, t.Package, t.Release, t.Program, t.Bytes, string(t.Way), t.Without, stacks}
}

func (a *app) supplyCommand() *cobra.Command {
	var dryRun bool
	var extensions []string
	var from string
	var unsigned bool
	c := &cobra.Command{
		Use:   "supply KIND [VERSION]",
		Short: "Get a version of a program that this machine lacks",
		Long: `Supply fetches a program into a folder of Dravit's own: no root, nothing installed, several versions side
by side. Every stack can use it, an installed program goes first, and it is gone with supply discard.

It takes the newest release that fits VERSION, a prefix such as 18 or comparisons such as ">= 16, < 20".
PHP with its extensions, MariaDB, PostgreSQL, Redis, nginx, Apache, memcached and some command-line
programs come from the Debian-format repositories that this machine's own package client uses, or that
Dravit's settings name; Node.js with npm comes from the npm-format registry. Signatures and digests are
checked, and no script of a package is run.`,
		Example: `  dravit supply php 7.4 --extensions redis,xdebug
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
			m.From, m.Unsigned = from, unsigned
			if unsigned && from == "" {
				return &ui.Failure{Exit: exitUsage, What: "--unsigned goes with --from",
					Because: "sources are always checked", Next: "dravit supply --help"}
			}
			end := func() {}
			if !a.json {
				end = a.ui.Busy("asking the source")
			}
			offer, err := m.Offer(cmd.Context(), args[0], append(args, "")[1], extensions)
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
	c.Flags().StringSliceVar(&extensions, "extensions", nil, "with PHP: `names` of extensions that it is to have")
	c.Flags().StringVar(&from, "from", "", "take it from a `folder` that supply export wrote, and ask no source")
	c.Flags().BoolVar(&unsigned, "unsigned", false,
		"with --from: also what nobody has signed, such as Node.js; whoever could write there decides what runs as you")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "show what would be fetched, and fetch nothing")
	c.AddCommand(a.supplyLockCommand(), a.supplyListCommand(), a.supplyDiscardCommand(), a.supplyVerifyCommand(),
		a.supplyExportCommand())
	return c
}

// fetch asks, and gets what an offer names.
func (a *app) fetch(ctx context.Context, m *stack.Machine, o supply.Offer) (t supply.Tree, err error) {
	agreed, err := asker{a}.Agree(ctx, starting.Question{Fetch: []supply.Offer{o}})
	if err != nil {
		return t, err
	}
	if !agreed {
		return t, &ui.Failure{Exit: exitForbidden, What: "nothing was fetched", Because: "you did not agree",
			Next: "the same command with --yes"}
	}
	err = asker{a}.Fetch(o, func(progress func(done int64)) error {
		t, err = m.Supply(ctx, o, progress)
		return err
	})
	if err != nil {
		return t, fmt.Errorf("supplying %s %s: %w", o.Kind, o.Version, err)
	}
	return t, nil
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
			trees := []supply.Tree{}
			for _, t := range all {
				trees = append(trees, t.Tree)
			}
			together, err := supply.Together(trees)
			if err != nil {
				return err
			}
			a.ui.Supplies(all, together)
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
			var trees []supply.Tree
			var kept []string
			for _, t := range all {
				if len(t.Stacks) > 0 {
					if len(args) == 2 {
						return &ui.Failure{Exit: exitUsage, What: t.Kind + " " + t.Version + " was not discarded",
							Because: "it is used by " + trouble.List(t.Stacks),
							Next:    "dravit remove --stack " + t.Stacks[0]}
					}
					kept = append(kept, t.Kind+" "+t.Version+" ("+trouble.List(t.Stacks)+")")
					continue
				}
				trees = append(trees, t.Tree)
				gone = append(gone, asTree(t.Tree, t.Stacks))
			}
			m, err := a.machine()
			if err != nil {
				return err
			}
			if err := m.Discard(cmd.Context(), trees...); err != nil {
				return err
			}
			if a.json {
				return a.print(treesJSON{1, gone})
			}
			a.ui.Discarded(len(gone), sumOf(gone), kept)
			return nil
		},
	}
	return c
}

type lockJSON struct {
	Format int         `json:"format"`
	File   string      `json:"file"`
	Lock   supply.Lock `json:"lock"`
}

func (a *app) supplyLockCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "lock",
		Short: "Name the exact supplied programs of the stack in dravit.lock, for a team",
		Long: `Lock writes dravit.lock beside the stack file: for each part that runs on a supplied program, and each
supplied program of [requires], the exact versions and digests of all that it consists of. Keep it with
the project. Another machine that has to fetch such a program then fetches just that one, or says what
differs. With dravit start --locked the stack runs on the locked programs or not at all.`,
		Example: `  dravit start && dravit supply lock
  dravit start --locked`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			lock, file, err := s.Lock(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.print(lockJSON{1, file, lock})
			}
			a.ui.Locked(lock, file)
			return nil
		},
	}
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

func (a *app) supplyExportCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "export FOLDER [KIND [VERSION]]",
		Short: "Write supplied programs into a folder, for machines without a network",
		Long: `Export writes the packages of the supplied programs, or of the named ones, into a folder, with the signed
lists of the sources that they came from. On another machine, dravit supply --from FOLDER takes them from
there, and checks signatures and SHA-256 as if it had asked the sources. Nothing signs the packages of an
npm-format registry: it takes those only with --unsigned.`,
		Example: `  dravit supply export /media/stick php 8.4.27
  dravit supply php 8.4 --from /media/stick`,
		Args: cobra.RangeArgs(1, 3),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := a.chosen(args[1:])
			if err != nil {
				return err
			}
			if len(all) == 0 {
				return &ui.Failure{Exit: exitUsage, What: "there is nothing to export",
					Because: "no program was supplied yet", Next: "dravit supply php 8.4, say"}
			}
			m, err := a.machine()
			if err != nil {
				return err
			}
			meter := a.ui.Meter("exporting to "+args[0], a.json)
			out, err := m.Export(cmd.Context(), all, args[0], func(done int64) { meter.Show(done, 0) })
			meter.End()
			if err != nil {
				return err
			}
			if a.json {
				return a.print(out)
			}
			a.ui.Exported(out, args[0])
			return nil
		},
	}
}
