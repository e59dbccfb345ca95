// Package stack does what the commands ask for one stack: it brings the packages that look, decide, write, run and ask together.
package stack

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"time"

	"dravit/internal/data"
	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/keeper"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/project"
	"dravit/internal/self"
	"dravit/internal/settings"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
)

// Machine is this user's Dravit.
type Machine struct {
	Home    *home.Home
	Kinds   kind.List
	Version string // Dravit's own
	Keeper  *keeper.Client
}

// NewMachine opens this user's Dravit.
func NewMachine(kinds kind.List, version string) (*Machine, error) {
	dir, err := home.Locate()
	if err != nil {
		return nil, err
	}
	h, err := home.Open(dir)
	if err != nil {
		return nil, err
	}
	return &Machine{h, kinds, version, keeper.Connect(h)}, nil
}

// Stack is one stack: a folder with a stack file.
type Stack struct {
	*Machine
	ID   string // "" before the first start
	Dir  string // real path
	Name string // as the ledger has it; "" before the first start
}

// ErrNoStack says that no stack has the name asked for.
var ErrNoStack = errors.New("no such stack")

// Find returns the stack of a name, or of the folder dir or one above it.
func (m *Machine) Find(dir, name string) (*Stack, error) {
	book, err := ledger.Read(m.Home)
	if err != nil {
		return nil, err
	}
	if name != "" {
		id := book.ByName(name)
		if id == "" {
			return nil, fmt.Errorf("%w: %s", ErrNoStack, name)
		}
		return &Stack{m, id, book.Stacks[id].Dir, name}, nil
	}
	real, err := ledger.RealDir(dir)
	if err != nil {
		return nil, err
	}
	if real, err = stackfile.Find(real); err != nil {
		return nil, err
	}
	id := book.ByDir(real)
	return &Stack{m, id, real, book.Stacks[id].Name}, nil
}

// Plan decides, and changes nothing.
func (s *Stack) Plan(ctx context.Context, consent plan.Consent) (plan.Input, plan.Plan, error) {
	file, err := stackfile.Read(s.Dir, s.Kinds.Vocabulary())
	if err != nil {
		return plan.Input{}, plan.Plan{}, err
	}
	found, err := s.Look(ctx, file.Requires)
	if err != nil {
		return plan.Input{}, plan.Plan{}, err
	}
	book, err := ledger.Read(s.Home)
	if err != nil {
		return plan.Input{}, plan.Plan{}, err
	}
	in, err := s.input(file, found, book)
	if err != nil {
		return in, plan.Plan{}, err
	}
	said, err := s.consent(consent)
	if err != nil {
		return in, plan.Plan{}, err
	}
	in.Consent = said.with(consent)
	return in, plan.Make(in, s.Kinds.Pure()), nil
}

// newID stands for the id of a stack that was never started.
const newID = "new"

// input gathers everything that the decisions rest on. Ports are looked at last.
func (s *Stack) input(file *stackfile.File, found survey.Survey, book *ledger.Ledger) (plan.Input, error) {
	set, err := settings.Read(s.Home)
	if err != nil {
		return plan.Input{}, err
	}
	in := plan.Input{Gateway: plan.Gateway{HTTP: set.HTTP, HTTPS: set.HTTPS}, Format: plan.Format, StackID: s.ID, File: file, Project: s.project(file), Survey: found, Run: s.Home.Run, Version: s.Version,
		Ledger:  plan.Ledger{Gateway: book.Gateway, Secure: book.Secure, Resolver: book.Resolver, Ports: book.Stacks[s.ID].Ports, Others: map[int]string{}, Hosts: map[string]string{}, Name: s.Name},
		History: plan.History{Data: map[string]plan.Written{}}}
	if in.StackID == "" {
		in.StackID = newID
	} else if err := home.ReadJSON(s.goodFile(), &in.History.Good); err != nil {
		return in, err
	}
	live, named := s.livePorts(book), map[int]bool{book.Gateway: true, book.Secure: true, book.Resolver: true, 80: true, 443: true}
	for id, other := range book.Stacks {
		for _, port := range other.Ports {
			if id != s.ID {
				in.Ledger.Others[port] = other.Name
			}
			named[port] = true
		}
		if id != s.ID {
			in.Ledger.Stacks = append(in.Ledger.Stacks, other.Name)
			for _, host := range other.Hosts {
				in.Ledger.Hosts[host] = other.Name
			}
		}
	}
	slices.Sort(in.Ledger.Stacks)
	for name, part := range file.Parts {
		if s.ID != "" {
			was, err := data.Read(s.Home.Stack(s.ID, "data", name))
			if err != nil {
				return in, err
			}
			if was.Kind != "" {
				in.History.Data[name] = plan.Written{Kind: was.Kind, Version: was.Version}
			}
		}
		for _, k := range part.Kind {
			want := part.For(k)
			named[want.Port] = true
			for i := range 10 { // those that a free choice looks at first
				named[s.Kinds.Of(k).Needs(want).PortBase+i] = true
			}
		}
	}
	in.Survey.Ports, err = survey.Ports(live, named)
	return in, err
}

