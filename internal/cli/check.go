package cli

import (
	"context"
	"os"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/proc"
	"dravit/internal/report"
	"dravit/internal/stack"
	"dravit/internal/trace"
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
	// Deeds are the slower proofs, where they were asked for.
	Deeds []health.DeedResult `json:"deeds,omitempty"`
}

type traceJSON struct {
	Format int    `json:"format"`
	Stack  string `json:"stack"`
	trace.Trace
}

func (a *app) checkCommand() *cobra.Command {
	var junit, trace string
	var watch time.Duration
	var deep bool
	c := &cobra.Command{
		Use:   "check [PART|SITE...]",
		Short: "Ask every part and site now, and prove that it answers",
		Long: `Check climbs the ladder of each part, in its own protocol and side by side, and the ladder of each site from its name to the
page that its runtime makes, with the stores behind it; of those named alone, where any is named. It exits with 1 when anything does not hold.

A part's rungs: alive (a process of it lives), open (its socket accepts), ours (the socket is that process's), greets (greeting
and credentials accepted), works (a round trip of real work). A site's: resolves (the system's resolver gives loopback;
advisory for names below localhost), reaches (the gateway accepts), routed (this stack took the request), replies (status as expected),
matches (the expected text came, from a runtime that reaches its stores).

With --trace it sends one request to a site and shows each leg of its way: name, gateway, web server, runtime and every store that the runtime uses,
with the time of each and the versions that answered. With --deep it also proves what takes longer: what one connection writes another reads, a large upload
arrives whole, mail is delivered, the extensions that are wanted are loaded in the web process. Nothing of it stays.`,
		Example: "  dravit check\n  dravit check db ferry\n  dravit check --trace ferry\n  dravit check --watch\n" +
			"  dravit check --deep\n  dravit check --junit report.xml\n  dravit check --json | jq .answers",
		RunE: func(cmd *cobra.Command, names []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			if trace != "" {
				return a.trace(cmd, s, trace)
			}
			if cmd.Flags().Changed("watch") {
				return a.watch(cmd.Context(), s, names, watch)
			}
			c, err := s.Check(cmd.Context(), names...)
			if err != nil {
				return err
			}
			if deep && err == nil {
				if err := s.Prove(cmd.Context(), &c); err != nil {
					return err
				}
			}
			if junit != "" {
				if err := saveText(junit, report.JUnit(s.Name, c)); err != nil {
					return err
				}
			}
			switch {
			case a.json:
				err = a.print(checkJSON{1, s.Name, c.Answers, c.Parts, c.Sites, c.Reachable, c.Deeds})
			case len(c.Parts) == 0 && len(names) == 0:
				err = &ui.Failure{
					Exit:    exitFailed,
					What:    "nothing to check",
					Because: "this stack was never started",
					Next:    "dravit start",
				}
			default:
				a.ui.Check(s.Name, c)
			}
			if err == nil && !c.Answers {
				err = exitCode(exitFailed)
			}
			return err
		},
	}
	c.Flags().StringVar(&junit, "junit", "", "also write the result as a JUnit report to this `file`")
	c.Flags().BoolVar(&deep, "deep", false,
		"also prove what takes longer: rows kept, uploads whole, mail delivered, extensions loaded")
	c.Flags().StringVar(&trace, "trace", "", "follow one request to this `site`, leg by leg")
	c.Flags().DurationVar(&watch, "watch", 0, "look again every so often, such as 1s, until Ctrl-C")
	c.Flags().Lookup("watch").NoOptDefVal = "1s"
	c.MarkFlagsMutuallyExclusive("junit", "trace", "watch")
	c.MarkFlagsMutuallyExclusive("deep", "trace")
	c.MarkFlagsMutuallyExclusive("deep", "watch")
	return c
}

// leastWatch is the shortest time between two looks.
const leastWatch = 200 * time.Millisecond

// watch looks again and again until the context ends, and repaints in place. Where there is no terminal, each look is a
// line.
func (a *app) watch(ctx context.Context, s *stack.Stack, names []string, every time.Duration) error {
	if a.json {
		return &ui.Failure{
			Exit: exitUsage,
			What: "--watch has no JSON object",
			Next: "dravit check --json, as often as you like",
		}
	}
	if every < leastWatch {
		return &ui.Failure{
			Exit:    exitUsage,
			What:    "--watch " + every.String() + " is too often",
			Because: "a look takes time, too",
			Next:    "dravit check --watch=1s",
		}
	}
	out := int(os.Stdout.Fd())
	live := term.IsTerminal(out) && !a.ui.Plain
	var view *ui.Watch
	if live {
		view = a.ui.Watch()
		defer view.End()
	}
	for {
		began := time.Now()
		c, err := s.Check(ctx, names...)
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil:
			return err
		case live:
			columns, rows, err := term.GetSize(out)
			if err != nil {
				columns, rows = 80, 24
			}
			view.Show(s.Name, c, began, columns, rows)
		default:
			a.ui.Glance(s.Name, c, began)
		}
		if proc.Sleep(ctx, every-time.Since(began)) != nil {
			return nil
		}
	}
}

func (a *app) trace(cmd *cobra.Command, s *stack.Stack, site string) error {
	if len(cmd.Flags().Args()) > 0 {
		return &ui.Failure{
			Exit:    exitUsage,
			What:    "a trace goes to one site",
			Because: "parts are named, too",
			Next:    "dravit check --trace " + site,
		}
	}
	if s.ID == "" {
		return stack.ErrNeverStarted
	}
	t, err := s.Trace(cmd.Context(), site)
	if err != nil {
		return err
	}
	if a.json {
		err = a.print(traceJSON{1, s.Name, t})
	} else {
		a.ui.Trace(t)
	}
	if err == nil && !t.Answers {
		err = exitCode(exitFailed)
	}
	return err
}

// saveText writes a text to a file that the user names.
func saveText(file, text string) error {
	if err := home.WriteFile(file, []byte(text), 0o644); err != nil {
		return &ui.Failure{
			Exit:    exitUsage,
			What:    "the file " + file + " cannot be written",
			Because: err.Error(),
			Next:    "name a file in a folder of yours",
		}
	}
	return nil
}
