package cli

import (
	"github.com/spf13/cobra"

	"dravit/internal/stack"
	"dravit/internal/ui"
)

type checkJSON struct {
	Format  int               `json:"format"`
	Stack   string            `json:"stack"`
	Answers bool              `json:"answers"`
	Parts   []stack.PartCheck `json:"parts"`
	Sites   []stack.SiteCheck `json:"sites"`
	// Reachable is what other machines may reach.
	Reachable []stack.Reach `json:"reachable"`
}

func (a *app) checkCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Ask every part and site now, and prove that it answers",
		Long: `Check climbs the ladder of each part, in its own protocol and side by side, and the ladder of each site from its name to the
page that its runtime makes, with the stores behind it. It exits with 1 when anything does not hold.

A part's rungs: alive (a process of it lives), open (its socket accepts), ours (the socket is that process's), greets (greeting
and credentials accepted), works (a round trip of real work). A site's: resolves (the system's resolver gives loopback;
advisory for names below localhost), reaches (the gateway accepts), routed (this stack took the request), replies (status as expected), matches (the
expected text came, from a runtime that reaches its stores).`,
		Example: "  dravit check\n  dravit check --json | jq .answers",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			c, err := s.Check(cmd.Context())
			if err != nil {
				return err
			}
			switch {
			case a.json:
				err = a.print(checkJSON{1, s.Name, c.Answers, c.Parts, c.Sites, c.Reachable})
			case len(c.Parts) == 0:
				err = &ui.Failure{Code: exitFailed, What: "nothing to check", Because: "this stack was never started", Next: "dravit start"}
			default:
				a.ui.Check(s.Name, c)
			}
			if err == nil && !c.Answers {
				err = exitCode(exitFailed)
			}
			return err
		},
	}
}
