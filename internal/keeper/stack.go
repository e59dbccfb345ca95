package keeper

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"dravit/internal/data"
	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/proc"
	"dravit/internal/requests"
	"dravit/internal/run"
)

// stackRunner runs the parts of one stack.
type stackRunner struct {
	keeper *Keeper
	id     string

	apply sync.Mutex // held while parts are started or stopped

	mu         sync.Mutex // guards what follows, and the parts' states
	spec       materialise.Spec
	parts      map[string]*partRunner
	changed    chan struct{}   // closed and replaced at every change
	waiting    int             // how many starts wait for this stack
	restarting map[string]bool // parts that are restarting: requests wait for the sites whose pages need them

	leases []*lease // keep parts stopped; guarded by mu

	held heldPorts // of parts between two processes

	watching context.CancelFunc // stops the watch over folders; guarded by apply
	asking   context.CancelFunc // stops asking the sites; guarded by apply

	sites    map[string]*siteState // by name; guarded by mu
	failures []requests.Failure    // pages that failed since the start; guarded by mu
}

func newStack(k *Keeper, id string) *stackRunner {
	return &stackRunner{keeper: k, id: id,
		parts:      map[string]*partRunner{},
		restarting: map[string]bool{},
		sites:      map[string]*siteState{}, changed: make(chan struct{}),
		watching: func() {}, asking: func() {}}
}

// wake signals those who wait that something has changed. The caller holds mu.
func (s *stackRunner) wake() {
	close(s.changed)
	s.changed = make(chan struct{})
}

// changes returns a channel that is closed at the next change.
func (s *stackRunner) changes() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.changed
}

func (s *stackRunner) ofPart(p *partRunner) lifecycle.Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	return p.status
}

// stateOf returns the state of a part, stopped if there is no such part.
func (s *stackRunner) stateOf(name string) lifecycle.State {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p, ok := s.parts[name]; ok {
		return p.status.State
	}
	return lifecycle.Stopped
}

// statuses returns every part's state, in the order of the plan.
func (s *stackRunner) statuses() []lifecycle.Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := []lifecycle.Status{}
	for _, spec := range s.spec.Parts {
		if p, ok := s.parts[spec.Name]; ok {
			all = append(all, p.status)
		}
	}
	return all
}

// seen returns the stack with every part of its plan, also those that do not run.
func (s *stackRunner) seen() View {
	running := s.statuses()
	s.mu.Lock()
	defer s.mu.Unlock()
	all := StoppedView(s.spec)
	for i, p := range all.Parts {
		if j := slices.IndexFunc(running, func(x lifecycle.Status) bool { return x.Name == p.Name }); j >= 0 {
			all.Parts[i] = running[j]
		}
	}
	all.SiteStates = s.siteStatuses()
	all.Failures = slices.Clone(s.failures)
	return all
}

// remembered is the keeper's note of a running stack.
type remembered struct {
	Parts map[string]run.Note `json:"parts"`
	// Hashes are the hashes of the specs that the parts were started with: the stack's Spec may be newer than what
	// runs.
	Hashes map[string]string `json:"hashes"`
	// Configs are the hashes of the configurations that parts took while they ran.
	Configs map[string]string `json:"configs"`
}

func (s *stackRunner) seenFile() string { return s.keeper.home.Stack(s.id, "state", "seen.json") }

// remember records how a part can be found: before it is started (without a pid), and after.
func (s *stackRunner) remember(p *partRunner, note run.Note, pid int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p.found, p.status.PID = note, pid
	s.writeSeen()
}

// writeSeen writes the note of what runs. The caller holds mu.
func (s *stackRunner) writeSeen() {
	all := remembered{map[string]run.Note{}, map[string]string{}, map[string]string{}}
	for name, x := range s.parts {
		if !x.found.IsZero() {
			all.Parts[name], all.Hashes[name], all.Configs[name] = x.found, x.spec.Hash, x.config
		}
	}
	if err := home.WriteState(s.seenFile(), all); err != nil {
		s.keeper.log.Error("cannot record what runs", "error", err)
	}
}

