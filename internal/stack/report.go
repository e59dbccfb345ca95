package stack

import (
	"context"

	"dravit/internal/materialise"
	"dravit/internal/plan"
)

// Whole is everything about a stack that a report shows.
type Whole struct {
	Spec    materialise.Spec
	Checked Checked
	Plan    plan.Plan
	Starts  []StartRecord
}

// Report asks everything, and gathers what a report shows.
func (s *Stack) Report(ctx context.Context) (Whole, error) {
	var out Whole
	var err error
	if out.Spec, err = s.spec(); err != nil {
		return out, err
	}
	if out.Checked, err = s.Check(ctx); err != nil {
		return out, err
	}
	if _, out.Plan, err = s.Plan(ctx, plan.Consent{}); err != nil {
		return out, err
	}
	out.Starts, err = s.Starts()
	return out, err
}
