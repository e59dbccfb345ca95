package cli

import (
	"context"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"dravit/internal/cause"
	"dravit/internal/proc"
	"dravit/internal/requests"
	"dravit/internal/stack"
	"dravit/internal/trouble"
	"dravit/internal/ui"
)

type requestsJSON struct {
	Format   int                `json:"format"`
	Stack    string             `json:"stack"`
	Requests []requests.Request `json:"requests"` // the oldest first
}

// requestFlags adds the options that choose among requests.
func requestFlags(c *cobra.Command, wanted *bool, f *requests.Filter) {
	c.Flags().BoolVar(wanted, "requests", false, "show the requests for the sites, as the gateway answered them")
	c.Flags().StringVar(&f.Site, "site", "", "of requests: only those for this `site`")
	c.Flags().StringVar(&f.Status, "status", "", "of requests: only those with this `status`: 404, 5xx, or failed")
	c.Flags().DurationVar(&f.Slower, "slower", 0, "of requests: only those that took this `time` or longer: 500ms")
	c.Flags().StringVar(&f.Path, "path", "", "of requests: only those for this `path`: /boats, /api/*, or all "+
		"below /api/")
}

// requests shows the last requests for a stack's sites that a filter takes, and, if wanted, each new one.
func (a *app) requests(ctx context.Context, s *stack.Stack, f requests.Filter, want logsWanted) error {
	if err := requests.CheckStatus(f.Status); err != nil {
		return &ui.Failure{Exit: exitUsage, What: "--status does not understand " + f.Status, Because: err.Error(),
			Next: "dravit logs --requests --status 5xx"}
	}
	sites, err := s.SiteNames()
	if err != nil {
		return err
	}
	if f.Site != "" && !slices.Contains(sites, f.Site) {
		return &trouble.Trouble{Code: trouble.NoPart, What: "the stack has no site " + f.Site,
			Because: "its sites are " + trouble.List(sites), Next: "dravit status"}
	}
	f.Since = want.since
	file := requests.File(s.Home, s.ID)
	all, end, err := requests.Tail(file, want.lines, f)
	if err != nil {
		return err
	}
	if a.json {
		return a.print(requestsJSON{1, s.Name, append([]requests.Request{}, all...)})
	}
	width := 0
	for _, name := range sites {
		width = max(width, len(name), len("site"))
	}
	if len(all) > 0 || want.follow {
		a.ui.RequestHead(width)
	}
	failed := s.FailedPages(ctx)
	for _, r := range all {
		a.ui.Request(r, width, causeOf(r, failed))
	}
	if len(all) == 0 && !want.follow {
		a.ui.Note("no request is in the log")
	}
	told := time.Now()
	for want.follow {
		if proc.Sleep(ctx, 200*time.Millisecond) != nil {
			return exitCode(exitInterrupted)
		}
		var came []requests.Request
		if came, end, err = requests.Since(file, end, maxFollowed); err != nil {
			return err
		}
		for _, r := range came {
			if f.Takes(r) {
				a.ui.Request(r, width, "") // what it failed of is said when it is known
			}
		}
		told = a.failedSince(ctx, s, told)
	}
	return nil
}

// causeOf returns why a request failed, or "".
func causeOf(r requests.Request, failed []requests.Failure) cause.ID {
	i := slices.IndexFunc(failed, func(f requests.Failure) bool { return f.Of(r) })
	if i < 0 {
		return ""
	}
	return failed[i].Cause
}

// failedSince shows the pages that have failed since a time, and returns the time of the last one.
func (a *app) failedSince(ctx context.Context, s *stack.Stack, told time.Time) time.Time {
	failed := s.FailedPages(ctx)
	slices.Reverse(failed)
	for _, f := range failed {
		if f.Last.After(told) {
			a.ui.PageFailed(f)
			told = f.Last
		}
	}
	return told
}