// begin brings the stack to the Spec that read returns. It stops parts that are gone from the Spec or have changed,
// starts missing ones (if what.First, only those), and lets those take a new configuration that can do so while they
// run. It stops what.Parts in any case; if what.Only, it touches no others. It returns the Spec and the names of the
// parts that it started.
func (s *stackRunner) begin(ctx context.Context, read func() (materialise.Spec, error),
	what request) (materialise.Spec, []string, error) {
	s.apply.Lock()
	defer s.apply.Unlock()
	spec, err := read()
	if err != nil {
		return spec, nil, err
	}
	if err := NoteShouldRun(s.keeper.home, s.id); err != nil {
		return spec, nil, err
	}
	wanted := map[string]kind.Part{}
	for _, p := range spec.Parts {
		wanted[p.Name] = p
	}
	s.mu.Lock()
	var end []*partRunner
	for name, p := range s.parts {
		x, ok := wanted[name]
		again := slices.Contains(what.Parts, name) || !what.Only && p.spec.Data != "" && data.Unfinished(p.spec.Data)
		switch {
		case again || !what.Only && (!ok || x.Hash != p.spec.Hash || p.status.State == lifecycle.Failed):
			end = append(end, p)
		case !what.Only:
			p.setNext(x)
		}
	}
	s.mu.Unlock()
	s.pauseRequests(ctx, end, wanted)
	s.stopParts(end, stopToComeBack)
	start := spec.Parts
	if what.First != nil {
		start = slices.DeleteFunc(slices.Clone(start), func(p kind.Part) bool {
			return !slices.Contains(what.First, p.Name)
		})
	}
	if what.Only {
		start = slices.DeleteFunc(slices.Clone(start), func(p kind.Part) bool {
			return !slices.Contains(what.Parts, p.Name)
		})
	}
	var begun []string
	for _, p := range start {
		s.mu.Lock()
		_, runs := s.parts[p.Name]
		s.mu.Unlock()
		if !runs {
			begun = append(begun, p.Name)
		}
	}
	for _, p := range end {
		if _, stays := wanted[p.spec.Name]; !stays {
			s.freePort(p.spec.Name)
		}
	}
	s.mu.Lock()
	s.spec = spec
	s.mu.Unlock()
	s.add(start, nil, remembered{})
	if !what.Only {
		s.askKept()
	}
	s.watch(spec)
	s.ask(false)
	return spec, begun, nil
}

// askKept has the running parts asked anew whose last check may say what a start has changed since: what was wrong may
// be right now, and what was right needs parts that start.
func (s *stackRunner) askKept() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.parts {
		if p.status.State == lifecycle.Unwell || p.status.State == lifecycle.Answers && s.usesStart(p.spec) {
			p.askNow()
		}
	}
}

// usesStart reports whether parts that p uses are about to answer. The caller holds mu.
func (s *stackRunner) usesStart(p kind.Part) bool {
	return slices.ContainsFunc(p.Uses, func(name string) bool {
		x, ok := s.parts[name]
		return ok && slices.Contains([]lifecycle.State{lifecycle.Waiting, lifecycle.Starting, lifecycle.Pausing},
			x.status.State)
	})
}

// ask keeps asking the sites from now on, and explains requests for them that fail; for again see explainPages. It
// replaces an earlier ask. The caller holds apply.
func (s *stackRunner) ask(again bool) {
	s.asking()
	ctx, cancel := context.WithCancel(context.Background())
	s.asking = cancel
	s.mu.Lock()
	s.failures = requests.AtStart(s.failures, time.Now())
	known := s.failures
	s.mu.Unlock()
	s.keeper.parts.Go(func() { s.askSites(ctx) })
	s.keeper.parts.Go(func() { s.explainPages(ctx, again, known) })
}

