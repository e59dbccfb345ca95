package cli

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/diagnose"
	"dravit/internal/stack"
	"dravit/internal/ui"
)

type diagnoseJSON struct {
	Format  int              `json:"format"`
	Stack   string           `json:"stack"`
	Answers bool             `json:"answers"`
	Causes  []diagnose.Cause `json:"causes"` // the likeliest first
}

func (a *app) diagnoseCommand() *cobra.Command {
	var fix bool
	c := &cobra.Command{
		Use:   "diagnose",
		Short: "Say why something does not answer, and what to do",
		Long: `Diagnose asks everything as check does, and looks for what is behind each failure: in the servers' own words, the state of ports, sockets, files, disks
and names, and in the page that a site gives. Each cause comes with its evidence and its remedy, the likeliest first. With --fix it carries out the
remedies that can do no harm, after asking (--yes agrees beforehand). It exits with 1 where something does not answer.`,
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
				if d, err = a.mend(cmd.Context(), s, d); err != nil {
					return err
				}
			}
			name := s.Name
			if name == "" {
				name = s.Dir
			}
			if a.json {
				err = a.print(diagnoseJSON{1, name, d.Answers, d.Causes})
			} else {
				a.ui.Diagnosis(name, d)
			}
			if err == nil && !d.Answers {
				err = exitCode(exitFailed)
			}
			return err
		},
	}
	c.Flags().BoolVar(&fix, "fix", false, "carry out the remedies that can do no harm, after asking")
	return c
}

// mend carries out what can do no harm, as far as the user agrees, and looks again.
func (a *app) mend(ctx context.Context, s *stack.Stack, d stack.Diagnosis) (stack.Diagnosis, error) {
	self, err := os.Executable()
	if err != nil {
		return d, err
	}
	done := map[string]bool{}
	start := false
	for _, c := range d.Causes {
		text := strings.Join(c.Fix, " ")
		if c.Fix == nil || done[text] || !a.agrees(c.What+": "+text, "Do it?") {
			continue
		}
		done[text] = true
		if text == "dravit start" {
			start = true
			continue
		}
		start = start || c.Fix[0] != "dravit" // what failed for it is started again
		if err := a.fix(ctx, self, s, c.Fix); err != nil {
			return d, err
		}
	}
	if start {
		if err := a.fix(ctx, self, s, []string{"dravit", "start"}); err != nil {
			return d, err
		}
	}
	if len(done) == 0 {
		return d, nil
	}
	found, err := a.stackIn(s.Dir)
	if err != nil {
		return d, err
	}
	return found.Diagnose(ctx)
}

// fix runs one remedy. One that does not help shows when everything is looked at again.
func (a *app) fix(ctx context.Context, self string, s *stack.Stack, argv []string) error {
	if argv[0] == "dravit" {
		argv = append([]string{self, "-C", s.Dir}, argv[1:]...)
	}
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Stdout, cmd.Stderr = a.ui.Err, a.ui.Err
	err := cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return nil
	}
	if err != nil {
		return &ui.Failure{Code: exitFailed, What: "the remedy cannot be run", Because: err.Error(), Next: strings.Join(argv, " ")}
	}
	return nil
}

func (a *app) stackIn(dir string) (*stack.Stack, error) {
	m, err := a.machine()
	if err != nil {
		return nil, err
	}
	return m.Find(dir, "")
}
