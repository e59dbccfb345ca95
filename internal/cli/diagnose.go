package cli

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/diagnose"
	"dravit/internal/lifecycle"
	"dravit/internal/plan"
	"dravit/internal/stack"
	"dravit/internal/ui"
)

type diagnoseJSON struct {
	Format  int              `json:"format"`
	Stack   string           `json:"stack"`
	Answers bool             `json:"answers"`
	Failed  int              `json:"pages_failed"` // pages that failed in the last ten minutes, and fail still
	Causes  []diagnose.Cause `json:"causes"`       // the likeliest first
	Since   string           `json:"since,omitempty"`
	Changes []plan.Change    `json:"changes"`
	// Exits are how each part's processes ended since the stack was started.
	Exits map[string]lifecycle.Exit `json:"exits,omitempty"`
}

func (a *app) diagnoseCommand() *cobra.Command {
	var fix bool
	c := &cobra.Command{
		Use:   "diagnose [CAUSE...]",
		Short: "Say why something does not answer, and what to do",
		Long: `Diagnose asks every part and site as check does. For each that does not answer, it searches for the
cause: in the servers' logs, the state of ports, sockets, files, disks and host names, and in the
page that a site returns.

It also explains the pages that failed in the last ten minutes while somebody browsed, from what was
written while they were answered. A page that anybody can ask for is asked for again: what works now
is no cause any more.

It shows each cause with its evidence and its remedy (what you can do), the likeliest cause first.
With --fix, it carries out the remedies that can do no harm, and asks before each; --yes agrees
beforehand. With the name of a cause, --fix also makes the change of the stack file that removes it,
and shows the difference first. It exits with 1 if something does not answer, or pages fail.`,
		Example: `  dravit diagnose
  dravit diagnose --fix
  dravit diagnose --fix memory-limit      change the stack file as the remedy says
  dravit diagnose --json | jq -r '.causes[0].remedy'`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 && !fix {
				return &ui.Failure{Exit: exitUsage, What: "diagnose takes the name of a cause only with --fix",
					Next: "dravit diagnose --fix " + args[0]}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, named []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			d, err := s.Diagnose(cmd.Context())
			if err != nil {
				return err
			}
			if fix {
				if d, err = a.fix(cmd.Context(), s, d, named); err != nil {
					return err
				}
			}
			name := s.Name
			if name == "" {
				name = filepath.Base(s.Dir)
			}
			if a.json {
				err = a.print(diagnoseJSON{1, name, d.Answers, d.Failed, d.Causes, d.Since,
					slices.Concat([]plan.Change{}, d.Changes), d.Exits})
			} else {
				a.ui.Diagnosis(name, d)
			}
			if err == nil && (!d.Answers || diagnose.Fails(d.Causes)) {
				err = exitCode(exitFailed)
			}
			return err
		},
	}
	c.Flags().BoolVar(&fix, "fix", false, "carry out the remedies that can do no harm; ask before each")
	return c
}

// fix carries out the remedies that can do no harm and to which the user agrees, and those of named causes, then
// diagnoses again.
func (a *app) fix(ctx context.Context, s *stack.Stack, d stack.Diagnosis, named []string) (stack.Diagnosis, error) {
	for _, name := range named {
		if !slices.ContainsFunc(d.Causes, func(c diagnose.Cause) bool { return string(c.Cause) == name }) {
			return d, &ui.Failure{Exit: exitUsage, What: "nothing fails now because of " + name,
				Because: "diagnose does not find that cause", Next: "dravit diagnose"}
		}
	}
	wanted := func(c diagnose.Cause) bool { return slices.Contains(named, string(c.Cause)) }
	agree := func(c diagnose.Cause) bool {
		if len(named) > 0 && !wanted(c) {
			return false
		}
		if len(c.Edit) > 0 && wanted(c) {
			return a.agreesToEdit(ctx, s, c)
		}
		agreed, _ := a.agrees(ctx, c.What+": "+strings.Join(c.Fix, " "), "Do it?") // the caller sees the end of ctx
		return agreed
	}
	if a.json {
		return s.Fix(ctx, d, wanted, agree, func(lifecycle.Progress) {})
	}
	var progress *ui.Progress // created at the first change of a part, so that it does not overwrite the questions
	d, err := s.Fix(ctx, d, wanted, agree, func(e lifecycle.Progress) {
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

// agreesToEdit shows what the remedy of a cause changes of the stack files, and asks.
func (a *app) agreesToEdit(ctx context.Context, s *stack.Stack, c diagnose.Cause) bool {
	all, err := s.Differences(c)
	if err != nil {
		return false // Fix says why
	}
	if !a.json {
		for _, d := range all {
			a.ui.Difference(d.File, d.Old, d.New)
		}
	}
	agreed, _ := a.agrees(ctx, c.What, "Change "+all[0].File+"?") // the caller sees the end of ctx
	return agreed
}