// behind returns the parts that make a site's pages: its application, and the stores that this uses. The caller holds
// mu.
func (s *stackRunner) behind(site materialise.Site) []string {
	names := []string{site.App}
	if app, ok := s.spec.Part(site.App); ok {
		for _, use := range app.Uses {
			if x, ok := s.spec.Part(use); ok && x.Role.Store() {
				names = append(names, use)
			}
		}
	}
	return names
}

// settling is how long a request may take from the gateway through a web server to the runtime.
const settling = 20 * time.Millisecond

// pauseRequests makes requests wait for sites whose pages need parts that are about to restart. The caller holds apply.
func (s *stackRunner) pauseRequests(ctx context.Context, end []*partRunner, wanted map[string]kind.Part) {
	ending := map[string]bool{}
	for _, p := range end {
		ending[p.spec.Name] = true
	}
	serving := false // a web server that keeps running may have requests under way
	s.mu.Lock()
	for _, site := range s.spec.Sites {
		for _, name := range s.behind(site) {
			if _, comesBack := wanted[name]; comesBack && ending[name] {
				s.restarting[name] = true
				serving = serving || !ending[site.Server]
			}
		}
	}
	holds := len(s.restarting) > 0
	spec := s.spec
	s.mu.Unlock()
	if !holds {
		return
	}
	s.keeper.gateway.reroute()
	if serving {
		_ = proc.Sleep(ctx, settling) // interrupted: these requests get no answer
	}
	if slices.ContainsFunc(end, func(p *partRunner) bool { return p.spec.Role.Store() }) {
		drain(ctx, kind.Loopback(spec.HTTPPort), spec.Sites[0].Host)
	}
}

// drainPatience is how long a store may be needed by requests that are under way when it restarts.
const drainPatience = 5 * time.Second

// drain waits until no request is under way for a stack. Later ones wait for the parts that restart.
func drain(ctx context.Context, entrance, host string) {
	ctx, cancel := context.WithTimeout(ctx, drainPatience)
	defer cancel()
	for {
		asked, err := health.AskGateway(ctx, entrance, host)
		if err != nil || asked.Busy <= 0 || proc.Sleep(ctx, 10*time.Millisecond) != nil {
			return
		}
	}
}

// crashed makes requests wait for sites whose pages were made by a part that died while it answered.
func (s *stackRunner) crashed(p *partRunner) {
	s.mu.Lock()
	answered := p.status.State == lifecycle.Answers || p.status.State == lifecycle.Unwell
	hold := answered && slices.ContainsFunc(s.spec.Sites, func(x materialise.Site) bool { return x.App == p.spec.Name })
	if hold {
		s.restarting[p.spec.Name] = true
	}
	s.mu.Unlock()
	if hold {
		s.keeper.gateway.reroute()
	}
}

// release lets requests pass to the sites of a part that will not be back soon.
func (s *stackRunner) release(name string) {
	s.mu.Lock()
	held := s.restarting[name]
	delete(s.restarting, name)
	s.mu.Unlock()
	if held {
		s.keeper.gateway.reroute()
	}
}

// updateSites gives the running parts the sites of spec. It starts and stops nothing.
func (s *stackRunner) updateSites(spec materialise.Spec) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.spec = spec
	for _, x := range spec.Parts {
		if p, runs := s.parts[x.Name]; runs && x.Hash == p.spec.Hash {
			p.setNext(x)
		}
	}
	s.wake()
}

