package cli

import (
	"context"
	"os"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/report"
	"dravit/internal/requests"
	"dravit/internal/stack"
	"dravit/internal/trace"
	"dravit/internal/ui"
)

type checkJSON struct {
	Format  int                 `json:"format"`
	Stack   string              `json:"stack"`
	Answers bool                `json:"answers"`
	Parts   []stack.PartCheck   `json:"parts"`
	Sites   []health.SiteResult `json:"sites"`
	// Reachable lists what other machines may reach.
	Reachable []stack.Reach `json:"reachable"`
	// Pages are those that failed in the last ten minutes, and have not been answered well since.
	Pages []requests.Failure `json:"failed_pages,omitempty"`
	// DeepChecks are the results of --deep; the key keeps its old name.
	DeepChecks []health.DeepResult `json:"deeds,omitempty"`
}

type traceJSON struct {
	Format int    `json:"format"`
	Stack  string `json:"stack"`
	trace.Trace
}

const checkHelp = `Check asks every part and site now whether it works, or only those you name. It exits with 1 if
anything does not.

What it asks is called a ladder: one question after the other, each called a rung. The first rung
that does not hold shows what was expected and what came; the rungs above it are not asked.

The rungs of a part:
  alive      a process of the part is alive
  open       its socket accepts a connection
  ours       that socket belongs to the part, not to another program
  greets     it accepts the greeting and the credentials, in its own protocol
  works      it does a piece of real work, such as writing a key and reading it back

The rungs of a site:
  resolves   the system's resolver leads the host name to this machine; advisory for names
             below localhost, for which browsers need no resolver
  reaches    the gateway, the reverse proxy in front of all sites, accepts a connection
  routed     the gateway passed the request to this stack
  replies    the status is the expected one
  matches    the expected text came, and the runtime reaches the databases and caches it uses

With --trace, check sends one request to a site and shows each leg of its way: name, gateway, web
server, runtime and every database and cache that the runtime uses, with the time and the version
of each.

With --deep, check also asks what takes longer: rows that one connection writes are read by
another, a large upload arrives whole, mail is delivered, the web process has loaded the
extensions that the stack file asks for. It removes what it wrote.`

func (a *app) checkCommand() *cobra.Command {
	var junit, traced string
	var watch time.Duration
	var deep bool
	c := &cobra.Command{
		Use:   "check [PART|SITE...]",
		Short: "Ask every part and site now whether it works",
		Long:  checkHelp,
		Example: `  dravit check
  dravit check db ferry             only the part db and the site ferry
  dravit check --trace ferry        follow one request to the site ferry
  dravit check --watch              again every second, and when a page fails, until Ctrl-C
  dravit check --deep
  dravit check --junit report.xml   for a test runner
  dravit check --json | jq .answers`,
		RunE: func(cmd *cobra.Command, names []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			if traced != "" {
				return a.trace(cmd, s, traced)
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
				err = a.print(checkJSON{1, s.Name, c.Answers, c.Parts, c.Sites, c.Reachable,
					requests.WithoutWords(c.Failures), c.DeepChecks})
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
	c.Flags().StringVar(&junit, "junit", "", "also write the result to this `file`, as a JUnit report")
	c.Flags().BoolVar(&deep, "deep", false,
		"also ask what takes longer: rows, uploads, mail, extensions")
	c.Flags().StringVar(&traced, "trace", "", "follow one request to this `site` through every server")
	c.Flags().DurationVar(&watch, "watch", 0,
		"ask again after each `interval`, such as 1s, and as soon as a page fails, until Ctrl-C")
	c.Flags().Lookup("watch").NoOptDefVal = "1s"
	c.MarkFlagsMutuallyExclusive("junit", "trace", "watch")
	c.MarkFlagsMutuallyExclusive("deep", "trace")
	c.MarkFlagsMutuallyExclusive("deep", "watch")
	return c
}

// leastWatch is the shortest interval of a watch.
const leastWatch = 200 * time.Millisecond

// watch checks again after each interval, and as soon as a page fails, until the context ends, and repaints in place.
// Without a terminal it writes one line for each check.
func (a *app) watch(ctx context.Context, s *stack.Stack, names []string, every time.Duration) error {
	if a.json {
		return &ui.Failure{
			Exit: exitUsage,
			What: "--watch cannot write JSON",
			Next: "dravit check --json, as often as you like",
		}
	}
	if every < leastWatch {
		return &ui.Failure{
			Exit:    exitUsage,
			What:    "--watch " + every.String() + " is too often",
			Because: "each check takes time, too",
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
		if s.AwaitFailure(ctx, c, every-time.Since(began)) != nil {
			return nil // Ctrl-C
		}
	}
}

func (a *app) trace(cmd *cobra.Command, s *stack.Stack, site string) error {
	if len(cmd.Flags().Args()) > 0 {
		return &ui.Failure{
			Exit:    exitUsage,
			What:    "a trace follows a request to one site",
			Because: "you also named parts",
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

// saveText writes a text to a file that the user named.
func saveText(file, text string) error {
	if err := home.WriteFile(file, []byte(text), 0o644); err != nil {
		return &ui.Failure{
			Exit:    exitUsage,
			What:    "the file " + file + " cannot be written",
			Because: err.Error(),
			Next:    "name a file in a folder that you may write to",
		}
	}
	return nil
}