// project reads what the folder says, with the modules that it brings for the runtimes of the stack.
func (s *Stack) project(file *stackfile.File) project.Facts {
	facts := project.Look(s.Dir, file.Sites)
	seen := map[string]bool{}
	for _, name := range file.PartNames() {
		for _, k := range file.Parts[name].Kind {
			scout, ok := s.Kinds.Of(k).(kind.Scout)
			if !ok {
				continue
			}
			for _, m := range scout.Scan(s.Dir, file.Parts[name].For(k)) {
				if key := m.Kind + " " + m.File + " " + m.Name; !seen[key] {
					seen[key] = true
					facts.Modules = append(facts.Modules, m)
				}
			}
		}
	}
	return facts
}

func (s *Stack) goodFile() string { return s.Home.Stack(s.ID, "state", "good.json") }

// remember writes down what a stack ran on when everything answered. A start that changed nothing is not written again.
func (s *Stack) remember(out Started) error {
	good := plan.Good{At: time.Now().UTC().Format(time.RFC3339), Parts: map[string]plan.Chosen{}, File: out.file.Values()}
	for _, x := range out.Plan.Parts {
		good.Parts[x.Name] = plan.Chosen{Kind: x.Kind, Version: x.Version, Program: x.Program}
	}
	var was plan.Good
	if err := home.ReadJSON(s.goodFile(), &was); err == nil && maps.Equal(was.Parts, good.Parts) && maps.Equal(was.File, good.File) {
		return nil
	}
	return home.WriteJSON(s.goodFile(), good)
}

// ErrNoPlan says that no plan satisfies the stack file. The plan's faults say why.
var ErrNoPlan = errors.New("no plan satisfies the stack file")

// Started is what a start came to.
type Started struct {
	Plan  plan.Plan
	file  *stackfile.File
	Begun []string // parts
	Parts []kind.Status
	Sites []keeper.SiteResult
	Spans map[string][]kind.Span // of the parts that were begun
}

