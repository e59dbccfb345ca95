package stack

import (
	"cmp"
	"context"
	"os"
	"slices"
	"sync"
	"time"

	"dravit/internal/account"
	"dravit/internal/certificates"
	"dravit/internal/diagnose"
	"dravit/internal/examine"
	"dravit/internal/health"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/propose"
)

// Diagnosis says why parts and sites do not answer.
type Diagnosis struct {
	Answers bool
	Stopped bool // the stack should not run
	Failed  int  // pages that failed lately, and fail still
	Causes  []diagnose.Cause
	// Since is when everything answered last (RFC 3339). Changes are what is different since then: what runs, and what
	// the stack file says.
	Since   string
	Changes []plan.Change
	// Exits are how each part's processes ended since the stack was started, also for parts that answer again.
	Exits map[string]lifecycle.Exit
}

// Diagnose asks everything as Check does, gathers the facts about what does not answer, and finds the causes.
func (s *Stack) Diagnose(ctx context.Context) (Diagnosis, error) {
	facts := diagnose.Facts{Now: time.Now()}
	facts.User = account.Current().Username
	facts.Proxy, facts.Bypass = cmp.Or(os.Getenv("http_proxy"), os.Getenv("HTTP_PROXY")),
		cmp.Or(os.Getenv("no_proxy"), os.Getenv("NO_PROXY"))
	facts.Stopped = !s.Runs()
	for _, k := range s.Kinds {
		facts.Kinds = append(facts.Kinds, k.Traits())
	}
	in, decided, err := s.Plan(ctx, plan.Consent{})
	if facts.Plan = decided; err != nil {
		return Diagnosis{}, err
	}
	checked, err := s.Check(ctx)
	if err != nil {
		return Diagnosis{}, err
	}
	out := Diagnosis{
		Answers: checked.Answers,
		Stopped: facts.Stopped,
		Since:   facts.Plan.Since,
		Changes: slices.Concat(facts.Plan.Changes, facts.Plan.Edits),
		Exits:   map[string]lifecycle.Exit{},
	}
	spec, err := s.spec()
	if err != nil {
		return out, err
	}
	for i, p := range spec.Parts {
		status := statusOf(checked.seen, p.Name)
		if status.LastExit != nil {
			out.Exits[p.Name] = *status.LastExit
		}
		if checked.Parts[i].State == lifecycle.Answers { // even if the keeper saw it differently
			status.State, status.Because, status.Next = lifecycle.Answers, "", ""
		}
		// it stopped answering since the keeper checked
		if checked.Parts[i].State != lifecycle.Answers && status.State == lifecycle.Answers {
			status.State = lifecycle.Unwell
			if fell := health.FirstMiss(checked.Parts[i].Rungs); fell != nil {
				status.Because = fell.Miss()
			}
		}
		facts.Parts = append(facts.Parts, examine.Part(ctx, s.Kinds, p, status, checked.Parts[i].Rungs))
		facts.Parts[i].Requires = checked.Parts[i].Requires
	}
	facts.Gateway = examine.Gateway(s.Home, spec)
	var wg sync.WaitGroup
	facts.Sites = make([]diagnose.SiteFacts, len(spec.Sites))
	for i, site := range spec.Sites {
		wg.Go(func() { facts.Sites[i] = examine.Site(ctx, spec, site, checked.Sites[i].Rungs) })
	}
	wg.Wait()
	for i, site := range spec.Sites {
		facts.Sites[i].NowLogs, facts.Sites[i].SinceLogs = siteLogs(spec, site, checked)
	}
	facts.Disks = examine.Disks(s.Home, spec)
	facts.Authority = certificates.Begins(s.Home)
	facts.Suggested = s.suggested(ctx, spec)
	if err := s.taskFacts(&facts, spec); err != nil {
		return out, err
	}
	if !checked.Answers {
		if facts.OldPorts, err = s.formerPorts(); err != nil {
			return out, err
		}
	}
	facts.Pages = examine.Pages(ctx, s.Kinds, spec, checked.asked)
	out.Failed = len(facts.Pages)
	out.Causes = s.causes(ctx, facts, in)
	return out, ctx.Err()
}

// taskFacts adds how the tasks ran last, and which seeds failed.
func (s *Stack) taskFacts(facts *diagnose.Facts, spec materialise.Spec) error {
	tasks, err := s.Tasks()
	if err != nil {
		return err
	}
	for _, t := range tasks {
		x := diagnose.TaskFacts{Name: t.Name, Part: t.Part, When: t.When, Command: t.Command, LogFile: t.Log}
		if t.Last != nil && t.Last.Failed() {
			x.Failed = t.Last.How
			x.Tail, _, _ = logfile.Tail(t.Log, taskTail) // without a log there is no tail
		}
		facts.Tasks = append(facts.Tasks, x)
	}
	facts.Seeds, err = s.failedSeeds(spec)
	return err
}

// taskTail is how many lines of a failed task's output are looked at.
const taskTail = 200

func statusOf(all []lifecycle.Status, name string) lifecycle.Status {
	if i := slices.IndexFunc(all, func(x lifecycle.Status) bool { return x.Name == name }); i >= 0 {
		return all[i]
	}
	return lifecycle.Status{Name: name, State: lifecycle.Stopped}
}

// siteLogs returns what the parts behind a site wrote to their logs, by part: since the check began, and since the site
// answered last.
func siteLogs(spec materialise.Spec, site materialise.Site, c Checked) (now, since map[string]string) {
	now, since = map[string]string{}, map[string]string{}
	var answered map[string]int64
	if i := slices.IndexFunc(c.sites, func(x lifecycle.SiteStatus) bool { return x.Name == site.Name }); i >= 0 {
		answered = c.sites[i].LogFrom
	}
	for _, name := range []string{site.App, site.Server} {
		p, ok := spec.Part(name)
		if !ok {
			continue
		}
		now[name] = examine.Log(p.Log, c.logs[name])
		since[name] = examine.Log(p.Log, max(answered[name], statusOf(c.seen, name).LogStart))
	}
	return now, since
}

// suggested returns the commands that the project's own files suggest for the folder in which each part works.
func (s *Stack) suggested(ctx context.Context, spec materialise.Spec) map[string]diagnose.Suggested {
	var folders []string
	for _, p := range spec.Parts {
		if f := p.Want.Folder(); !slices.Contains(folders, f) {
			folders = append(folders, f)
		}
	}
	commands, out := propose.Suggest(ctx, s.Dir, folders, s.Kinds), map[string]diagnose.Suggested{}
	for _, p := range spec.Parts {
		out[p.Name] = diagnose.Suggested(commands[p.Want.Folder()])
	}
	return out
}
