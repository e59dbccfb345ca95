package stack

import (
	"context"
	"fmt"
	"os"
	"slices"
	"time"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/proc"
	"dravit/internal/requests"
	"dravit/internal/run"
	"dravit/internal/trace"
	"dravit/internal/trouble"
)

// PartCheck is the result of asking one part now.
type PartCheck struct {
	Name  string          `json:"name"`
	Kind  string          `json:"kind"`
	State lifecycle.State `json:"state"`
	Rungs []health.Result `json:"rungs"`
	// BecauseOf is the part that it uses and that does not answer, which explains the failure, or "".
	BecauseOf string `json:"because_of,omitempty"`
	// Requires are the application's requirements as the web process has them.
	Requires []kind.Requirement `json:"requires,omitempty"`
}

// Checked is the result of a check.
type Checked struct {
	Answers    bool
	Parts      []PartCheck
	Sites      []health.SiteResult
	Reachable  []Reach // from other machines
	DeepChecks []health.DeepResult
	Failures   []requests.Failure // pages that failed lately, the last one first

	asked []requests.Failure     // those of Failures, and those from before the last start
	seen  []lifecycle.Status     // as the keeper saw them just before
	sites []lifecycle.SiteStatus // as the keeper saw them just before
	logs  map[string]int64       // the length of each part's log before anything was asked, in bytes
}

// Check asks every part and site now, side by side, or only those that are named.
func (s *Stack) Check(ctx context.Context, names ...string) (Checked, error) {
	out := Checked{Parts: []PartCheck{}, Sites: []health.SiteResult{}}
	status, err := s.Status(ctx)
	if err != nil {
		return out, err
	}
	out.Reachable, out.seen, out.sites = status.Reachable, status.Parts, status.SiteStates
	out.Failures = requests.Open(status.Failures, time.Now())
	out.asked = requests.Asked(status.Failures, time.Now())
	spec, err := s.spec()
	if err != nil {
		return out, err
	}
	whole := spec
	whole.Parts = slices.Clone(spec.Parts)
	if err := choose(&spec, names); err != nil {
		return out, err
	}
	out.logs = map[string]int64{}
	for _, p := range whole.Parts {
		if info, err := os.Stat(p.Log); err == nil {
			out.logs[p.Name] = info.Size()
		}
	}
	ladders, err := s.ladders(spec, whole)
	if err != nil {
		return out, err
	}
	results := health.All(ctx, ladders)
	if err := ctx.Err(); err != nil {
		return out, err
	}
	out.Answers = len(results) > 0
	stateOf := func(holds bool, seen lifecycle.State) lifecycle.State {
		switch {
		case holds && seen != lifecycle.Stopped:
			return lifecycle.Answers
		case seen == lifecycle.Answers:
			return lifecycle.Unwell
		}
		return seen
	}
	for i, p := range spec.Parts {
		seen := lifecycle.Stopped
		if j := slices.IndexFunc(status.Parts, func(x lifecycle.Status) bool { return x.Name == p.Name }); j >= 0 {
			seen = status.Parts[j].State
		}
		state := stateOf(health.Holds(results[i]), seen)
		var requires []kind.Requirement
		if state == lifecycle.Answers {
			if requires, err = s.requirements(ctx, p); err != nil {
				return out, err
			}
			if _, unmet := kind.Unmet(requires); unmet {
				state = lifecycle.Unwell
			}
		}
		out.Answers = out.Answers && state == lifecycle.Answers
		out.Parts = append(out.Parts, PartCheck{p.Name, p.Kind, state, results[i], "", requires})
	}
	stopped := !slices.ContainsFunc(status.Parts, func(p lifecycle.Status) bool { return p.State != lifecycle.Stopped })
	for i, site := range spec.Sites {
		r := results[len(spec.Parts)+i]
		state := stateOf(health.Holds(r), lifecycle.Answers)
		if stopped {
			state = lifecycle.Stopped
		}
		out.Answers = out.Answers && state == lifecycle.Answers
		out.Sites = append(out.Sites, health.SiteResult{Name: site.Name, URL: site.URL, State: state, Rungs: r})
	}
	out.blame(whole, s.Kinds)
	return out, nil
}

