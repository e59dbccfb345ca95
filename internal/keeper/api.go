package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"
	"slices"
	"sync"
	"time"

	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/proc"
	"dravit/internal/requests"
	"dravit/internal/trouble"
)

// request is the body of a start or stop request.
type request struct {
	Parts   []string      `json:"parts,omitempty"`   // empty: all
	Timeout time.Duration `json:"timeout,omitempty"` // of a start: how long it waits; 0: no limit
	Only    bool          `json:"only,omitempty"`    // of a start: it starts Parts again, and leaves the others alone
	Rest    bool          `json:"rest,omitempty"`    // with Only: they stay stopped until the request's body ends
	// First are the parts that a start starts alone, before the others; none if it is empty, all parts if it is nil.
	First []string `json:"first"`
}

// Event is one line of the answer to a start request. An empty one says that the keeper is alive.
type Event struct {
	lifecycle.Progress
	Site    *health.SiteResult `json:"site,omitempty"`    // the result of a site's ladder
	Trouble *trouble.Trouble   `json:"trouble,omitempty"` // why the start failed
	Done    bool               `json:"done,omitempty"`    // the last line
	AtRest  bool               `json:"at_rest,omitempty"` // the parts of a request with Rest have stopped
	Begun   []string           `json:"begun,omitempty"`   // with Done: the parts that this start has started
	// Spans, if Done, are the phases of each part until it answered.
	Spans map[string][]lifecycle.Span `json:"spans,omitempty"`
}

// stageOf returns the stage of a start whose parts are in these states.
func stageOf(parts []kind.Part, states map[string]lifecycle.State) lifecycle.Stage {
	stage := lifecycle.StageSites
	for _, p := range parts {
		switch states[p.Name] {
		case lifecycle.Answers, lifecycle.Unwell, lifecycle.Failed:
		default:
			if p.Role.Store() {
				return lifecycle.StageStores
			}
			stage = lifecycle.StageServers
		}
	}
	return stage
}

// View is a stack as the keeper sees it.
type View struct {
	Name  string             `json:"name"`
	Parts []lifecycle.Status `json:"parts"`
	Sites []materialise.Site `json:"sites"`
	Notes []string           `json:"notes,omitempty"` // what the plan skipped
	// SiteStates are the states of Sites, in the same order.
	SiteStates []lifecycle.SiteStatus `json:"site_states"`
	// Failures are pages that failed since the stack was started, also those that work again.
	Failures []requests.Failure `json:"failures,omitempty"`
}

// StoppedView returns the view of a stack that does not run.
func StoppedView(spec materialise.Spec) View {
	s := View{Name: spec.Name, Sites: spec.Sites, Notes: spec.Notes}
	for _, p := range spec.Parts {
		s.Parts = append(s.Parts, statusOf(p, lifecycle.Stopped))
	}
	for _, site := range spec.Sites {
		s.SiteStates = append(s.SiteStates,
			lifecycle.SiteStatus{Name: site.Name, URL: site.URL, State: lifecycle.Stopped})
	}
	return s
}

func statusOf(p kind.Part, state lifecycle.State) lifecycle.Status {
	return lifecycle.Status{
		Name:    p.Name,
		Kind:    p.Kind,
		Version: p.Version,
		Port:    p.Port,
		Socket:  p.Socket,
		Outside: p.Outside,
		State:   state,
	}
}

// Hello is what the keeper says about itself.
type Hello struct {
	PID   int    `json:"pid"`
	Build string `json:"build"`
}

