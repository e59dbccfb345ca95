package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dravit/internal/about"
	"dravit/internal/diagnose"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/stack"
	"dravit/internal/stackfile"
	"dravit/internal/starting"
	"dravit/internal/ui"
)

func (a *app) startCommand() *cobra.Command {
	var o stack.StartOptions
	asNew := false
	c := &cobra.Command{
		Use:   "start",
		Short: "Start the stack, and wait until every part and site answers",
		Long: `Start brings up the stack and waits until every part and site answers. It decides as plan does,
writes the configuration of each part to Dravit's own folder, creates new databases, and starts
what does not run yet. It restarts parts whose configuration changed, and leaves the others alone.

If a part or site does not answer, start names it with the cause and the end of its log; the other
parts keep running. Ctrl-C stops what this start has started.

In a folder without a stack file, start proposes one as propose does, asks, writes it and starts it. If the
machine lacks a version that can be supplied (dravit supply), start asks once, and fetches it.

A part with the key outside is a server that somebody else runs. Start asks for its password once, or
takes it from the variable DRAVIT_PASSWORD_PART, and keeps it in a file that only you can read.`,
		Example: `  dravit start
  dravit start -C ~/projects/ferry     the stack of that folder
  dravit start --timeout 10s           wait no longer than that`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.stack()
			if errors.Is(err, stackfile.ErrNone) {
				s, err = a.proposed(cmd.Context(), err)
			}
			if err != nil {
				return err
			}
			start := a.starting(s, o)
			start.AsNew = asNew
			return a.begin(cmd.Context(), s, start.Run)
		},
	}
	addTimeout(c, &o.Timeout)
	c.Flags().StringSliceVar(&o.Consent.Network, "reachable", nil,
		"let other machines reach these `sites` (listen = \"network\")")
	c.Flags().StringSliceVar(&o.Consent.Loopback, "unreachable", nil,
		"no longer let other machines reach these `sites`")
	c.Flags().StringSliceVar(&o.Consent.Upgrade, "upgrade", nil,
		"let a newer program convert the data of these `parts`, after a mark of them")
	c.Flags().BoolVar(&asNew, "as-new", false,
		"create a new stack, even if one seems to have been moved to this folder")
	c.Flags().BoolVar(&o.Consent.Afresh, "afresh", false, "choose programs and ports as if the stack had never run")
	c.Flags().BoolVar(&o.Consent.Locked, "locked", false,
		"run parts on the exact programs that dravit.lock names, or do not start")
	return c
}

func addTimeout(c *cobra.Command, timeout *time.Duration) {
	c.Flags().DurationVar(timeout, "timeout", 90*time.Second,
		"wait at most this `duration`; what runs by then keeps running")
}

func (a *app) restartCommand() *cobra.Command {
	var o stack.StartOptions
	c := &cobra.Command{
		Use:   "restart [PART...]",
		Short: "Stop and start all parts, or only the named ones",
		Long: "Restart stops all parts, or only the named ones, and starts them as start does. Data is kept. " +
			"Requests under way may finish, and new ones wait.",
		Example: `  dravit restart
  dravit restart app     only the part app`,
		RunE: func(cmd *cobra.Command, parts []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			o.Restart, o.RestartAll = parts, len(parts) == 0
			return a.begin(cmd.Context(), s, a.starting(s, o).Again)
		},
	}
	addTimeout(c, &o.Timeout)
	return c
}

// starting returns a start of a stack, with this terminal to ask and to show.
func (a *app) starting(s *stack.Stack, o stack.StartOptions) *starting.Start {
	return &starting.Start{Stack: s, Ask: asker{a}, Options: o, Getenv: os.LookupEnv,
		Bring: func(ctx context.Context, o stack.StartOptions) (stack.Started, error) { return a.bring(ctx, s, o) }}
}

// begin starts a stack and shows what comes of it.
func (a *app) begin(ctx context.Context, s *stack.Stack, run func(context.Context) (stack.Started, error)) error {
	began := time.Now()
	out, err := run(ctx)
	return a.started(ctx, s, out, err, time.Since(began))
}

// bring starts a stack and shows its progress.
func (a *app) bring(ctx context.Context, s *stack.Stack, o stack.StartOptions) (stack.Started, error) {
	report, end := func(lifecycle.Progress) {}, func() {}
	if !a.json {
		progress := a.ui.Progress()
		report, end = progress.Report, progress.End
		o.Tasks = progress.Task
	}
	defer func() { end() }()
	return s.Start(ctx, o, report)
}

