package cli

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/diagnose"
	"dravit/internal/keeper"
	"dravit/internal/lifecycle"
	"dravit/internal/plan"
	"dravit/internal/stack"
	"dravit/internal/ui"
)

type diagnoseJSON struct {
	Format  int              `json:"format"`
	Stack   string           `json:"stack"`
	Answers bool             `json:"answers"`
	Causes  []diagnose.Cause `json:"causes"` // the likeliest first
	Since   string           `json:"since,omitempty"`
	Changes []plan.Change    `json:"changes"`
	// Exits are how each part's processes ended since the stack was started.
	Exits map[string]lifecycle.Exit `json:"exits,omitempty"`
}

func (a *app) diagnoseCommand() *cobra.Command {
	var fix bool
	c := &cobra.Command{
		Use:   "diagnose",
		Short: "Say why something does not answer, and what to do",
		Long: `Diagnose asks every part and site as check does. For each that does not answer, it searches for the
cause: in the servers' logs, the state of ports, sockets, files, disks and host names, and in the
page that a site returns.

It shows each cause with its evidence and its remedy (what you can do), the likeliest cause first.
With --fix, it carries out the remedies that can do no harm, and asks before each; --yes agrees
beforehand. It exits with 1 if something does not answer.`,
		Example: "  dravit diagnose\n  dravit diagnose --fix\n  dravit diagnose --json | jq -r '.causes[0].remedy'",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			d, err := s.Diagnose(cmd.Context())
			if err != nil {
				return err
			}
			if fix {
				if d, err = a.fix(cmd.Context(), s, d); err != nil {
					return err
				}
			}
			name := s.Name
			if name == "" {
				name = filepath.Base(s.Dir)
			}
			if a.json {
				err = a.print(diagnoseJSON{1, name, d.Answers, d.Causes, d.Since,
					slices.Concat([]plan.Change{}, d.Changes), d.Exits})
			} else {
				a.ui.Diagnosis(name, d)
			}
			if err == nil && !d.Answers {
				err = exitCode(exitFailed)
			}
			return err
		},
	}
	c.Flags().BoolVar(&fix, "fix", false, "carry out the remedies that can do no harm; ask before each")
	return c
}

// fix carries out the remedies that can do no harm and to which the user agrees, then diagnoses again.
func (a *app) fix(ctx context.Context, s *stack.Stack, d stack.Diagnosis) (stack.Diagnosis, error) {
	agree := func(c diagnose.Cause) bool {
		agreed, _ := a.agrees(ctx, c.What+": "+strings.Join(c.Fix, " "), "Do it?") // the caller sees the end of ctx
		return agreed
	}
	if a.json {
		return s.Fix(ctx, d, agree, func(keeper.Event) {})
	}
	var progress *ui.Progress // created at the first change of a part, so that it does not overwrite the questions
	d, err := s.Fix(ctx, d, agree, func(e keeper.Event) {
		if progress == nil {
			progress = a.ui.Progress()
		}
		progress.Report(e)
	})
	if progress != nil {
		progress.End()
	}
	return d, err
}