func (k *Keeper) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/hello", func(w http.ResponseWriter, r *http.Request) {
		answer(w, Hello{os.Getpid(), k.build})
	})
	mux.HandleFunc("GET /v1/stacks/{id}", func(w http.ResponseWriter, r *http.Request) {
		answer(w, k.stack(r.PathValue("id")).seen())
	})
	mux.HandleFunc("POST /v1/stacks/{id}/start", k.busy(k.start))
	mux.HandleFunc("POST /v1/stacks/{id}/stop", k.busy(k.stop))
	mux.HandleFunc("POST /v1/nothing", k.busy(func(http.ResponseWriter, *http.Request) {}))
	mux.HandleFunc("POST /v1/leave", func(w http.ResponseWriter, r *http.Request) {
		answer(w, Hello{os.Getpid(), k.build})
		k.quit()
	})
	return mux
}

// busy keeps the keeper alive while it handles a request that starts or stops something. After the last such request
// the keeper may exit if no stack should run.
func (k *Keeper) busy(do http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		k.mu.Lock()
		if k.leaving {
			k.mu.Unlock()
			refuse(w, http.StatusServiceUnavailable, left(errors.New("it is about to exit")))
			return
		}
		k.requests++
		k.mu.Unlock()
		do(w, r)
		k.mu.Lock()
		k.requests--
		k.mu.Unlock()
		k.endIfIdle()
	}
}

func (k *Keeper) start(w http.ResponseWriter, r *http.Request) {
	var req request
	in := json.NewDecoder(r.Body)
	if err := in.Decode(&req); err != nil {
		refuse(w, http.StatusBadRequest, err)
		return
	}
	id := r.PathValue("id")
	out := json.NewEncoder(w)
	flush := http.NewResponseController(w)
	_ = flush.EnableFullDuplex() // this server can
	var saying sync.Mutex
	say := func(e Event) {
		saying.Lock()
		defer saying.Unlock()
		_ = out.Encode(e) // the context shows when a caller has left
		_ = flush.Flush()
	}
	defer beat(func() { say(Event{}) })()
	s := k.stack(id)
	s.mu.Lock()
	s.waiting++
	s.mu.Unlock()
	over := func() {}
	if req.Rest {
		over = s.lease(req.Parts)
		defer over()
	}
	spec, begun, err := s.begin(r.Context(), func() (materialise.Spec, error) {
		spec, err := materialise.Read(k.home, id, k.kinds)
		if err == nil && spec.ID == "" {
			err = &trouble.Trouble{Code: trouble.NeverStarted, What: "this stack was never started"}
		}
		return spec, err
	}, req)
	whole := req.First == nil && !req.Only
	if err == nil && len(spec.Sites) > 0 && whole {
		err = k.gateway.open(r.Context(), spec.HTTPPort, spec.HTTPSPort)
	}
	if err != nil {
		say(Event{Trouble: trouble.Of(err)})
	} else {
		if req.Rest {
			say(Event{AtRest: true})
			_, _ = io.Copy(io.Discard, io.MultiReader(in.Buffered(), r.Body)) // its end is what counts
			over()
		}
		settled := make(chan struct{})
		var sites []health.SiteResult
		var asking sync.WaitGroup
		if whole {
			asking.Go(func() { sites = k.proveSites(r.Context(), settled, s, spec) })
		}
		k.follow(r.Context(), s, req.Timeout, say)
		close(settled)
		asking.Wait()
		for _, site := range sites {
			say(Event{Site: &site})
		}
	}
	s.mu.Lock()
	s.waiting--
	alone := s.waiting == 0
	s.mu.Unlock()
	// interrupted: stop what this start has started, and nothing else
	if r.Context().Err() != nil && alone && len(begun) > 0 && !req.Only {
		if _, err := s.stop(context.WithoutCancel(r.Context()), begun); err != nil {
			k.log.Error("cannot stop an interrupted start", "error", err)
		}
		k.gateway.closeIfIdle(r.Context())
		return
	}
	say(Event{Done: true, Begun: begun, Spans: s.spans(begun)})
}

