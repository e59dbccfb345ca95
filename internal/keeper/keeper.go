// Package keeper is the one background process of a user: it starts, watches, restarts and stops parts and the gateway.
// It may die at any moment: what it started lives on, and the next keeper takes it over.
package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/proc"
)

// Keeper is the background process.
type Keeper struct {
	home  *home.Home
	kinds kind.List
	self  string
	build string
	log   *slog.Logger
	quit  context.CancelFunc
	parts sync.WaitGroup // goroutines of parts

	mu       sync.Mutex
	stacks   map[string]*stack
	gateway  *stack
	leaving  bool // parts live on: another keeper takes over
	requests int  // that may still begin something

	entrance sync.Mutex // held while the gateway is opened or closed
}

// socketName is the keeper's own socket in the run folder.
const socketName = "keeper.sock"

// ErrRunning says that another keeper serves this home folder.
var ErrRunning = errors.New("another keeper is running")

// Run is the keeper's life. It ends when no stack is wished to run, when another keeper asks to take over, or with the context.
// self is the dravit program it starts built-in parts from, build that program's hash.
func Run(ctx context.Context, h *home.Home, kinds kind.List, self, build string) error {
	lock, err := home.TryLock(h.Path("keeper.lock"))
	if errors.Is(err, home.ErrLocked) {
		return ErrRunning
	}
	if err != nil {
		return err
	}
	defer lock.Close()
	if run, err := os.Open(h.Run); err == nil { // cleaners of /tmp leave a folder alone that somebody has locked
		defer run.Close()
		_ = home.Share(run)
	}
	ctx, quit := context.WithCancel(ctx)
	defer quit()
	k := &Keeper{home: h, kinds: kinds, self: self, build: build, quit: quit, stacks: map[string]*stack{},
		log: slog.New(slog.NewTextHandler(os.Stderr, nil))}
	k.gateway = newStack(k, gatewayID)
	if err := k.takeOver(); err != nil {
		return err
	}
	path := filepath.Join(h.Run, socketName)
	_ = os.Remove(path) // nobody but the holder of the lock listens on it
	listener, err := net.Listen("unix", path)
	if err != nil {
		return err
	}
	if err := os.Chmod(path, 0o600); err != nil {
		return err
	}
	k.log.Info("keeper runs", "pid", os.Getpid(), "build", build)
	defer time.AfterFunc(lonely, k.endIfIdle).Stop() // its caller may have found that there is nothing to start
	err = kind.ServeHTTP(ctx, &http.Server{Handler: k.handler(), ReadHeaderTimeout: time.Minute, ErrorLog: slog.NewLogLogger(k.log.Handler(), slog.LevelWarn)},
		home.OwnPeers(listener))
	k.mu.Lock()
	k.leaving = true
	stacks := append(slices.Collect(maps.Values(k.stacks)), k.gateway)
	k.mu.Unlock()
	for _, s := range stacks {
		s.leave()
	}
	k.parts.Wait()
	k.log.Info("keeper ends")
	return err
}

// takeOver adopts what an earlier keeper left running.
func (k *Keeper) takeOver() error {
	book, err := ledger.Read(k.home)
	if err != nil {
		return err
	}
	for id := range book.Stacks {
		if !Wished(k.home, id) {
			continue
		}
		s := newStack(k, id)
		if err := s.adopt(); err != nil {
			k.log.Error("taking over", "stack", id, "error", err)
			continue
		}
		k.stacks[id] = s
	}
	if len(k.stacks) == 0 {
		return nil
	}
	return k.gateway.adopt()
}

func (k *Keeper) kindOf(name string) kind.Server {
	if name == gateway.KindName {
		return gateway.Kind()
	}
	return k.kinds.Of(name)
}

func (k *Keeper) stack(id string) *stack {
	k.mu.Lock()
	defer k.mu.Unlock()
	s, ok := k.stacks[id]
	if !ok {
		s = newStack(k, id)
		k.stacks[id] = s
	}
	return s
}

// gatewayID is the id under which the gateway's own state is kept, as if it were a stack.
const gatewayID = "gateway"

