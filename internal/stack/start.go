package stack

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"time"

	"dravit/internal/account"
	"dravit/internal/cause"
	"dravit/internal/certificates"
	"dravit/internal/examine"
	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/keeper"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/lifecycle"
	"dravit/internal/locale"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/run"
	"dravit/internal/self"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
	"dravit/internal/trouble"
)

func (s *Stack) goodFile() string { return s.Home.Stack(s.ID, "state", "good.json") }

// remember records what a stack ran on when everything answered, unless the start changed nothing.
func (s *Stack) remember(out Started) error {
	good := plan.Good{
		At:    time.Now().UTC().Format(time.RFC3339),
		Parts: map[string]plan.Chosen{},
		Ports: map[string]int{},
		File:  out.file.Values(),
	}
	for _, x := range out.Plan.Parts {
		if !run.Named(x.Way).Offers().Data {
			continue // it runs on nothing of this machine's
		}
		good.Parts[x.Name] = plan.Chosen{Kind: x.Kind, Version: x.Version, Program: x.Program}
		if x.Port != 0 {
			good.Ports[x.Name] = x.Port
		}
	}
	var was plan.Good
	if err := home.ReadDerived(s.goodFile(), &was); err == nil && maps.Equal(was.Parts, good.Parts) &&
		maps.Equal(was.File, good.File) && maps.Equal(was.Ports, good.Ports) {
		return nil
	}
	return home.WriteJSON(s.goodFile(), good)
}

// ErrNoPlan says that no plan satisfies the stack file. The plan's faults say why.
var ErrNoPlan = errors.New("no plan satisfies the stack file")

// Started is the result of a start.
type Started struct {
	Plan  plan.Plan
	file  *stackfile.File
	input plan.Input // from which Plan was made
	Begun []string   // parts
	Parts []lifecycle.Status
	Sites []health.SiteResult
	Spans map[string][]lifecycle.Span // phases of the parts that were started
	Tasks []TaskStatus                // the tasks that ran in this start
	// Outdated are tasks that ran and whose files have changed since then, and parts with seeds that have: a sentence
	// each.
	Outdated []string

	starting bool // the stack did not run before
}

// Answers reports whether every part and every site answers.
func (s Started) Answers() bool {
	for _, p := range s.Parts {
		if p.State != lifecycle.Answers {
			return false
		}
	}
	for _, site := range s.Sites {
		if !health.Holds(site.Rungs) {
			return false
		}
	}
	return true
}

// StartOptions say how to start a stack.
type StartOptions struct {
	Restart    []string      // parts to stop first in any case
	RestartAll bool          // stop all parts first
	Timeout    time.Duration // how long to wait until everything answers
	Consent    plan.Consent
	// Passwords are those that the user gave for servers outside the stack, by the name of the part. A part that is not
	// in it keeps its password.
	Passwords map[string]string
	Tasks     func(TaskEvent) // called for each step of a task; may be nil
}

// waiting returns the context in which a start waits for other commands: until its timeout. The caller must call
// cancel.
func (o StartOptions) waiting(ctx context.Context) (waits context.Context, cancel context.CancelFunc) {
	if o.Timeout == 0 {
		return context.WithCancel(ctx)
	}
	return context.WithTimeout(ctx, o.Timeout)
}

func (o StartOptions) tasks() func(TaskEvent) {
	if o.Tasks == nil {
		return func(TaskEvent) {}
	}
	return o.Tasks
}

// Start makes the plan while it holds the ledger, writes what the plan says, and brings the stack to it. It calls
// report for each change of a part's state. What does not answer by the timeout keeps running. When the context ends,
// Start stops what it has started.
func (s *Stack) Start(ctx context.Context, o StartOptions, report func(lifecycle.Progress)) (Started, error) {
	began := time.Now()
	var begun []string
	timeout := o.Timeout
	for tries := 0; ; tries++ {
		if timeout > 0 {
			o.Timeout = max(time.Millisecond, timeout-time.Since(began)) // one timeout for all tries
		}
		out, err := s.startOnce(ctx, o, report)
		for _, name := range out.Begun {
			if !slices.Contains(begun, name) {
				begun = append(begun, name)
			}
		}
		out.Begun = begun
		if err == nil {
			out.Outdated = append(s.outdated(out.file), s.writtenDown(out.Plan.Changes)...)
		}
		if err == nil && out.Answers() {
			return out, cmp.Or(s.remember(out), s.record(began, out))
		}
		// A port that was free when it was chosen may be taken when its server starts. Then another one is chosen, and
		// everything that contains the port follows.
		if err != nil || tries == maxMoves || !s.failedForPort(out) {
			return out, err
		}
		o.Restart, o.RestartAll = nil, false
	}
}

