package starting

import (
	"context"
	"strings"

	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// takeAlong asks whether a stack that was moved to this folder continues here, with its data.
func takeAlong(ctx context.Context, s *Start) error {
	m := s.Stack.MovedFrom()
	if m == nil {
		return nil
	}
	if s.AsNew {
		s.Stack.TakeAlong(false)
		return nil
	}
	found := "This folder was " + m.From + ", the stack " + m.Name + "."
	if !m.Certain {
		found = "This folder looks like " + m.From + ", which is gone: the stack " + m.Name +
			" had the same " + stackfile.Name + "."
	}
	agreed, err := s.Ask.Agree(ctx, Question{About: found, Ask: "Continue here, with its data, ports and names?"})
	switch {
	case err != nil:
		return err
	case agreed || s.Ask.Present():
		s.Stack.TakeAlong(agreed)
		return nil
	}
	return &trouble.Trouble{
		Code:    trouble.Unanswered,
		What:    "nothing was started",
		Because: strings.TrimSuffix(found, ".") + ", and you did not say whether its data should move here",
		Next:    "dravit start --yes uses its data here; dravit start --as-new starts with new data",
	}
}