// ladders returns the ladders of the parts and sites of spec, in this order. A part that makes pages is asked about its
// stores only once, for its own ladder and for its sites'. whole is the stack with every part.
func (s *Stack) ladders(spec, whole materialise.Spec) ([][]kind.Rung, error) {
	var ladders [][]kind.Rung
	works := map[string]func(context.Context) error{}
	for _, p := range spec.Parts {
		k := s.Kinds.Of(p.Kind)
		ladder := health.LadderOf(k, p)
		i := slices.IndexFunc(ladder, func(r kind.Rung) bool { return r.Name == kind.Works })
		if _, makesPages := k.(kind.PageMaker); makesPages && i >= 0 {
			ladder[i].Ask = health.Once(ladder[i].Ask)
			works[p.Name] = ladder[i].Ask
		}
		ladders = append(ladders, ladder)
	}
	for _, site := range spec.Sites {
		target, err := gateway.Target(s.Home, whole, site, s.Kinds)
		if err != nil {
			return nil, err
		}
		target.Stores = works[site.App]
		ladders = append(ladders, health.Site(target))
	}
	return ladders, nil
}

// blame sets BecauseOf of everything that does not answer.
func (c *Checked) blame(spec materialise.Spec, kinds kind.List) {
	failing := func(name string) bool {
		i := slices.IndexFunc(c.Parts, func(p PartCheck) bool { return p.Name == name })
		return i >= 0 && c.Parts[i].State != lifecycle.Answers
	}
	first := func(names []string) string {
		if i := slices.IndexFunc(names, failing); i >= 0 {
			return names[i]
		}
		return ""
	}
	for i, p := range c.Parts {
		if part, ok := spec.Part(p.Name); ok && p.State != lifecycle.Answers && p.State != lifecycle.Failed &&
			p.State != lifecycle.Stopped {
			c.Parts[i].BecauseOf = first(part.Uses)
		}
	}
	for i, x := range c.Sites {
		j := slices.IndexFunc(spec.Sites, func(site materialise.Site) bool { return site.Name == x.Name })
		if x.State == lifecycle.Answers || x.State == lifecycle.Stopped || j < 0 ||
			c.pageSays(x, spec.Sites[j].App, kinds) {
			continue
		}
		site := spec.Sites[j]
		app, _ := spec.Part(site.App)
		c.Sites[i].BecauseOf = first(append(slices.Clone(app.Uses), site.App, site.Server))
	}
}

// pageSays reports whether a site fails with a message on its page, and not for want of a store. Such a message says
// what is wrong, and that need not be a part that does not answer.
func (c *Checked) pageSays(site health.SiteResult, app string, kinds kind.List) bool {
	fell := health.FirstMiss(site.Rungs)
	i := slices.IndexFunc(c.Parts, func(p PartCheck) bool { return p.Name == app })
	if fell == nil || fell.Rung != kind.Replies || i < 0 {
		return false
	}
	part := c.Parts[i]
	if runs := health.FirstMiss(part.Rungs); runs != nil && runs.Rung != kind.Works { // it did not receive the request
		return false
	}
	return !slices.ContainsFunc(kinds.TraitsOf(part.Kind).Symptoms, func(s kind.Symptom) bool {
		_, _, at := s.Find(fell.Got, app)
		return at >= 0 && s.Cause == cause.StoreElsewhere
	})
}

// requirements asks the process that serves pages about what the part's application requires.
func (s *Stack) requirements(ctx context.Context, p kind.Part) ([]kind.Requirement, error) {
	if k, ok := s.Kinds.Of(p.Kind).(kind.PageMaker); ok {
		return k.Requirements(ctx, p)
	}
	return nil, nil
}

// lookOut is how often a watch looks between two checks whether a page has failed.
const lookOut = 100 * time.Millisecond