// beat calls say at every heartbeat, until the function that it returns is called.
func beat(say func()) (stop func()) {
	ticker, done := time.NewTicker(heartbeat), make(chan struct{})
	var beating sync.WaitGroup
	beating.Go(func() {
		for {
			select {
			case <-ticker.C:
				say()
			case <-done:
				return
			}
		}
	})
	return func() {
		ticker.Stop()
		close(done)
		beating.Wait()
	}
}

// spans returns the phases of the parts until their first answer.
func (s *stackRunner) spans(names []string) map[string][]lifecycle.Span {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string][]lifecycle.Span{}
	for _, name := range names {
		if p, ok := s.parts[name]; ok {
			out[name] = slices.Clone(p.spans)
		}
	}
	return out
}

// follow reports the states of the parts until none of them changes any more, or the time is over.
func (k *Keeper) follow(ctx context.Context, s *stackRunner, timeout time.Duration, say func(Event)) {
	if timeout > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, timeout)
		defer cancel()
	}
	said := map[string]lifecycle.Status{}
	var stage lifecycle.Stage
	for {
		changed := s.changes()
		all := s.statuses()
		if now := s.stage(all); now != stage {
			stage = now
			say(Event{Progress: lifecycle.Progress{Stage: stage}})
		}
		for _, p := range all {
			was, ok := said[p.Name]
			if !ok || was.State != p.State || was.Because != p.Because || len(was.LogTail) != len(p.LogTail) {
				said[p.Name] = p
				say(Event{Progress: lifecycle.Progress{Part: &p}})
			}
		}
		if settled, _ := s.settled(all); settled {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		}
	}
}

// siteGrace is how long a site may answer wrongly after its parts answer: an application may still be initialising.
const siteGrace = 3 * time.Second

// proveSites climbs the ladders of the sites side by side until they hold. It begins each when the parts behind it are
// ready. If the parts have settled without answering, it asks the site once.
func (k *Keeper) proveSites(ctx context.Context, settled <-chan struct{}, s *stackRunner,
	spec materialise.Spec) []health.SiteResult {
	results := make([]health.SiteResult, len(spec.Sites))
	var wg sync.WaitGroup
	for i, site := range spec.Sites {
		results[i] = health.SiteResult{Name: site.Name, URL: site.URL}
		wg.Go(func() {
			target, err := gateway.Target(k.home, spec, site, k.kinds)
			if err != nil {
				k.log.Error("site", "site", site.Name, "error", err)
				return
			}
			if target.Maker != nil {
				target.Stores = func(ctx context.Context) error { return s.storesOf(ctx, settled, target.App) }
			}
			needs := readyFor(spec, site)
			s.waitUntil(ctx, settled, needs)
			if slices.ContainsFunc(needs, func(n string) bool { return s.stateOf(n) == lifecycle.Failed }) {
				return // the part's state says it already
			}
			if app := target.App; app.Role == kind.RoleRuntime {
				for !closed(settled) && ctx.Err() == nil && !accepts(ctx, app.Socket) {
					_ = proc.Sleep(ctx, pollEvery)
				}
			}
			// Ask the system's resolver last, and do not wait for it: browsers do not ask it for these names.
			whole := health.Site(target)
			ladder := withoutAdvisory(slices.Clone(whole))
			var took time.Duration
			sizes := s.logSizes(site)
			defer func() {
				if ctx.Err() == nil && results[i].Rungs != nil {
					s.recordSite(site, results[i].Rungs, sizes, took)
					s.keeper.parts.Go(func() { s.noteProved(ctx, spec, site) }) // the start does not wait for that
					results[i].Rungs = append(advised(ctx, whole), results[i].Rungs...)
				}
			}()
			var end, limit time.Time
			works := activity{part: target.App}
			for wait := time.Millisecond; ctx.Err() == nil; wait = min(2*wait, 100*time.Millisecond) {
				if k.gateway.runner.stateOf(gatewayID) == lifecycle.Failed {
					return // the process that answers on the gateway's port is not ours
				}
				sizes = s.logSizes(site)
				began := time.Now()
				results[i].Rungs = health.Climb(ctx, ladder)
				took = time.Since(began)
				if fell := health.FirstMiss(results[i].Rungs); fell == nil || fell.Rung == kind.Resolves {
					return // waiting does not make the system's resolver know a name
				}
				if end.IsZero() && closed(settled) {
					if _, answers := s.settled(s.statuses()); !answers {
						return
					}
					end, limit = time.Now().Add(siteGrace), time.Now().Add(target.App.Want.Patient())
				}
				now := time.Now()
				// what answers wrongly writes because it is asked; what gives no answer may be compiling it
				waits := noAnswer(results[i].Rungs) && now.Before(limit) && works.goesOn(now)
				if !end.IsZero() && now.After(end) && !waits {
					return
				}
				_ = proc.Sleep(ctx, wait)
			}
		})
	}
	wg.Wait()
	return results
}