// openGateway starts the gateway where it does not run, and tells it what it serves.
func (k *Keeper) openGateway(port, secure int) error {
	k.entrance.Lock()
	defer k.entrance.Unlock()
	table, err := k.writeTable()
	if err != nil {
		return err
	}
	_, _, err = k.gateway.begin(func() (materialise.Spec, error) { return gateway.Spec(k.home, k.self, port, secure, table) }, nil)
	return err
}

// writeTable writes what the gateway serves. A gateway that runs notices new routes by itself. The caller holds entrance.
func (k *Keeper) writeTable() (gateway.Table, error) {
	var t gateway.Table
	k.mu.Lock()
	stacks := slices.Collect(maps.Values(k.stacks))
	k.mu.Unlock()
	for _, s := range stacks {
		s.mu.Lock()
		if len(s.parts) > 0 {
			t.Resolver = max(t.Resolver, s.spec.Resolver)
			for _, site := range s.spec.Sites {
				s.route(site, &t)
			}
		}
		s.mu.Unlock()
	}
	slices.SortFunc(t.Doors, func(a, b gateway.Door) int { return a.Port - b.Port })
	return t, gateway.WriteTable(k.home, t)
}

// reroute tells the gateway what has become of the parts behind its sites: whom nobody need wait for, and who is back.
func (k *Keeper) reroute() {
	k.entrance.Lock()
	defer k.entrance.Unlock()
	if _, err := k.writeTable(); err != nil {
		k.log.Error("gateway", "error", err)
	}
}

// route adds what leads to a site. The caller holds mu.
func (s *stack) route(site materialise.Site, t *gateway.Table) {
	p, ok := s.spec.Part(site.Server)
	if !ok {
		return
	}
	network, address := p.Entrance()
	x, runs := s.parts[p.Name]
	runs = runs && x.status.State != kind.Failed
	for _, host := range append([]string{site.Host}, site.Aliases...) {
		t.Routes = append(t.Routes, gateway.Route{Host: host, Stack: s.spec.Name, StackID: s.id, Site: site.Name, Network: network, Address: address, Halted: !runs, Held: s.held[site.App]})
	}
	if site.Network != 0 {
		t.Doors = append(t.Doors, gateway.Door{Port: site.Network, Host: site.Host})
	}
}

// request is the body of start and stop.
type request struct {
	Parts   []string      `json:"parts,omitempty"`   // empty: all
	Timeout time.Duration `json:"timeout,omitempty"` // of a start: how long it waits; 0: for ever
}

// Event is one line of the answer to start.
type Event struct {
	Part  *kind.Status `json:"part,omitempty"`  // a part's state changed
	Site  *SiteResult  `json:"site,omitempty"`  // a site's ladder came to an end
	Error string       `json:"error,omitempty"` // the start went no further
	Done  bool         `json:"done,omitempty"`  // the last line
	Begun []string     `json:"begun,omitempty"` // with Done: the parts that this start began
	// Spans, with Done, are what those did until they answered.
	Spans map[string][]kind.Span `json:"spans,omitempty"`
}

// SiteResult is a site's ladder.
type SiteResult struct {
	Name  string          `json:"name"`
	URL   string          `json:"url"`
	Rungs []health.Result `json:"rungs"`
}

// Seen is a stack as the keeper sees it.
type Seen struct {
	Name  string             `json:"name"`
	Parts []kind.Status      `json:"parts"`
	Sites []materialise.Site `json:"sites"`
	Notes []string           `json:"notes,omitempty"` // what the plan passed over
}

// Unseen is a stack of which nothing runs.
func Unseen(spec materialise.Spec) Seen {
	s := Seen{Name: spec.Name, Sites: spec.Sites, Notes: spec.Notes}
	for _, p := range spec.Parts {
		s.Parts = append(s.Parts, statusOf(p, kind.Stopped))
	}
	return s
}

func statusOf(p kind.Part, state kind.State) kind.Status {
	return kind.Status{Name: p.Name, Kind: p.Kind, Version: p.Version, Port: p.Port, Socket: p.Socket, State: state}
}

// Hello is what the keeper says of itself.
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

