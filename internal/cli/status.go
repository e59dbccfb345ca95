package cli

import (
	"time"

	"github.com/spf13/cobra"

	"dravit/internal/lifecycle"
	"dravit/internal/requests"
	"dravit/internal/stack"
	"dravit/internal/supervise"
)

type siteJSON struct {
	Name string `json:"name"`
	URL  string `json:"url"`
}

// siteStateJSON is a site in the object of status.
type siteStateJSON struct {
	Name     string          `json:"name"`
	URL      string          `json:"url"`
	State    lifecycle.State `json:"state"`
	Because  string          `json:"because,omitempty"`
	Since    time.Time       `json:"since,omitzero"`
	ProvedAt time.Time       `json:"proved_at,omitzero"`
}

type statusJSON struct {
	Format int                `json:"format"`
	Stack  string             `json:"stack"`
	State  lifecycle.State    `json:"state"`
	Parts  []lifecycle.Status `json:"parts"`
	Sites  []siteStateJSON    `json:"sites"`
	Notes  []string           `json:"notes"` // what the plan skipped
	// Reachable lists what other machines may reach.
	Reachable []stack.Reach `json:"reachable"`
	// Runs are the runs of commands that run at intervals, by part.
	Runs map[string]supervise.Runs `json:"runs,omitempty"`
	// Failed are the tasks and seeds that failed when they ran last.
	Failed []stack.FailedTask `json:"failed_tasks,omitempty"`
	// Pages are those that failed in the last ten minutes, and have not been answered well since.
	Pages []requests.Failure `json:"failed_pages,omitempty"`
}

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "status",
		Short: "Show the state of every part, as last checked",
		Long: "Status shows what the keeper (the background process that watches the parts) saw last, and how long " +
			"ago. It exits with 0 even if a part does not answer; check asks now, and exits with 1 then.",
		Example: `  dravit status
  dravit status --stack saltmarsh-ferry --json     a stack of another folder`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			status, err := s.Status(cmd.Context())
			if err != nil {
				return err
			}
			if !a.json {
				if status.Name == "" { // never started
					status.Name = s.Dir
				}
				a.ui.Status(status)
				if m := s.MovedFrom(); m != nil {
					a.ui.Note("this folder was " + m.From + ", the stack " + m.Name +
						"; dravit start uses its data here")
				}
				return nil
			}
			out := statusJSON{
				Format:    1,
				Stack:     s.Name,
				State:     status.State,
				Parts:     status.Parts,
				Sites:     []siteStateJSON{},
				Notes:     append([]string{}, status.Notes...),
				Reachable: status.Reachable,
				Runs:      status.Runs,
				Failed:    status.Failed,
				Pages:     requests.WithoutWords(requests.Open(status.Failures, time.Now())),
			}
			if out.Parts == nil {
				out.Parts = []lifecycle.Status{}
			}
			for _, x := range status.SiteStates {
				out.Sites = append(out.Sites, siteStateJSON{x.Name, x.URL, x.State, x.Because, x.Since, x.ProvedAt})
			}
			return a.print(out)
		},
	}
}
