package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/plan"
	"dravit/internal/propose"
	"dravit/internal/stack"
	"dravit/internal/stackfile"
	"dravit/internal/ui"
)

type proposeJSON struct {
	Format int             `json:"format"`
	Folder string          `json:"folder"`
	Shape  string          `json:"shape"`
	Tables []propose.Table `json:"tables"`
	Notes  []string        `json:"notes"`
	Text   string          `json:"text"`
	// Exists: a stack file is there, and New is what the proposal has that it lacks.
	Exists  bool      `json:"exists"`
	New     []string  `json:"new"`
	Written bool      `json:"written"`
	Plan    plan.Plan `json:"plan"`
}

func (a *app) proposeCommand() *cobra.Command {
	force := false
	c := &cobra.Command{
		Use:   "propose",
		Short: "Propose the stack file of a folder, from what is in it",
		Long: `Propose reads a project's folder and proposes its stack file: the runtime with its extensions, the
database and other stores, the command that serves it, the tasks that prepare it, and its site. Each
line says what it follows from. Propose also shows what this machine lacks for it.

It runs nothing of the project. At a terminal it asks before it writes dravit.toml; with --yes it
writes without asking, and elsewhere it only shows. It overwrites a file only with --force. If there
is a stack file, it shows what the proposal has that the file lacks, and adds it if you agree.`,
		Example: `  dravit propose
  dravit propose -C ~/projects/ferry --yes
  dravit propose --json | jq '.tables[].lines[] | select(.certainty == "unsure")'`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := a.machine()
			if err != nil {
				return err
			}
			p, err := m.Propose(cmd.Context(), a.dir, a.chooser(cmd.Context()))
			var faulty stackfile.Faults // a file that is overwritten may be faulty
			if err != nil && !(force && p.Exists && errors.As(err, &faulty)) {
				return err
			}
			if p.Exists && !force {
				return a.proposedBeside(cmd.Context(), p)
			}
			if !a.json {
				a.ui.Proposal(p)
			}
			written, err := a.writeProposal(cmd.Context(), p, force)
			if err != nil {
				return err
			}
			if a.json {
				return a.printProposal(p, written)
			}
			a.ui.ProposalWritten(p, written)
			return nil
		},
	}
	c.Flags().BoolVar(&force, "force", false, "overwrite a stack file that is there")
	return c
}

// proposedBeside shows what a proposal has that the stack file lacks, and adds it if the user agrees.
func (a *app) proposedBeside(ctx context.Context, p stack.Proposed) error {
	if !a.json {
		a.ui.ProposalBeside(p)
	}
	added := false
	if p.Merged != "" {
		agreed, err := a.agrees(ctx, "", "Add this to "+filepath.Join(p.Dir, stackfile.Name)+"?")
		if err != nil {
			return err
		}
		if agreed {
			if err := p.WriteMerged(); err != nil {
				return err
			}
			added = true
		}
	}
	if a.json {
		return a.printProposal(p, added)
	}
	a.ui.ProposalAdded(p, added)
	return nil
}

// chooser returns a function that asks the user to choose one of several options, or nil if there is nobody to be
// asked.
func (a *app) chooser(ctx context.Context) func(question string, options []string) string {
	if !a.asks() || a.yes {
		return nil
	}
	return func(question string, options []string) string {
		fmt.Fprintf(a.ui.Err, "%s %s [%s] ", question, strings.Join(options, ", "), options[0])
		if answer := a.answer(ctx); slices.Contains(options, answer) {
			return answer
		}
		return options[0]
	}
}

func (a *app) printProposal(p stack.Proposed, written bool) error {
	added := p.New
	if added == nil {
		added = []string{}
	}
	return a.print(proposeJSON{1, p.Dir, p.Shape, p.Tables, p.Notes, p.Text, p.Exists, added, written, p.Plan})
}

// writeProposal writes a proposal if the user agrees, and reports whether it did.
func (a *app) writeProposal(ctx context.Context, p stack.Proposed, force bool) (bool, error) {
	agreed, err := a.agrees(ctx, "", "Write this to "+filepath.Join(p.Dir, stackfile.Name)+"?")
	if err != nil || !agreed {
		return false, err
	}
	if err := p.WriteProposal(force); errors.Is(err, fs.ErrExist) {
		return false, &ui.Failure{
			Exit:    exitUsage,
			What:    "the proposal was not written",
			Because: "there is a " + stackfile.Name + " now",
			Next:    "dravit propose --force overwrites it",
		}
	} else if err != nil {
		return false, err
	}
	return true, nil
}

// proposed returns the stack of a folder without a stack file: it proposes one, and writes it if the user agrees. If
// the user cannot be asked, or does not agree, the error is none, which says that there is no stack.
func (a *app) proposed(ctx context.Context, none error) (*stack.Stack, error) {
	if !a.asks() && !a.yes {
		return nil, none
	}
	m, err := a.machine()
	if err != nil {
		return nil, err
	}
	p, err := m.Propose(ctx, a.dir, a.chooser(ctx))
	if err != nil {
		return nil, err
	}
	if !a.json {
		a.ui.Proposal(p)
	}
	if written, err := a.writeProposal(ctx, p, false); err != nil {
		return nil, err
	} else if !written {
		return nil, none
	}
	return a.stack()
}