// started shows the result of a start.
func (a *app) started(ctx context.Context, s *stack.Stack, out stack.Started, err error, took time.Duration) error {
	if errors.Is(err, stack.ErrNoPlan) {
		if a.json {
			_ = a.print(out.Plan)
			return exitCode(exitNoPlan)
		}
		return noPlan(out.Plan)
	}
	if err != nil {
		return err
	}
	if a.json {
		sites := []siteJSON{}
		for _, x := range out.Sites {
			sites = append(sites, siteJSON{x.Name, x.URL})
		}
		state := lifecycle.Answers
		for _, p := range out.Parts {
			state = lifecycle.Worse(state, p.State)
		}
		begun := out.Begun
		if begun == nil {
			begun = []string{}
		}
		err := a.print(startJSON{
			Format:  1,
			Stack:   s.Name,
			State:   state,
			Answers: out.Answers(),
			Began:   begun,
			TookMS:  took.Milliseconds(),
			Parts:   out.Parts,
			Sites:   sites,
			Tasks:   out.Tasks,
		})
		if err == nil && !out.Answers() {
			return exitCode(exitFailed)
		}
		return err
	}
	a.ui.Changed(out.Plan)
	a.ui.Warnings(out.Plan)
	a.ui.Outdated(out.Outdated)
	if f, subjects := notAnswering(out); f != nil {
		diagnosed(ctx, s, f, subjects)
		return f
	}
	a.ui.Started(s.Name, out, took)
	if len(out.Sites) > 0 {
		a.ui.Next("open " + out.Sites[0].URL)
	} else {
		a.ui.Next("dravit check")
	}
	return nil
}

// diagnosed adds to a failure what diagnose finds first about its subjects.
func diagnosed(ctx context.Context, s *stack.Stack, f *ui.Failure, subjects []about.Subject) {
	d, err := s.Diagnose(ctx)
	if err != nil {
		return // the keeper's own words stay
	}
	i := slices.IndexFunc(d.Causes, func(c diagnose.Cause) bool { return c.About(subjects) })
	if i < 0 {
		return
	}
	first := d.Causes[i]
	f.Because, f.Next = first.What, first.Remedy
	if len(first.Evidence) > 0 {
		f.Detail = strings.TrimSuffix("seen\n  "+strings.Join(first.Evidence, "\n  ")+"\n"+f.Detail, "\n")
	}
}

type startJSON struct {
	Format  int                `json:"format"`
	Stack   string             `json:"stack"`
	State   lifecycle.State    `json:"state"`
	Answers bool               `json:"answers"`
	Began   []string           `json:"began"`
	TookMS  int64              `json:"took_ms"`
	Parts   []lifecycle.Status `json:"parts"`
	Sites   []siteJSON         `json:"sites"`
	Tasks   []stack.TaskStatus `json:"tasks,omitempty"` // that ran in this start
}

// notAnswering names the first part or site that does not answer, or nil if all do, and the subjects of the causes that
// could explain that: its own and those of what it rests on.
func notAnswering(out stack.Started) (f *ui.Failure, subjects []about.Subject) {
	// A part that waits for a failed one is not the cause.
	for _, states := range [][]lifecycle.State{
		{lifecycle.Failed},
		{lifecycle.Unwell, lifecycle.Pausing, lifecycle.Starting},
		{lifecycle.Waiting},
	} {
		for _, p := range out.Parts {
			for _, state := range states {
				if p.State != state {
					continue
				}
				f := &ui.Failure{
					Exit: exitFailed,
					What: fmt.Sprintf("part %s (%s) %s", p.Name, strings.TrimSpace(p.Kind+" "+p.Version),
						map[bool]string{true: "is unwell", false: "does not answer"}[p.State == lifecycle.Unwell]),
					Because: p.Because,
					Next:    p.Next,
				}
				if len(p.LogTail) > 0 {
					f.Detail = "its log ends with\n  " + strings.Join(p.LogTail, "\n  ")
				}
				if f.Because == "" {
					f.Because = "it is still " + string(p.State)
				}
				if f.Next == "" {
					f.Next = "dravit logs " + p.Name
				}
				return f, []about.Subject{about.Part(p.Name), about.Machine}
			}
		}
	}
	for _, s := range out.Sites {
		subjects := []about.Subject{about.Site(s.Name), about.Gateway, about.Machine}
		for _, x := range out.Plan.Sites {
			if x.Name == s.Name {
				subjects = append(subjects, about.Part(x.Server), about.Part(x.App))
			}
		}
		if len(s.Rungs) == 0 {
			return &ui.Failure{
				Exit:    exitFailed,
				What:    "the site " + s.Name + " does not answer",
				Because: "the gateway does not run",
				Next:    "dravit diagnose",
			}, subjects
		}
		if fell := health.FirstMiss(s.Rungs); fell != nil {
			f := &ui.Failure{
				Exit:    exitFailed,
				What:    "the site " + s.Name + " " + howNot(fell),
				Because: fell.Miss(),
				Next:    "dravit diagnose",
			}
			if fell.Rung == kind.Resolves {
				if lost := unresolved(out.Sites); len(lost) > 1 {
					f.What = fmt.Sprintf("the names of %d sites do not resolve: %s", len(lost), strings.Join(lost,
						", "))
				}
				f.Next = "dravit names hosts on, or dravit names resolver on"
			}
			return f, subjects
		}
	}
	return nil, nil
}

// unresolved returns the sites whose names the system's resolver does not lead here.
func unresolved(sites []health.SiteResult) (names []string) {
	for _, s := range sites {
		if fell := health.FirstMiss(s.Rungs); fell != nil && fell.Rung == kind.Resolves {
			names = append(names, s.Name)
		}
	}
	return names
}

// howNot says how a site fails: what came is wrong, or nothing came.
func howNot(fell *health.Result) string {
	if fell.Silent || fell.Rung != kind.Replies && fell.Rung != kind.Matches {
		return "does not answer"
	}
	return "answers wrongly"
}
