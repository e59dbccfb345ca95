package cli

import (
	"encoding/xml"
	"fmt"

	"github.com/spf13/cobra"

	"dravit/internal/health"
	"dravit/internal/home"
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

type traceJSON struct {
	Format int    `json:"format"`
	Stack  string `json:"stack"`
	stack.Trace
}

func (a *app) checkCommand() *cobra.Command {
	var junit, trace string
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
with the time of each and the versions that answered.`,
		Example: "  dravit check\n  dravit check db ferry\n  dravit check --trace ferry\n  dravit check --junit report.xml\n  dravit check --json | jq .answers",
		RunE: func(cmd *cobra.Command, names []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			if trace != "" {
				return a.trace(cmd, s, trace)
			}
			c, err := s.Check(cmd.Context(), names...)
			if err != nil {
				return err
			}
			if junit != "" {
				if err := saveText(junit, junitReport(s.Name, c)); err != nil {
					return err
				}
			}
			switch {
			case a.json:
				err = a.print(checkJSON{1, s.Name, c.Answers, c.Parts, c.Sites, c.Reachable})
			case len(c.Parts) == 0 && len(names) == 0:
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
	c.Flags().StringVar(&junit, "junit", "", "also write the result as a JUnit report to this `file`")
	c.Flags().StringVar(&trace, "trace", "", "follow one request to this `site`, leg by leg")
	c.MarkFlagsMutuallyExclusive("junit", "trace")
	return c
}

func (a *app) trace(cmd *cobra.Command, s *stack.Stack, site string) error {
	if len(cmd.Flags().Args()) > 0 {
		return &ui.Failure{Code: exitUsage, What: "a trace goes to one site", Because: "parts are named, too", Next: "dravit check --trace " + site}
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
		return &ui.Failure{Code: exitUsage, What: "the file " + file + " cannot be written", Because: err.Error(), Next: "name a file in a folder of yours"}
	}
	return nil
}

// The JUnit report has a suite for each part and site, with a case for each rung. A rung that does not count is no failure.
type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Time     string      `xml:"time,attr"` // seconds
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Time    string        `xml:"time,attr"`
	Failure *junitFailure `xml:"failure,omitempty"`
	Skipped *struct{}     `xml:"skipped,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
}

func junitReport(name string, c stack.Checked) string {
	var all junitSuites
	add := func(class string, rungs []health.Result) {
		s := junitSuite{Name: class, Tests: len(rungs)}
		sum := 0.0
		for _, r := range rungs {
			x := junitCase{Class: class, Name: string(r.Rung), Time: fmt.Sprintf("%.4f", r.MS/1000)}
			sum += r.MS
			switch {
			case r.Holds == nil || !*r.Holds && r.Advisory:
				x.Skipped = &struct{}{}
				s.Skipped++
			case !*r.Holds:
				x.Failure = &junitFailure{"expected " + r.Expected + ", got " + r.Got}
				s.Failures++
			}
			s.Cases = append(s.Cases, x)
		}
		s.Time = fmt.Sprintf("%.4f", sum/1000)
		all.Suites = append(all.Suites, s)
	}
	for _, p := range c.Parts {
		add(name+".part."+p.Name, p.Rungs)
	}
	for _, x := range c.Sites {
		add(name+".site."+x.Name, x.Rungs)
	}
	text, _ := xml.MarshalIndent(all, "", "  ") // plain texts and numbers cannot fail
	return xml.Header + string(text) + "\n"
}