// maxMoves bounds how often a start moves parts to other ports.
const maxMoves = 5

// failedForPort reports whether a part or the gateway failed because another process has its port, or had it when the
// server asked for it. If the port is pinned, the next plan says so.
func (s *Stack) failedForPort(out Started) bool {
	held := map[int]bool{}
	for _, p := range out.Plan.Parts {
		i := slices.IndexFunc(out.Parts, func(x lifecycle.Status) bool { return x.Name == p.Name })
		if p.Port == 0 || i < 0 || out.Parts[i].State != lifecycle.Failed {
			continue
		}
		if out.Parts[i].Code == trouble.PortTaken {
			return true // the process that had it may be gone by now
		}
		if lostPort(p.Name, p.Port, s.Kinds.TraitsOf(p.Kind).Symptoms,
			examine.Log(s.Home.Stack(s.ID, "logs", p.Name+".log"), out.Parts[i].LogFrom)) {
			return true // the process that had it may be gone by now
		}
		held[p.Port] = true
		for _, port := range p.Ports {
			held[port] = true
		}
	}
	if out.Plan.HTTPPort != 0 && len(out.Plan.Sites) > 0 &&
		!gateway.Seen(s.Home).Alive() {
		return true // the process that had its port may be gone by now
	}
	if len(held) == 0 {
		return false
	}
	ports, err := survey.Ports(held)
	return err == nil && slices.ContainsFunc(ports, func(p survey.Port) bool {
		return p.Protocol == "tcp" && held[p.Port]
	})
}

// lostPort reports whether a part's server says that it did not get its port.
func lostPort(part string, port int, symptoms []kind.Symptom, words string) bool {
	return slices.ContainsFunc(symptoms, func(s kind.Symptom) bool {
		means, _, at := s.Find(words, part)
		return at >= 0 && (s.Cause == cause.PortTaken ||
			s.Cause == cause.PortFixed && regexp.MustCompile(fmt.Sprintf(`\b%d\b`, port)).MatchString(means))
	})
}

// startOnce makes one plan, and brings the stack to it.
func (s *Stack) startOnce(ctx context.Context, o StartOptions, report func(lifecycle.Progress)) (Started, error) {
	var out Started
	file, err := s.file()
	if err != nil {
		return out, err
	}
	out.file, out.starting = file, s.ID == "" || !s.Runs()
	program, err := s.install(ctx)
	if err != nil {
		return out, err
	}
	if err := s.Recover(); err != nil { // the keeper looks for notes when it starts
		return out, err
	}
	ready := make(chan error, 1)
	// start the keeper while the plan is made
	go func() { ready <- s.Keeper.Ensure(ctx, program.Path, program.Build) }()
	err = s.place(ctx, file, program, o, &out)
	keeperErr := <-ready
	if err != nil && keeperErr == nil {
		_ = s.Keeper.Nothing(context.WithoutCancel(ctx)) // if this fails, the keeper exits by itself
	}
	if err = cmp.Or(err, keeperErr); err != nil {
		return out, err
	}
	if o.RestartAll {
		for _, p := range out.Plan.Parts {
			o.Restart = append(o.Restart, p.Name)
		}
	}
	if err := s.prepare(ctx, program, o, &out, report); errors.Is(err, errNeeded) {
		return out, nil
	} else if err != nil {
		return out, err
	}
	if err := s.keepDotenv(file); err != nil {
		return out, err
	}
	if len(out.Begun) > 0 {
		o.Restart = slices.DeleteFunc(o.Restart, func(name string) bool { return slices.Contains(out.Begun, name) })
	}
	out.Parts, err = s.bring(ctx, program, &out, report, func(take func(keeper.Event)) error {
		return s.Keeper.Start(ctx, s.ID, o.Restart, o.Timeout, take)
	})
	return out, err
}