// noAnswer reports whether a ladder fell as nothing came in time.
func noAnswer(results []health.Result) bool {
	fell := health.FirstMiss(results)
	return fell != nil && fell.Silent
}

// storesOf reports whether a part reaches its stores. In a start its own ladder is being asked that: a part that
// answers does, and one that has settled otherwise is asked again.
func (s *stackRunner) storesOf(ctx context.Context, settled <-chan struct{}, app kind.Part) error {
	s.waitUntil(ctx, settled, []string{app.Name})
	if s.stateOf(app.Name) == lifecycle.Answers {
		return nil
	}
	for _, r := range s.keeper.kinds.Of(app.Kind).Ladder(app) {
		if r.Name == kind.Works {
			return r.Ask(ctx)
		}
	}
	return nil
}

// adviceTime is how long a start waits for advisory rungs.
const adviceTime = 100 * time.Millisecond

// advised asks the advisory rungs at the beginning of a ladder. One that takes too long counts as not asked.
func advised(ctx context.Context, ladder []kind.Rung) []health.Result {
	var first []kind.Rung
	for _, r := range ladder {
		if r.Advisory {
			first = append(first, r)
		}
	}
	ctx, cancel := context.WithTimeout(ctx, adviceTime)
	defer cancel()
	results := health.Climb(ctx, first)
	if ctx.Err() != nil {
		for i := range results {
			results[i].Holds = nil
		}
	}
	return results
}

// closed reports whether a channel that carries nothing is closed.
func closed(c <-chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}

// accepts reports whether a socket accepts connections.
func accepts(ctx context.Context, socket string) bool {
	conn, err := health.Dial("unix", socket)(ctx)
	if err != nil {
		return false
	}
	conn.Close()
	return true
}

// readyFor returns the parts that must answer before a site is worth asking: its server and its app, or what its
// runtime uses.
func readyFor(spec materialise.Spec, site materialise.Site) []string {
	names := []string{site.Server}
	if app, ok := spec.Part(site.App); ok {
		// the runtime's ladder asks the stores at the same time as the site's
		if app.Role == kind.RoleRuntime {
			return append(names, app.Uses...)
		}
		names = append(names, app.Name)
	}
	return names
}

func (k *Keeper) stop(w http.ResponseWriter, r *http.Request) {
	var req request
	if err := json.NewDecoder(r.Body).Decode(&req); err != nil {
		refuse(w, http.StatusBadRequest, err)
		return
	}
	s := k.stack(r.PathValue("id"))
	names := req.Parts
	if len(names) == 0 {
		names = nil
	}
	last, err := s.stop(r.Context(), names)
	if err != nil {
		refuse(w, http.StatusInternalServerError, err)
		return
	}
	k.gateway.closeIfIdle(r.Context())
	answer(w, last)
}

// refuse answers with an error, from which the client restores the same error.
func refuse(w http.ResponseWriter, status int, err error) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(trouble.Of(err)) // a caller who has left does not matter
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // a caller who left does not matter
}
