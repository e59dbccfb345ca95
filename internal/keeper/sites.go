package keeper

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/materialise"
	"dravit/internal/proc"
)

// siteState is what is known about a site. Its stack's mu guards it.
type siteState struct {
	status  lifecycle.SiteStatus
	blocked bool      // a part behind it did not answer at the last check
	due     time.Time // when to look next, and to ask if something has happened
	proved  happened  // what was seen when the ladder held last
}

const (
	askSiteAgain = 10 * time.Second // between two looks at a site that answers
	askSiteSoon  = 3 * time.Second  // after a ladder that did not hold
	sitesAtOnce  = 8                // how many ladders are climbed side by side
)

// behind returns the parts that a site's page needs, the web server first.
func behind(spec materialise.Spec, site materialise.Site) []string {
	names := []string{site.Server}
	if app, ok := spec.Part(site.App); ok {
		names = append(append(names, app.Name), app.Uses...)
	}
	return names
}

// blocker returns the first part behind a site that does not answer, and its state; "" if all do. The caller holds mu.
func (s *stackRunner) blocker(site materialise.Site) (name string, state lifecycle.State) {
	for _, name := range behind(s.spec, site) {
		p, runs := s.parts[name]
		switch {
		case !runs:
			return name, lifecycle.Stopped
		case p.status.State != lifecycle.Answers:
			return name, p.status.State
		}
	}
	return "", ""
}

// siteOf returns what is known of a site. The caller holds mu.
func (s *stackRunner) siteOf(site materialise.Site) *siteState {
	x, ok := s.sites[site.Name]
	if !ok {
		x = &siteState{status: lifecycle.SiteStatus{Name: site.Name, URL: site.URL, State: lifecycle.Starting,
			Since: time.Now()}}
		s.sites[site.Name] = x
	}
	return x
}

// siteStatuses returns the state of every site. One whose part does not answer waits for it. The caller holds mu.
func (s *stackRunner) siteStatuses() []lifecycle.SiteStatus {
	all := []lifecycle.SiteStatus{}
	for _, site := range s.spec.Sites {
		status := s.siteOf(site).status
		status.URL = site.URL
		status.LogFrom = maps.Clone(status.LogFrom)
		switch name, state := s.blocker(site); {
		case len(s.parts) == 0:
			status.State, status.Because = lifecycle.Stopped, ""
		case name != "" && state == lifecycle.Stopped:
			status.State, status.Because = lifecycle.Waiting, "because "+name+" is stopped"
		case name != "":
			status.State, status.Because = lifecycle.Waiting, "because "+name+" does not answer"
		}
		all = append(all, status)
	}
	return all
}

// logSizes returns how long the logs of the parts behind a site are, in bytes.
func (s *stackRunner) logSizes(site materialise.Site) map[string]int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	sizes := map[string]int64{}
	for _, name := range behind(s.spec, site) {
		if p, ok := s.spec.Part(name); ok {
			sizes[name] = logfile.Size(p.Log)
		}
	}
	return sizes
}

// recordSite records the result of a site's ladder. sizes are those of the logs before it was climbed.
func (s *stackRunner) recordSite(site materialise.Site, results []health.Result,
	sizes map[string]int64, took time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	x, now := s.siteOf(site), time.Now()
	state, because, again := lifecycle.Answers, "", askSiteAgain
	if fell := health.FirstMiss(results); fell != nil {
		state, because, again = lifecycle.Unwell, fell.Miss(), askSiteSoon
	} else {
		x.status.ProvedAt, x.status.LogFrom = now, sizes
	}
	x.due = now.Add(max(again, 20*took)) // ask a page that takes long less often
	if x.status.State == state && x.status.Because == because {
		return
	}
	if x.status.State != state {
		x.status.Since = now
	}
	x.status.State, x.status.Because = state, because
	s.wake()
}

// dueSites returns the sites that have to be asked now, as the parts behind them answer, and the time until the next
// one.
func (s *stackRunner) dueSites() (due []materialise.Site, wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	wait = askSiteAgain
	if s.waiting > 0 { // a start asks the sites itself
		return nil, time.Second
	}
	now := time.Now()
	for _, site := range s.spec.Sites {
		x := s.siteOf(site)
		name, _ := s.blocker(site)
		if name == "" && x.blocked {
			x.due = now
		}
		if x.blocked = name != ""; x.blocked {
			continue
		}
		if x.due.After(now) {
			wait = min(wait, x.due.Sub(now))
			continue
		}
		due = append(due, site)
	}
	return due, wait
}

// askSites keeps looking at the stack's sites until the context ends. A site that was proved is asked again only when
// something has happened: what Dravit asks of an application leaves lines in its log, and costs a page.
func (s *stackRunner) askSites(ctx context.Context) {
	for ctx.Err() == nil {
		changed := s.changes()
		due, wait := s.dueSites()
		var wg sync.WaitGroup
		slots := make(chan struct{}, sitesAtOnce)
		for _, site := range due {
			slots <- struct{}{}
			wg.Go(func() {
				defer func() { <-slots }()
				s.askSite(ctx, site)
			})
		}
		wg.Wait()
		if len(due) > 0 {
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		case <-changed:
			_ = proc.Sleep(ctx, 50*time.Millisecond) // several changes come at once
		}
	}
}

func (s *stackRunner) askSite(ctx context.Context, site materialise.Site) {
	s.mu.Lock()
	spec := s.spec
	x := s.siteOf(site)
	proved, answers := x.proved, x.status.State == lifecycle.Answers
	s.mu.Unlock()
	if answers && proved != (happened{}) && s.happened(ctx, spec, site) == proved {
		s.mu.Lock()
		x.due = time.Now().Add(askSiteAgain)
		s.mu.Unlock()
		return
	}
	sizes, began := s.logSizes(site), time.Now()
	target, err := gateway.Target(s.keeper.home, spec, site, s.keeper.kinds)
	if err != nil {
		s.keeper.log.Error("cannot check a site", "site", site.Name, "error", err)
		s.recordSite(
			site,
			[]health.Result{{Rung: kind.Reaches, Holds: new(bool), Expected: "the gateway's key", Got: err.Error()}},
			sizes,
			0,
		)
		return
	}
	// From before it is asked, so that what happens meanwhile counts as new.
	seen := s.happened(ctx, spec, site)
	results := health.Climb(ctx, withoutAdvisory(health.Site(target)))
	if ctx.Err() != nil {
		return
	}
	s.recordSite(site, results, sizes, time.Since(began))
	s.mu.Lock()
	x.proved = seen
	s.mu.Unlock()
}

// noteProved notes what can be seen of a site now that it was proved.
func (s *stackRunner) noteProved(ctx context.Context, spec materialise.Spec, site materialise.Site) {
	seen := s.happened(context.WithoutCancel(ctx), spec, site)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.siteOf(site).proved = seen
}

func withoutAdvisory(ladder []kind.Rung) []kind.Rung {
	return slices.DeleteFunc(ladder, func(r kind.Rung) bool { return r.Advisory })
}

// unmetRequirement says what the part's application requires and its process lacks, or "".
func (p *partRunner) unmetRequirement(ctx context.Context) string {
	k, ok := p.kind.(kind.PageMaker)
	if !ok || !p.spec.Want.Demanding() {
		return ""
	}
	all, err := k.Requirements(ctx, p.spec)
	if err != nil {
		return ""
	}
	r, ok := kind.Unmet(all)
	if !ok {
		return ""
	}
	return fmt.Sprintf(
		"the application requires %s %s %s, and the web process has: %s",
		r.Sort,
		r.Name,
		r.Wanted,
		r.Got,
	)
}