// busy keeps the keeper alive while a request that begins or ends something is under way, and lets it end after the last
// where nothing is wished to run.
func (k *Keeper) busy(do http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		k.mu.Lock()
		if k.leaving {
			k.mu.Unlock()
			http.Error(w, "leaving", http.StatusServiceUnavailable)
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

// lonely is how long a keeper waits for its first stack.
const lonely = 20 * time.Second

// endIfIdle ends the keeper where nothing runs and no request may begin anything.
func (k *Keeper) endIfIdle() {
	k.mu.Lock()
	defer k.mu.Unlock()
	idle := k.requests == 0
	for _, s := range k.stacks {
		s.mu.Lock()
		idle = idle && len(s.parts) == 0
		s.mu.Unlock()
	}
	if idle {
		k.leaving = true
		k.quit()
	}
}

func (k *Keeper) start(w http.ResponseWriter, r *http.Request) {
	var req request
	if err := json.NewDecoder(r.Body).Decode(&req); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	id := r.PathValue("id")
	out := json.NewEncoder(w)
	flush := http.NewResponseController(w)
	say := func(e Event) {
		_ = out.Encode(e) // a caller who left is seen by the context
		_ = flush.Flush()
	}
	s := k.stack(id)
	s.mu.Lock()
	s.waiting++
	s.mu.Unlock()
	spec, begun, err := s.begin(func() (materialise.Spec, error) {
		spec, err := materialise.Read(k.home, id)
		if err == nil && spec.ID == "" {
			err = errors.New("this stack was never planned")
		}
		return spec, err
	}, req.Parts)
	if err == nil && len(spec.Sites) > 0 {
		err = k.openGateway(spec.Gateway, spec.Secure)
	}
	if err != nil {
		say(Event{Error: err.Error()})
	} else {
		settled, settle := context.WithCancel(context.WithoutCancel(r.Context()))
		var sites []SiteResult
		var asking sync.WaitGroup
		asking.Go(func() { sites = k.proveSites(r.Context(), settled, s, spec) })
		k.follow(r.Context(), s, req.Timeout, say)
		settle()
		asking.Wait()
		for _, site := range sites {
			say(Event{Site: &site})
		}
	}
	s.mu.Lock()
	s.waiting--
	alone := s.waiting == 0
	s.mu.Unlock()
	if r.Context().Err() != nil && alone && len(begun) > 0 { // interrupted: what this start began is ended, nothing else
		if _, err := s.halt(begun); err != nil {
			k.log.Error("ending an interrupted start", "error", err)
		}
		k.closeGatewayIfIdle()
		return
	}
	say(Event{Done: true, Begun: begun, Spans: s.spans(begun)})
}

// spans returns what parts did on their way to their first answer.
func (s *stack) spans(names []string) map[string][]kind.Span {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string][]kind.Span{}
	for _, name := range names {
		if p, ok := s.parts[name]; ok {
			out[name] = slices.Clone(p.spans)
		}
	}
	return out
}

// follow reports the states of the parts until nothing is on its way any more, or the time is over.
func (k *Keeper) follow(ctx context.Context, s *stack, timeout time.Duration, say func(Event)) {
	if timeout > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, timeout)
		defer cancel()
	}
	said := map[string]kind.Status{}
	for {
		changed := s.changes()
		all := s.statuses()
		for _, p := range all {
			was, ok := said[p.Name]
			if !ok || was.State != p.State || was.Because != p.Because || len(was.LogTail) != len(p.LogTail) {
				said[p.Name] = p
				say(Event{Part: &p})
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

// siteGrace is how long a site may still answer wrongly after its parts answer: an application may be warming up.
const siteGrace = 3 * time.Second

// proveSites climbs the ladders of the sites side by side until they hold, each from when the parts behind it are ready. Once the
// parts are settled without answering, a site is asked once.
func (k *Keeper) proveSites(ctx, settled context.Context, s *stack, spec materialise.Spec) []SiteResult {
	results := make([]SiteResult, len(spec.Sites))
	var wg sync.WaitGroup
	for i, site := range spec.Sites {
		results[i] = SiteResult{Name: site.Name, URL: site.URL}
		wg.Go(func() {
			target, err := gateway.Target(k.home, spec, site, k.kinds)
			if err != nil {
				k.log.Error("site", "site", site.Name, "error", err)
				return
			}
			needs := readyFor(spec, site)
			s.waitUntil(ctx, settled, needs)
			if slices.ContainsFunc(needs, func(n string) bool { return s.stateOf(n) == kind.Failed }) {
				return // what it came to is said of the part
			}
			if app := target.App; app.Role == kind.Runtime {
				for settled.Err() == nil && ctx.Err() == nil && !accepts(ctx, app.Socket) {
					_ = proc.Sleep(ctx, pollEvery)
				}
			}
			// The system's resolver is left to check: it may take its time, and no browser asks it for these names.
			ladder := slices.DeleteFunc(health.Site(target), func(r kind.Rung) bool { return r.Advisory })
			var end time.Time
			for wait := time.Millisecond; ctx.Err() == nil; wait = min(2*wait, 100*time.Millisecond) {
				if k.gateway.stateOf(gatewayID) == kind.Failed {
					return // whoever answers at its port is not ours
				}
				results[i].Rungs = health.Climb(ctx, ladder)
				if fell := health.Fell(results[i].Rungs); fell == nil || fell.Rung == kind.Resolves {
					return // no waiting teaches the system's resolver a name
				}
				if end.IsZero() && settled.Err() != nil {
					if _, answers := s.settled(s.statuses()); !answers {
						return
					}
					end = time.Now().Add(siteGrace)
				}
				if !end.IsZero() && time.Now().After(end) {
					return
				}
				_ = proc.Sleep(ctx, wait)
			}
		})
	}
	wg.Wait()
	return results
}

// accepts tells whether a socket accepts connections.
func accepts(ctx context.Context, socket string) bool {
	conn, err := health.Dial("unix", socket)(ctx)
	if err != nil {
		return false
	}
	conn.Close()
	return true
}

// readyFor names the parts that must answer before a site is worth asking: its server, its app, or what its runtime uses.
func readyFor(spec materialise.Spec, site materialise.Site) []string {
	names := []string{site.Server}
	if app, ok := spec.Part(site.App); ok {
		if app.Role == kind.Runtime { // its own ladder reaches the stores, as the site's does: no need for one after the other
			return append(names, app.Uses...)
		}
		names = append(names, app.Name)
	}
	return names
}

func (k *Keeper) stop(w http.ResponseWriter, r *http.Request) {
	var req request
	if err := json.NewDecoder(r.Body).Decode(&req); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	s := k.stack(r.PathValue("id"))
	names := req.Parts
	if len(names) == 0 {
		names = nil
	}
	last, err := s.halt(names)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	k.closeGatewayIfIdle()
	answer(w, last)
}

// closeGatewayIfIdle brings the gateway up to date, and ends it with the last stack.
func (k *Keeper) closeGatewayIfIdle() {
	k.entrance.Lock()
	defer k.entrance.Unlock()
	idle := true
	k.mu.Lock()
	for _, s := range k.stacks {
		s.mu.Lock()
		idle = idle && len(s.parts) == 0 && s.waiting == 0
		s.mu.Unlock()
	}
	k.mu.Unlock()
	table, err := k.writeTable()
	if err == nil && idle {
		_, err = k.gateway.halt(nil)
	} else if err == nil {
		err = k.gateway.follow(table)
	}
	if err != nil {
		k.log.Error("gateway", "error", err)
	}
}

// follow has the gateway's stack, where it runs, open and close doors as a table says.
func (s *stack) follow(t gateway.Table) error {
	s.apply.Lock()
	defer s.apply.Unlock()
	s.mu.Lock()
	p, runs := s.spec.Part(gateway.KindName)
	s.mu.Unlock()
	if !runs {
		return nil
	}
	spec, err := gateway.Spec(s.keeper.home, p.Self, p.Port, p.Want.Port, t)
	if err == nil {
		s.take(spec)
	}
	return err
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // a caller who left does not matter
}