// add starts the parts that do not run yet. It registers all of them before it starts the first: they wait for each
// other.
func (s *stackRunner) add(parts []kind.Part, adopted map[string]run.Handle, was remembered) {
	type launch struct {
		part *partRunner
		run  func()
	}
	var launches []launch
	s.mu.Lock()
	for _, spec := range parts {
		k := s.kindOf(spec)
		if _, runs := s.parts[spec.Name]; runs || k == nil {
			continue
		}
		ctx, cancel := context.WithCancel(context.Background())
		p := &partRunner{
			stack:  s,
			spec:   spec,
			kind:   k,
			cancel: cancel,
			done:   make(chan struct{}),
			status: statusOf(spec, lifecycle.Waiting),
		}
		p.live = p.life
		p.status.Since = time.Now()
		p.answered = adopted[spec.Name] != nil // it answered under an earlier keeper, so a crash is no failed start
		p.poke, p.config = make(chan struct{}, 1), was.Configs[spec.Name]
		// whatever another keeper left of it is found by its marks
		p.runs = run.Of(spec).Seen(spec, run.Note{Members: was.Parts[spec.Name].Members})
		s.parts[spec.Name] = p
		p.launched = make(chan struct{})
		p.closeLaunched = sync.OnceFunc(func() { close(p.launched) })
		launches = append(launches, launch{p, func() { p.run(ctx, adopted[spec.Name]) }})
	}
	s.wake()
	s.mu.Unlock()
	// A database takes longest, and in the end the other parts wait for it: let its process start first.
	slices.SortStableFunc(launches, func(a, b launch) int { return weight(a.part) - weight(b.part) })
	for _, l := range launches {
		s.keeper.parts.Go(l.run)
		if l.part.first() {
			select {
			case <-l.part.launched:
			case <-time.After(headStart):
			}
		}
	}
}

// kindOf returns the kind of a part, or nil if this keeper does not know it. The caller holds mu.
func (s *stackRunner) kindOf(p kind.Part) kind.Kind {
	if s.id == gatewayID {
		return gateway.Kind(s.spec.HTTPSPort)
	}
	return s.keeper.kinds.Of(p.Kind)
}

// headStart bounds how long other parts wait for a database's process to be started; filling its data takes longer.
const headStart = 10 * time.Millisecond

// first reports whether the part's process starts before those of others.
func (p *partRunner) first() bool { return p.kind.Traits().HeadStart && p.way().Offers().Process }

func weight(p *partRunner) int {
	switch {
	case p.first():
		return 0
	case p.spec.Role == kind.RoleRuntime:
		return 1
	}
	return 2
}