// Answers tells whether every part and every site answers.
func (s Started) Answers() bool {
	for _, p := range s.Parts {
		if p.State != kind.Answers {
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

// StartOptions say how a stack is started.
type StartOptions struct {
	Restart    []string      // parts that are ended first in any case
	RestartAll bool          // every part is
	Timeout    time.Duration // for everything to answer
	Consent    plan.Consent
}

// Start decides again while it holds the ledger, writes what the plan says and brings the stack to it. report is called for each
// change of a part's state. What does not answer by the timeout is left running. Ending the context ends what this start began.
func (s *Stack) Start(ctx context.Context, o StartOptions, report func(kind.Status)) (Started, error) {
	began := time.Now()
	var begun []string
	for tries := 0; ; tries++ {
		out, err := s.startOnce(ctx, o, report)
		for _, name := range out.Begun {
			if !slices.Contains(begun, name) {
				begun = append(begun, name)
			}
		}
		out.Begun = begun
		if err == nil && out.Answers() {
			if err = s.demand(ctx, &out); err != nil || !out.Answers() {
				return out, err
			}
			return out, cmp.Or(s.remember(out), s.record(began, out))
		}
		// A port that was free when it was chosen may be taken when its server comes up: then it is chosen again, and what refers to it follows.
		if err != nil || tries == maxMoves || !s.robbed(out) {
			return out, err
		}
		o.Restart, o.RestartAll = nil, false
	}
}

// demand marks parts as unwell whose process does not have what the application requires.
func (s *Stack) demand(ctx context.Context, out *Started) error {
	if !slices.ContainsFunc(slices.Collect(maps.Values(out.file.Parts)), stackfile.Part.Demanding) {
		return nil
	}
	spec, err := s.spec()
	if err != nil {
		return err
	}
	for i, status := range out.Parts {
		p, ok := spec.Part(status.Name)
		if !ok {
			continue
		}
		all, err := s.requirements(ctx, p)
		if err != nil {
			return err
		}
		if j := unmet(all); j >= 0 {
			out.Parts[i].State, out.Parts[i].Next = kind.Unwell, "dravit check shows all that it requires"
			out.Parts[i].Because = fmt.Sprintf("the application requires %s %s %s, and the web process has: %s", all[j].Sort, all[j].Name, all[j].Wanted, all[j].Got)
		}
	}
	return nil
}

// maxMoves is how often a start gives way to others that take its ports.
const maxMoves = 5

// robbed tells whether a part, or the gateway, failed since somebody else has its port now, or had it when its server asked for it. Where the
// port is pinned, the next plan says so.
func (s *Stack) robbed(out Started) bool {
	held := map[int]bool{}
	for _, p := range out.Plan.Parts {
		i := slices.IndexFunc(out.Parts, func(x kind.Status) bool { return x.Name == p.Name })
		if p.Port == 0 || i < 0 || out.Parts[i].State != kind.Failed {
			continue
		}
		if k, ok := s.Kinds.Of(p.Kind).(kind.Symptomatic); ok && lostPort(p.Name, p.Port, k.Symptoms(), readFrom(s.Home.Stack(s.ID, "logs", p.Name+".log"), out.Parts[i].LogFrom)) {
			return true // whoever had it may be gone by now
		}
		held[p.Port] = true
	}
	if out.Plan.Gateway != 0 && !home.Locked(s.Home.Stack(gateway.KindName, "state", gateway.KindName+".lock")) {
		held[out.Plan.Gateway] = true
	}
	if len(held) == 0 {
		return false
	}
	ports, err := survey.Ports(nil, map[int]bool{})
	return err == nil && slices.ContainsFunc(ports, func(p survey.Port) bool { return p.Protocol == "tcp" && held[p.Port] })
}

// lostPort tells whether a part's server says that it did not get the part's port.
func lostPort(part string, port int, symptoms []kind.Symptom, words string) bool {
	return slices.ContainsFunc(symptoms, func(s kind.Symptom) bool {
		means, _, at := s.Find(words, part)
		return at >= 0 && (s.Cause == "port-taken" || s.Cause == "port-fixed" && regexp.MustCompile(fmt.Sprintf(`\b%d\b`, port)).MatchString(means))
	})
}

// startOnce makes one plan and brings the stack to it.
func (s *Stack) startOnce(ctx context.Context, o StartOptions, report func(kind.Status)) (Started, error) {
	var out Started
	file, err := stackfile.Read(s.Dir, s.Kinds.Vocabulary())
	if err != nil {
		return out, err
	}
	out.file = file
	program, err := s.install()
	if err != nil {
		return out, err
	}
	ready := make(chan error, 1)
	go func() { ready <- s.Keeper.Ensure(ctx, program.Path, program.Build) }() // meanwhile, decide
	err = s.place(ctx, file, program, o, &out)
	keeperErr := <-ready
	if err != nil && keeperErr == nil {
		_ = s.Keeper.Nothing(context.WithoutCancel(ctx)) // left waiting, it ends by itself
	}
	if err = cmp.Or(err, keeperErr); err != nil {
		return out, err
	}
	if o.RestartAll {
		for _, p := range out.Plan.Parts {
			o.Restart = append(o.Restart, p.Name)
		}
	}
	var failed error
	states, order := map[string]kind.Status{}, []string{}
	err = s.withKeeper(ctx, program, func() error {
		return s.Keeper.Start(ctx, s.ID, o.Restart, o.Timeout, func(e keeper.Event) {
			switch {
			case e.Part != nil:
				if _, ok := states[e.Part.Name]; !ok {
					order = append(order, e.Part.Name)
				}
				states[e.Part.Name] = *e.Part
				report(*e.Part)
			case e.Site != nil:
				out.Sites = append(out.Sites, *e.Site)
			case e.Error != "":
				failed = errors.New(e.Error)
			case e.Done:
				out.Begun, out.Spans = e.Begun, e.Spans
			}
		})
	})
	for _, name := range order {
		out.Parts = append(out.Parts, states[name])
	}
	return out, cmp.Or(err, failed)
}

// withKeeper asks the keeper for something, again where it was just about to end: with the last stack another command stopped.
func (s *Stack) withKeeper(ctx context.Context, program self.Program, ask func() error) error {
	err := ask()
	for tries := 0; errors.Is(err, keeper.ErrLeft) && tries < 20 && ctx.Err() == nil; tries++ {
		if err = s.Keeper.Ensure(ctx, program.Path, program.Build); err == nil {
			err = ask()
		}
	}
	return err
}

// place plans under the ledger's lock, from looking at the ports to writing them down, and materialises the plan. It fails where one of
// the parts to restart is not in it.
func (s *Stack) place(ctx context.Context, file *stackfile.File, program self.Program, o StartOptions, out *Started) error {
	if err := knows(file, o.Consent); err != nil {
		return err
	}
	found, err := s.Look(ctx, file.Requires)
	if err != nil {
		return err
	}
	return ledger.Change(s.Home, func(book *ledger.Ledger) error {
		if s.ID == "" {
			if s.ID = book.ByDir(s.Dir); s.ID == "" {
				s.ID = book.NewID()
			}
		}
		in, err := s.input(file, found, book)
		if err != nil {
			return err
		}
		said, err := s.consent(o.Consent)
		if err != nil {
			return err
		}
		in.Consent = said.with(o.Consent)
		out.Plan = plan.Make(in, s.Kinds.Pure())
		if !out.Plan.OK {
			return ErrNoPlan
		}
		var names []string
		for _, p := range out.Plan.Parts {
			names = append(names, p.Name)
		}
		for _, name := range o.Restart {
			if !slices.Contains(names, name) {
				return &NoPartError{name, names}
			}
		}
		account, err := hostOf(program)
		if err != nil {
			return err
		}
		if err := said.keep(s); err != nil {
			return err
		}
		if _, err := materialise.Write(s.Home, in, out.Plan, s.Kinds, account); err != nil {
			return err
		}
		s.Name = out.Plan.Stack
		if !materialise.Enter(book, s.ID, s.Dir, out.Plan) {
			return ledger.ErrUnchanged
		}
		return nil
	})
}

func hostOf(program self.Program) (materialise.Host, error) {
	me, err := user.Current()
	if err != nil {
		return materialise.Host{}, err
	}
	path := os.Getenv("PATH")
	if path == "" {
		path = "/usr/local/bin:/usr/bin:/bin"
	}
	return materialise.Host{Path: path, Home: me.HomeDir, User: me.Username, Self: program.Path, Link: program.Link}, nil
}

// NoPartError says that the stack has no part of that name.
type NoPartError struct {
	Name  string
	Parts []string
}

func (e *NoPartError) Error() string { return fmt.Sprintf("the stack has no part %q", e.Name) }

// Stop ends the named parts, all where none is named. Data stays.
func (s *Stack) Stop(ctx context.Context, parts []string) ([]kind.Status, error) {
	spec, err := s.spec()
	if err != nil || spec.ID == "" {
		return nil, err
	}
	for _, name := range parts {
		if _, ok := spec.Part(name); !ok {
			return nil, &NoPartError{name, names(spec)}
		}
	}
	if !keeper.Wished(s.Home, s.ID) {
		return nil, nil
	}
	program, err := s.install()
	if err != nil {
		return nil, err
	}
	var last []kind.Status
	err = s.withKeeper(ctx, program, func() (err error) {
		last, err = s.Keeper.Stop(ctx, s.ID, parts)
		return err
	})
	return last, err
}

func (s *Stack) install() (self.Program, error) {
	return self.Install(s.Home, func() bool { return keeper.Running(s.Home) || keeper.AnyWished(s.Home) })
}

func names(spec materialise.Spec) []string {
	var all []string
	for _, p := range spec.Parts {
		all = append(all, p.Name)
	}
	return all
}

func (s *Stack) spec() (materialise.Spec, error) {
	if s.ID == "" {
		return materialise.Spec{}, nil
	}
	spec, err := materialise.Read(s.Home, s.ID)
	for _, p := range spec.Parts {
		if s.Kinds.Of(p.Kind) == nil {
			return spec, fmt.Errorf("part %s is of kind %s, which this version of Dravit does not know: a newer one started it", p.Name, p.Kind)
		}
	}
	return spec, err
}

// Status is what the keeper sees of a stack.
type Status struct {
	keeper.Seen
	State     kind.State
	Reachable []Reach // from other machines
}

// Status returns the states of the parts. A keeper that died is started again first.
func (s *Stack) Status(ctx context.Context) (Status, error) {
	out := Status{State: kind.Stopped}
	var err error
	if s.ID != "" && keeper.Wished(s.Home, s.ID) {
		if out.Seen, err = s.Keeper.Seen(ctx, s.ID); errors.Is(err, keeper.ErrLeft) { // it died: another takes over
			var program self.Program
			if program, err = s.install(); err != nil {
				return out, err
			}
			err = s.withKeeper(ctx, program, func() (err error) {
				out.Seen, err = s.Keeper.Seen(ctx, s.ID)
				return err
			})
		}
	} else {
		var spec materialise.Spec
		spec, err = s.spec()
		out.Seen = keeper.Unseen(spec)
	}
	if err != nil {
		return out, err
	}
	if len(out.Parts) > 0 {
		out.State = out.Parts[0].State
	}
	for _, p := range out.Parts {
		out.State = kind.Worse(out.State, p.State)
	}
	out.Reachable, err = s.reachable(out.Sites)
	return out, err
}

// Environment returns what the stack adds to a command's environment and which folders come first in its PATH, those of the named part before the others'. It is an error
// where the stack was never started.
func (s *Stack) Environment(part string) (vars, path []string, err error) {
	spec, err := s.spec()
	if err != nil {
		return nil, nil, err
	}
	if spec.ID == "" {
		return nil, nil, ErrNeverStarted
	}
	if part != "" {
		p, ok := spec.Part(part)
		if !ok {
			return nil, nil, &NoPartError{part, names(spec)}
		}
		path = p.Path
	}
	return spec.Env, slices.Concat(path, spec.Path), nil
}

// ErrNeverStarted says that the stack has no place on this machine yet.
var ErrNeverStarted = errors.New("this stack was never started")

// Logs returns the log files of the named parts, all where none is named.
func (s *Stack) Logs(parts []string) (map[string]string, error) {
	spec, err := s.spec()
	if err != nil {
		return nil, err
	}
	if spec.ID == "" {
		return nil, ErrNeverStarted
	}
	files := map[string]string{}
	for _, p := range spec.Parts {
		if len(parts) == 0 || slices.Contains(parts, p.Name) {
			files[p.Name] = p.Log
		}
	}
	for _, name := range parts {
		if _, ok := files[name]; !ok {
			return nil, &NoPartError{name, names(spec)}
		}
	}
	return files, nil
}

// Remove ends the stack and deletes everything that Dravit keeps of it, data included. The project's folder stays.
func (s *Stack) Remove(ctx context.Context) error {
	if _, err := s.Stop(ctx, nil); err != nil {
		return err
	}
	if s.ID == "" {
		return nil
	}
	if err := os.RemoveAll(s.Home.Stack(s.ID)); err != nil {
		return err
	}
	_ = os.RemoveAll(filepath.Join(s.Home.Run, s.ID))
	return ledger.Change(s.Home, func(book *ledger.Ledger) error {
		delete(book.Stacks, s.ID)
		return nil
	})
}