// bring asks the keeper to start something, adds what it did to out, and returns the states of the parts.
func (s *Stack) bring(ctx context.Context, program self.Program, out *Started, report func(lifecycle.Progress),
	ask func(take func(keeper.Event)) error) ([]lifecycle.Status, error) {
	var failed error
	states, order := map[string]lifecycle.Status{}, []string{}
	err := s.withKeeper(ctx, program, func() error {
		return ask(func(e keeper.Event) {
			switch {
			case e.Part != nil:
				if _, ok := states[e.Part.Name]; !ok {
					order = append(order, e.Part.Name)
				}
				states[e.Part.Name] = *e.Part
				report(e.Progress)
			case e.Site != nil:
				out.Sites = append(out.Sites, *e.Site)
			case e.Stage != "":
				report(e.Progress)
			case e.Trouble != nil:
				failed = e.Trouble
			case e.Done:
				out.Begun = append(out.Begun, e.Begun...)
				if out.Spans == nil {
					out.Spans = map[string][]lifecycle.Span{}
				}
				maps.Copy(out.Spans, e.Spans)
			}
		})
	})
	var parts []lifecycle.Status
	for _, name := range order {
		parts = append(parts, states[name])
	}
	return parts, cmp.Or(err, failed)
}

// withKeeper asks the keeper for something, after a lost note of what is alive is written again. It asks again if the
// keeper was about to exit because another command stopped the last stack.
func (s *Stack) withKeeper(ctx context.Context, program self.Program, ask func() error) error {
	if err := s.Recover(); err != nil {
		return err
	}
	err := ask()
	for tries := 0; errors.Is(err, trouble.KeeperGone) && tries < 20 && ctx.Err() == nil; tries++ {
		if err = s.Keeper.Ensure(ctx, program.Path, program.Build); err == nil {
			err = ask()
		}
	}
	return err
}

// place makes the plan while it holds the ledger's lock, from reading the ports to recording them, and materialises it.
// It fails if the plan lacks one of the parts to restart.
func (s *Stack) place(ctx context.Context, file *stackfile.File, program self.Program,
	o StartOptions, out *Started) error {
	o.Consent.Network, o.Consent.Loopback = s.subjects(file, o.Consent.Network), s.subjects(file, o.Consent.Loopback)
	if err := s.knows(file, o.Consent); err != nil {
		return err
	}
	found, err := s.lookFor(ctx, file)
	if err != nil {
		return err
	}
	waiting, cancel := o.waiting(ctx)
	defer cancel()
	var in plan.Input
	err = ledger.Change(waiting, s.Home, func(book *ledger.Ledger) error {
		if s.ID == "" {
			if s.ID, s.Dir = book.ByDir(s.Dir); s.ID == "" {
				s.ID = book.NewID()
			}
		}
		if in, err = s.input(file, found, book); err != nil {
			return err
		}
		said, err := s.consent(o.Consent)
		if err != nil {
			return err
		}
		in.Consent = said.with(o.Consent, in.Consent)
		out.Plan = s.decide(&in)
		if !out.Plan.OK {
			return ErrNoPlan
		}
		var names []string
		for _, p := range out.Plan.Parts {
			names = append(names, p.Name)
		}
		for _, name := range o.Restart {
			if !slices.Contains(names, name) {
				return trouble.NoSuchPart(name, names)
			}
		}
		host, err := s.hostOf(ctx, program, book, out.Plan)
		if err != nil {
			return err
		}
		if err := cmp.Or(said.keep(s), s.keepPasswords(out.Plan, o.Passwords)); err != nil {
			return err
		}
		if _, err := materialise.Write(s.Home, in, out.Plan, s.Kinds, host); err != nil {
			return err
		}
		s.Name = out.Plan.Stack
		if !materialise.Enter(book, s.ID, s.Dir, ledger.MarkOf(s.Dir, filepath.Join(s.Dir, stackfile.Name)), out.Plan) {
			return ledger.ErrUnchanged
		}
		return nil
	})
	out.input = in
	return err
}

// hostOf returns what the machine provides to a stack's parts. If the plan has sites, it creates the certificate
// authority if that is missing: the parts must trust it from their start on.
func (s *Stack) hostOf(ctx context.Context, program self.Program, book *ledger.Ledger, p plan.Plan) (
	host materialise.Host, err error) {
	me := account.Current()
	if len(p.Sites) > 0 && p.HTTPSPort != 0 {
		suffixes := book.Suffixes()
		for _, site := range p.Sites {
			suffixes = append(suffixes, site.Suffix)
		}
		if _, err := certificates.Open(ctx, s.Home, suffixes); err != nil {
			return host, err
		}
		if host.Bundle, err = certificates.Bundle(s.Home); err != nil {
			return host, err
		}
		host.Authority = certificates.File(s.Home)
	}
	path := os.Getenv("PATH")
	if path == "" {
		path = "/usr/local/bin:/usr/bin:/bin"
	}
	host.Path, host.Home, host.User, host.Self, host.Link = path, me.HomeDir, me.Username, program.Path, program.Link
	host.Lang = locale.UTF8()
	return host, nil
}