// AwaitFailure waits for the time until the next check, or until pages fail, or work again, otherwise than the last
// check says. It asks the keeper alone.
func (s *Stack) AwaitFailure(ctx context.Context, last Checked, wait time.Duration) error {
	for end := time.Now().Add(wait); time.Now().Before(end); {
		if err := proc.Sleep(ctx, min(lookOut, time.Until(end))); err != nil {
			return err
		}
		if !s.Runs() {
			continue
		}
		view, err := s.Keeper.View(ctx, s.ID)
		if err != nil {
			continue // the next check says what is wrong
		}
		now := requests.Open(view.Failures, time.Now())
		unknown := func(f requests.Failure) bool { return !slices.ContainsFunc(last.Failures, f.Same) }
		if len(now) != len(last.Failures) || slices.ContainsFunc(now, unknown) {
			return nil
		}
	}
	return ctx.Err()
}

// Prove asks the deep checks of a check's parts and sites that answer, and adds the results to the check.
func (s *Stack) Prove(ctx context.Context, c *Checked) error {
	spec, err := s.spec()
	if err != nil {
		return err
	}
	var subjects []about.Subject
	var deepChecks []kind.DeepCheck
	add := func(subject about.Subject, all []kind.DeepCheck) {
		for _, d := range all {
			subjects, deepChecks = append(subjects, subject), append(deepChecks, d)
		}
	}
	for _, p := range c.Parts {
		part, _ := spec.Part(p.Name)
		if k := s.Kinds.Of(part.Kind); k != nil && p.State == lifecycle.Answers && run.Of(part).Offers().Data {
			add(about.Part(p.Name), k.DeepChecks(part))
		}
	}
	for _, x := range c.Sites {
		i := slices.IndexFunc(spec.Sites, func(site materialise.Site) bool { return site.Name == x.Name })
		if i < 0 || x.State != lifecycle.Answers {
			continue
		}
		target, err := gateway.Target(s.Home, spec, spec.Sites[i], s.Kinds)
		if err != nil {
			return err
		}
		add(about.Site(x.Name), health.SiteDeepChecks(target))
	}
	c.DeepChecks = health.Prove(ctx, subjects, deepChecks)
	for _, d := range c.DeepChecks {
		c.Answers = c.Answers && d.Holds != nil && *d.Holds
	}
	return ctx.Err()
}

// choose returns a Spec with the parts and sites of these names only, or with all if there are no names.
func choose(spec *materialise.Spec, wanted []string) error {
	if len(wanted) == 0 {
		return nil
	}
	all := names(*spec)
	for _, site := range spec.Sites {
		all = append(all, site.Name)
	}
	for _, name := range wanted {
		if !slices.Contains(all, name) {
			return trouble.NoSuchPart(name, all)
		}
	}
	spec.Parts = slices.DeleteFunc(spec.Parts, func(p kind.Part) bool { return !slices.Contains(wanted, p.Name) })
	spec.Sites = slices.DeleteFunc(spec.Sites, func(x materialise.Site) bool {
		return !slices.Contains(wanted, x.Name)
	})
	return nil
}

// Trace sends one request to a site, and returns how long each leg took.
func (s *Stack) Trace(ctx context.Context, name string) (trace.Trace, error) {
	spec, err := s.spec()
	if err != nil {
		return trace.Trace{}, err
	}
	i := slices.IndexFunc(spec.Sites, func(x materialise.Site) bool { return x.Name == name })
	if i < 0 {
		var all []string
		for _, x := range spec.Sites {
			all = append(all, x.Name)
		}
		return trace.Trace{}, &trouble.Trouble{
			Code:    trouble.NoSite,
			Subject: about.Site(name),
			What:    fmt.Sprintf("the stack has no site %q; its sites are %s", name, trouble.List(all)),
		}
	}
	return trace.Follow(ctx, s.Home, spec, s.Kinds, s.Version, spec.Sites[i])
}
