package cli

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dravit/internal/gateway"
	"dravit/internal/logfile"
	"dravit/internal/requests"
	"dravit/internal/stack"
	"dravit/internal/ui"
)

func (a *app) logsCommand() *cobra.Command {
	var lines int
	var follow bool
	var since string
	var ofSites bool
	var filter requests.Filter
	c := &cobra.Command{
		Use:   "logs [PART...]",
		Short: "Show the logs of all parts, or only of the named ones",
		Long: "Logs shows the last lines that each part wrote. A line that has no time of its own gets the one at " +
			"which the keeper saw it. A part's log stays when its process exits. A log that grows beyond 8 MB is " +
			"rotated.\n\n" +
			"With --requests, it shows what was asked of the sites, as the gateway answered it: time, site, status, " +
			"how long it took, bytes, method and path, without query, body or header. While it follows, logs also " +
			"says of each page that fails why.",
		Example: `  dravit logs                      the end of every part's log
  dravit logs app -n 100           the last 100 lines of the part app
  dravit logs app --since 10m      what it wrote in the last ten minutes; or since a time: 14:30
  dravit logs web app --follow     and every new line, until Ctrl-C
  dravit logs --requests --status failed --follow`,
		RunE: func(cmd *cobra.Command, parts []string) error {
			if lines < 0 {
				return &ui.Failure{Exit: exitUsage, What: "-n must not be negative"}
			}
			s, err := a.stack()
			if err != nil {
				return err
			}
			from, err := sinceWhen(since, time.Now())
			if err != nil {
				return err
			}
			if since != "" && !cmd.Flags().Changed("lines") {
				lines = maxSince
			}
			if ofSites || slices.Equal(parts, []string{gateway.KindName}) && !s.HasPart(gateway.KindName) {
				return a.requests(cmd.Context(), s, filter, logsWanted{lines, from, follow})
			}
			files, err := s.Logs(parts)
			if err != nil {
				return err
			}
			return a.logs(cmd.Context(), s, files, logsWanted{lines, from, follow})
		},
	}
	c.Flags().IntVarP(&lines, "lines", "n", 20, "show this `many` lines of each part")
	c.Flags().StringVar(&since, "since", "", "only lines since a `time`: 10m (ago), 14:30, 2026-12-01T14:30:00Z")
	requestFlags(c, &ofSites, &filter)
	c.Flags().BoolVarP(&follow, "follow", "f", false, "also show new lines as they come, until Ctrl-C")
	return c
}

// maxSince bounds how many lines of each part --since shows, if their number is not given.
const maxSince = 5000

// logsWanted says which lines are shown.
type logsWanted struct {
	lines  int       // of each part, at most
	since  time.Time // zero: from the beginning
	follow bool
}

// sinceWhen reads a duration before now, a time of today (of yesterday, if it is still to come), or one of RFC 3339.
func sinceWhen(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	for _, form := range []string{"15:04", "15:04:05"} {
		if at, err := time.Parse(form, text); err == nil {
			day := time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), at.Second(), 0, now.Location())
			if day.After(now) {
				day = day.AddDate(0, 0, -1)
			}
			return day, nil
		}
	}
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04", "2006-01-02 15:04:05", time.DateOnly} {
		if at, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return at, nil
		}
	}
	return time.Time{}, &ui.Failure{Exit: exitUsage, What: "--since does not understand " + text,
		Because: "it takes a duration, or a time", Next: "dravit logs --since 10m, or --since 14:30"}
}

// maxFollowed bounds how much is shown of a log that grew between two reads, in bytes.
const maxFollowed = 1 << 20

type logJSON struct {
	Part  string   `json:"part"`
	File  string   `json:"file"`
	Lines []string `json:"lines"`
	// Times are when the keeper saw each line, or "" where it did not.
	Times []string `json:"times"`
}

func (a *app) logs(ctx context.Context, s *stack.Stack, files map[string]string, want logsWanted) error {
	names := slices.Sorted(maps.Keys(files))
	offsets := map[string]int64{}
	all, shown := []logJSON{}, map[string][]logfile.Line{}
	for _, part := range names {
		last, end, err := logfile.TailAt(files[part], want.lines)
		if err != nil {
			return err
		}
		offsets[part] = end
		out := logJSON{part, files[part], []string{}, []string{}}
		for _, l := range last {
			if !want.since.IsZero() && !l.At.IsZero() && l.At.Before(want.since) {
				continue
			}
			at := ""
			if !l.At.IsZero() {
				at = l.At.Format(time.RFC3339)
			}
			out.Lines, out.Times, shown[part] = append(out.Lines, l.Text), append(out.Times, at), append(shown[part], l)
		}
		all = append(all, out)
	}
	if a.json {
		return a.print(map[string]any{"format": 1, "stack": s.Name, "logs": all})
	}
	width := 0
	for _, n := range names {
		width = max(width, len(n))
	}
	for _, part := range names {
		for _, l := range shown[part] {
			a.ui.LogLine(part, width, l.Text, l.At)
		}
	}
	rest := map[string]string{} // the beginning of a line whose end was not written yet
	told := time.Now()
	for want.follow {
		select {
		case <-ctx.Done():
			return exitCode(exitInterrupted)
		case <-time.After(200 * time.Millisecond):
		}
		for _, part := range names {
			text, end := logfile.Since(files[part], offsets[part], maxFollowed)
			offsets[part] = end
			text = rest[part] + text
			for {
				line, after, whole := strings.Cut(text, "\n")
				if !whole {
					break
				}
				a.ui.LogLine(part, width, line, time.Now())
				text = after
			}
			rest[part] = text
		}
		told = a.failedSince(ctx, s, told)
	}
	return nil
}
