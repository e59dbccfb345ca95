package stack

import (
	"context"
	"errors"
	"os/exec"
	"slices"
	"time"

	"dravit/internal/diagnose"
	"dravit/internal/lifecycle"
)

// fixTimeout is how long the start after a remedy may take.
const fixTimeout = 90 * time.Second

// Fix carries out the remedies that can do no harm and for which agree returns true, each once, and those that change
// the stack file if named returns true, too. Then it diagnoses again.
// It calls report for each change of a part's state. A remedy that does not help is no error: the diagnosis that Fix
// returns shows what is still wrong.
func (s *Stack) Fix(ctx context.Context, d Diagnosis, named, agree func(diagnose.Cause) bool,
	report func(lifecycle.Progress)) (Diagnosis, error) {
	var asked [][]string
	start, restart := false, []string{}
	for _, c := range d.Causes {
		if c.Edit != nil && named(c) && agree(c) {
			if err := s.edit(ctx, c); err != nil {
				return d, err
			}
			start = true
			continue
		}
		if c.Fix == nil || slices.ContainsFunc(asked, func(fix []string) bool { return slices.Equal(fix, c.Fix) }) {
			continue
		}
		asked = append(asked, c.Fix)
		if !agree(c) {
			continue
		}
		start = true // also start again what failed and had another remedy
		switch {
		case c.Fix[0] == "dravit" && c.Fix[1] == "restart":
			restart = append(restart, c.Fix[2:]...)
		case c.Fix[0] != "dravit":
			var unhelpful *exec.ExitError
			if err := exec.CommandContext(ctx, c.Fix[0], c.Fix[1:]...).Run(); err != nil &&
				!errors.As(err, &unhelpful) {
				return d, err
			}
		}
	}
	if !start {
		return d, ctx.Err()
	}
	if _, err := s.Start(ctx, StartOptions{Restart: restart, Timeout: fixTimeout}, report); err != nil &&
		!errors.Is(err, ErrNoPlan) {
		return d, err
	}
	return s.Diagnose(ctx)
}
