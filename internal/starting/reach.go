package starting

import (
	"context"
	"slices"
	"strings"

	"dravit/internal/plan"
)

// reach asks, once on each machine, about sites and parts that want to be reachable from the network. If no user can be
// asked, they stay on loopback.
func reach(ctx context.Context, s *Start) error {
	unasked, err := s.Stack.Unasked()
	if err != nil {
		return err
	}
	said := append(slices.Clone(s.Options.Consent.Network), s.Options.Consent.Loopback...)
	for _, subject := range unasked {
		who, name := "The site "+subject, subject
		if part, ok := strings.CutPrefix(subject, plan.PartConsent("")); ok {
			who, name = "Part "+part, part
		}
		if slices.Contains(said, subject) || slices.Contains(said, name) {
			continue
		}
		agreed, err := s.Ask.Agree(ctx, Question{About: who + " asks to be reachable from your network.",
			Ask: "Allow it?", Opens: true})
		switch {
		case err != nil:
			return err
		case agreed:
			s.Options.Consent.Network = append(s.Options.Consent.Network, subject)
		case s.Ask.Present():
			s.Options.Consent.Loopback = append(s.Options.Consent.Loopback, subject)
		}
	}
	return nil
}
