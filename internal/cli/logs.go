package cli

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dravit/internal/logfile"
	"dravit/internal/ui"
)

func (a *app) logsCommand() *cobra.Command {
	var lines int
	var follow bool
	c := &cobra.Command{
		Use:   "logs [PART...]",
		Short: "Show the logs of all parts, or only of the named ones",
		Long: "Logs shows the last lines that each part wrote. A part's log stays when its process exits. A log that " +
			"grows beyond 8 MB is rotated.",
		Example: `  dravit logs                      the end of every part's log
  dravit logs app -n 100           the last 100 lines of the part app
  dravit logs web app --follow     and every new line, until Ctrl-C`,
		RunE: func(cmd *cobra.Command, parts []string) error {
			if lines < 0 {
				return &ui.Failure{Exit: exitUsage, What: "-n must not be negative"}
			}
			s, err := a.stack()
			if err != nil {
				return err
			}
			files, err := s.Logs(parts)
			if err != nil {
				return err
			}
			return a.logs(cmd.Context(), s.Name, files, lines, follow)
		},
	}
	c.Flags().IntVarP(&lines, "lines", "n", 20, "show this `many` lines of each part")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "also show new lines as they come, until Ctrl-C")
	return c
}

// maxFollowed bounds how much is shown of a log that grew between two reads, in bytes.
const maxFollowed = 1 << 20

type logJSON struct {
	Part  string   `json:"part"`
	File  string   `json:"file"`
	Lines []string `json:"lines"`
}

func (a *app) logs(ctx context.Context, name string, files map[string]string, lines int, follow bool) error {
	names := slices.Sorted(maps.Keys(files))
	offsets := map[string]int64{}
	all := []logJSON{}
	for _, part := range names {
		last, end, err := logfile.Tail(files[part], lines)
		if err != nil {
			return err
		}
		offsets[part] = end
		all = append(all, logJSON{part, files[part], last})
	}
	if a.json {
		return a.print(map[string]any{"format": 1, "stack": name, "logs": all})
	}
	width := 0
	for _, n := range names {
		width = max(width, len(n))
	}
	for _, l := range all {
		for _, line := range l.Lines {
			a.ui.LogLine(l.Part, width, line)
		}
	}
	rest := map[string]string{} // the beginning of a line whose end was not written yet
	for follow {
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
				a.ui.LogLine(part, width, line)
				text = after
			}
			rest[part] = text
		}
	}
	return nil
}