// stopParts stops parts, each after those that may still ask it. Each stops within stopPatience. The caller holds
// apply.
func (s *stackRunner) stopParts(parts []*partRunner, o order) {
	byName, names := map[string]*partRunner{}, []string{}
	for _, p := range parts {
		byName[p.spec.Name] = p
		names = append(names, p.spec.Name)
	}
	s.mu.Lock()
	spec := s.spec
	s.mu.Unlock()
	for _, now := range layers(names, func(name string) []string { return needed(spec, name) }) {
		for _, name := range now {
			byName[name].finish(o)
		}
		for _, name := range now {
			<-byName[name].done
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range parts {
		delete(s.parts, p.spec.Name) // its goroutine has ended
	}
	s.wake()
}

// stop stops the named parts, or all if names is nil, and returns their last states. It stops them even if the caller
// no longer waits.
func (s *stackRunner) stop(ctx context.Context, names []string) ([]lifecycle.Status, error) {
	var last []lifecycle.Status
	var err error
	stopped := make(chan struct{})
	s.keeper.parts.Go(func() {
		defer close(stopped)
		last, err = s.stopNow(names)
	})
	select {
	case <-stopped:
		return last, err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (s *stackRunner) stopNow(names []string) ([]lifecycle.Status, error) {
	s.apply.Lock()
	defer s.apply.Unlock()
	s.mu.Lock()
	var parts []*partRunner
	for _, p := range s.parts {
		if names == nil || slices.Contains(names, p.spec.Name) {
			parts = append(parts, p)
			delete(s.restarting, p.spec.Name) // no request waits for a part that does not come back
		}
	}
	whole := len(parts) == len(s.parts)
	s.mu.Unlock()
	var err error
	if whole {
		err = noteShouldNotRun(s.keeper.home, s.id) // what runs is stopped all the same
		s.watching()
		s.asking()
	}
	s.stopParts(parts, stopForGood)
	s.mu.Lock()
	spec := s.spec
	s.mu.Unlock()
	for _, p := range spec.Parts { // those, too, that were to come back
		if whole || slices.Contains(names, p.Name) {
			s.freePort(p.Name)
		}
	}
	var last []lifecycle.Status
	for _, p := range parts {
		last = append(last, p.status) // its goroutine has ended
	}
	if whole {
		_ = home.RemoveJSON(s.seenFile())
		_ = os.Remove(filepath.Join(s.keeper.home.Run, s.id)) // empty now
	}
	return last, err
}

// adopt takes over the parts that an earlier keeper left running.
func (s *stackRunner) adopt() error {
	spec, err := materialise.Read(s.keeper.home, s.id, s.keeper.kinds)
	if err != nil || spec.ID == "" {
		return err
	}
	var was remembered
	if err := home.ReadDerived(s.seenFile(), &was); err != nil {
		return err
	}
	for i, p := range spec.Parts {
		if hash, ok := was.Hashes[p.Name]; ok {
			spec.Parts[i].Hash = hash
		}
	}
	for i := range spec.Parts { // start again from a program that still exists
		if p := &spec.Parts[i]; p.Self != "" {
			if _, err := os.Stat(p.Self); err != nil {
				p.Self = s.keeper.self
			}
		}
	}
	alive := map[string]run.Handle{}
	for _, p := range spec.Parts {
		if h := run.Of(p).Adopt(p, was.Parts[p.Name]); h != nil {
			alive[p.Name] = h
		}
	}
	s.mu.Lock()
	s.spec = spec
	s.mu.Unlock()
	s.apply.Lock()
	defer s.apply.Unlock()
	for _, p := range spec.Parts {
		_ = os.Remove(HeldFile(s.keeper.home, s.id, p.Name)) // the earlier keeper held the port, and is gone
	}
	parts := spec.Parts
	if Preparing(s.keeper.home, s.id) {
		// Its tasks have failed, or run just now. What may depend on them has to wait for a start that completes them.
		parts = slices.DeleteFunc(slices.Clone(parts), func(p kind.Part) bool {
			_, begun := was.Hashes[p.Name]
			return !p.Role.Store() && !begun && alive[p.Name] == nil
		})
	}
	s.add(parts, alive, was)
	s.watch(spec)
	s.ask(true)
	return nil
}

// stage returns the stage of a start whose parts are in these states.
func (s *stackRunner) stage(all []lifecycle.Status) lifecycle.Stage {
	states := map[string]lifecycle.State{}
	for _, p := range all {
		states[p.Name] = p.State
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return stageOf(s.spec.Parts, states)
}

// settled reports, from these states, whether no part is still starting or stopping, and whether every part answers.
func (s *stackRunner) settled(all []lifecycle.Status) (settled, answers bool) {
	settled, answers = true, true
	failed := map[string]bool{}
	for _, p := range all {
		failed[p.Name] = p.State == lifecycle.Failed
		answers = answers && p.State == lifecycle.Answers
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range all {
		switch p.State {
		case lifecycle.Answers, lifecycle.Failed, lifecycle.Unwell:
		case lifecycle.Waiting:
			// A part that waits for a failed one waits forever.
			x := s.parts[p.Name]
			settled = settled && x != nil && slices.ContainsFunc(x.spec.Uses, func(n string) bool { return failed[n] })
		default:
			settled = false
		}
	}
	return settled, answers
}

// waitUntil waits until the named parts answer, settled is closed, or the context ends.
func (s *stackRunner) waitUntil(ctx context.Context, settled <-chan struct{}, names []string) {
	for {
		changed := s.changes()
		if !slices.ContainsFunc(names, func(n string) bool { return s.stateOf(n) != lifecycle.Answers }) {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-settled:
			return
		case <-changed:
		}
	}
}

// leave ends the goroutines of all parts, and lets the parts run.
func (s *stackRunner) leave() {
	s.apply.Lock()
	s.watching()
	s.asking()
	s.apply.Unlock()
	s.mu.Lock()
	parts := slices.Collect(maps.Values(s.parts))
	s.mu.Unlock()
	for _, p := range parts {
		p.finish(letGo)
	}
	for _, p := range parts {
		<-p.done
	}
}
