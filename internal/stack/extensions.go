package stack

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"dravit/internal/home"
	"dravit/internal/keeper"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/members"
	"dravit/internal/plan"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// Extensions is what the runtimes of a stack have of their modules.
type Extensions struct {
	Format int              `json:"format"`
	Stack  string           `json:"stack"`
	Parts  []PartExtensions `json:"parts"`
}

// PartExtensions is what one runtime has.
type PartExtensions struct {
	Part     string            `json:"part"`
	Kind     string            `json:"kind"`
	Version  string            `json:"version"`
	Program  string            `json:"program"`
	Facts    map[string]string `json:"facts"`
	Entries  []kind.Entry      `json:"extensions"`
	Proved   bool              `json:"proved"`             // the running processes were asked
	Unproved string            `json:"unproved,omitempty"` // why they were not
	// Differences are names that the web process and the command-line program do not both have as the plan says.
	Differences []Difference `json:"differences"`
	Debugger    *Debugger    `json:"debugger,omitempty"`
}

// Difference is an extension that is not loaded everywhere as it should be.
type Difference struct {
	Name    string `json:"name"`
	Planned bool   `json:"planned"`
	Web     bool   `json:"web"`
	Command bool   `json:"command"`
}

// Debugger is what an editor needs to know.
type Debugger struct {
	Host    string `json:"host"`
	Port    int    `json:"port"`
	Live    bool   `json:"live"`
	Because string `json:"because"`
	Local   string `json:"local_path"`  // in the editor
	Remote  string `json:"remote_path"` // as the debugger names it
}

// noExtensions says that no part, or not exactly one, has extensions to change.
func noExtensions(what, next string) error {
	return &trouble.Trouble{Code: trouble.NoExtensions, What: what, Next: next}
}

// Extensions lists what the runtimes have, of one part where it is named, and asks the running processes.
func (s *Stack) Extensions(ctx context.Context, part string) (Extensions, error) {
	in, p, err := s.Plan(ctx, plan.Consent{})
	if err != nil {
		return Extensions{}, err
	}
	out := Extensions{Format: 1, Stack: p.Stack, Parts: []PartExtensions{}}
	library := kind.NewLibrary(slices.Concat(in.Project.Modules, in.Survey.Modules))
	for _, name := range in.File.PartNames() {
		if part != "" && name != part {
			continue
		}
		program, extended, _ := plan.Runtime(in, p, s.Kinds.ByName(), name)
		if program == nil {
			continue
		}
		x := PartExtensions{Part: name, Kind: program.Kind, Version: program.Version, Program: program.Path, Facts: program.Facts, Entries: []kind.Entry{}, Differences: []Difference{}}
		k := s.Kinds.Of(program.Kind)
		if runtime, ok := k.(kind.Runtime); ok {
			if list := runtime.List(*program, extended, library); list != nil {
				x.Entries = list
			}
		}
		if err := s.prove(ctx, &x, k, extended); err != nil {
			return out, err
		}
		out.Parts = append(out.Parts, x)
	}
	if part != "" && len(out.Parts) == 0 {
		if _, ok := in.File.Parts[part]; !ok {
			return out, noPart(part, in.File.PartNames())
		}
	}
	return out, nil
}

// prove asks the processes of a running part what they have loaded.
func (s *Stack) prove(ctx context.Context, x *PartExtensions, k kind.Kind, want kind.Extended) error {
	runtime, ok := k.(kind.Runtime)
	if !ok || !k.Traits().Extensions {
		return nil
	}
	spec, err := s.spec()
	if err != nil {
		return err
	}
	runs, ok := spec.Part(x.Part)
	switch {
	case !ok || !keeper.Wished(s.Home, s.ID) || !members.Alive(runs.Lock):
		x.Unproved = "the part does not run"
		return nil
	case runs.Program != x.Program || runs.Version != x.Version:
		x.Unproved = fmt.Sprintf("it runs on %s %s still: dravit start brings it to this plan", runs.Kind, runs.Version)
		return nil
	}
	proof, err := runtime.LoadedModules(ctx, runs)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		x.Unproved = err.Error()
		return nil
	}
	x.Proved = true
	planned := map[string]bool{}
	for _, m := range want.Load {
		planned[m.Name] = true
	}
	for _, e := range x.Entries {
		if e.State == kind.BuiltIn {
			planned[e.Name] = true
		}
	}
	for _, name := range unionOf(planned, proof.Web, proof.Command) {
		d := Difference{name, planned[name], slices.Contains(proof.Web, name), slices.Contains(proof.Command, name)}
		if d.Web != d.Command && !runtime.OfOneProcess(name) || planned[name] && !d.Web {
			x.Differences = append(x.Differences, d)
		}
	}
	if k.Traits().Debugger != "" && runs.Debug != 0 {
		x.Debugger = s.debugger(ctx, runtime, runs)
	}
	return nil
}

func unionOf(planned map[string]bool, lists ...[]string) []string {
	var all []string
	for name := range planned {
		all = append(all, name)
	}
	all = slices.Concat(append(lists, all)...)
	slices.Sort(all)
	return slices.Compact(all)
}

func (s *Stack) debugger(ctx context.Context, k kind.Runtime, p kind.Part) *Debugger {
	d := &Debugger{Host: kind.Host, Port: p.Debug, Local: p.Project, Remote: p.Project}
	said, err := k.Debug(ctx, p)
	switch {
	case err == nil:
		d.Live, d.Because = true, said
	case errors.Is(err, syscall.EADDRINUSE):
		d.Because = "something listens on its port already, the editor it seems: what calls there is the editor's to see"
	default:
		d.Because = err.Error()
	}
	return d
}

// Switched is what switching an extension came to.
type Switched struct {
	Format  int             `json:"format"`
	Stack   string          `json:"stack"`
	Part    string          `json:"part"`
	Name    string          `json:"name"`
	On      bool            `json:"on"`
	Changed bool            `json:"changed"` // the stack file
	File    string          `json:"file"`
	Key     string          `json:"key"`               // of the list that is meant: extensions, or without for those to leave out
	List    []string        `json:"extensions"`        // that list, as the file has it now
	Runs    bool            `json:"runs"`              // the stack runs, and the part was brought to it
	Web     bool            `json:"web"`               // loaded in the web process
	Command bool            `json:"command"`           // loaded in the command-line program
	Because string          `json:"because,omitempty"` // why it is loaded though it is off
	Was     string          `json:"was,omitempty"`     // the runtime before, where the change led to another
	Now     string          `json:"now,omitempty"`
	Plan    plan.Plan       `json:"-"`
	Report  *PartExtensions `json:"-"`
}

// Switch puts an extension into the stack file's list or takes it out, and where the stack runs brings the part to it and asks the processes.
// The file is left alone where no plan would satisfy it.
func (s *Stack) Switch(ctx context.Context, part, name string, on bool, report func(lifecycle.Status)) (Switched, error) {
	out := Switched{Format: 1, Name: name, On: on}
	in, p, err := s.Plan(ctx, plan.Consent{})
	if err != nil {
		return out, err
	}
	out.Stack = p.Stack
	part, kindName, err := s.switched(in, part)
	if err != nil {
		return out, err
	}
	out.Part = part
	nameOf := s.extensionNames(kindName)
	want := in.File.Parts[part].For(kindName)
	if !on && want.Debugger && nameOf(name) == s.Kinds.TraitsOf(kindName).Debugger {
		return out, noExtensions("debugger = true of part "+part+" loads "+name, "take debugger out of [part."+part+"] in "+stackfile.Name)
	}
	key, list, change := s.listOf(in, p, part, kindName, name, on)
	out.List, out.Key = list, key
	if out.Changed = change; change {
		edit := stackfile.EditExtensions
		if key == "without" {
			edit = stackfile.EditWithout
		}
		text, err := edit(s.Dir, part, kindName, list, s.Kinds.Vocabulary())
		if err != nil {
			return out, err
		}
		out.File = text.File
		if err := s.tryList(&in, part, kindName, key, list); err != nil {
			out.Plan = plan.Make(in, s.Kinds.ByName())
			return out, err
		}
		if err := home.ReplaceFile(filepath.Join(s.Dir, text.File), text.Text); err != nil {
			return out, err
		}
	}
	if s.ID == "" || !keeper.Wished(s.Home, s.ID) {
		return out, nil
	}
	before := runtimeOf(p, part)
	started, err := s.Start(ctx, StartOptions{Timeout: 90 * time.Second}, report)
	out.Plan = started.Plan
	if after := runtimeOf(started.Plan, part); after != before {
		out.Was, out.Now = before, after
	}
	if err != nil {
		return out, err
	}
	all, err := s.Extensions(ctx, part)
	if err != nil || len(all.Parts) != 1 {
		return out, err
	}
	x := all.Parts[0]
	out.Runs, out.Report = x.Proved, &x
	spec, err := s.spec()
	if err != nil {
		return out, err
	}
	if runs, ok := spec.Part(part); ok && x.Proved {
		runtime, ok := s.Kinds.Of(runs.Kind).(kind.Runtime)
		if !ok {
			return out, fmt.Errorf("part %s is of the kind %s, which has no extensions", part, runs.Kind)
		}
		proof, err := runtime.LoadedModules(ctx, runs)
		if err != nil {
			return out, err
		}
		short := nameOf(name)
		if d, _, _ := started.Plan.Why("part." + part + ".extensions." + short); d != nil && !on {
			out.Because = d.Because[0]
		}
		out.Web, out.Command = slices.Contains(proof.Web, short), slices.Contains(proof.Command, short)
	}
	return out, nil
}

// extensionNames returns what turns an entry of a list of extensions into the name of what is loaded.
func (s *Stack) extensionNames(kindName string) func(entry string) string {
	if k, ok := s.Kinds.Of(kindName).(kind.Runtime); ok {
		return k.ExtensionName
	}
	return func(entry string) string { return entry }
}

// listOf returns which list of the stack file an extension is switched in, and what it is then. Where the file has no
// list of extensions, all are loaded: then the list of those to leave out is the shorter one, and holds on other
// machines.
func (s *Stack) listOf(in plan.Input, p plan.Plan, part, kindName, name string, on bool) (key string, list []string, change bool) {
	nameOf := s.extensionNames(kindName)
	same := func(e string) bool { return nameOf(e) == nameOf(name) }
	want := in.File.Parts[part].For(kindName)
	_, extended, _ := plan.Runtime(in, p, s.Kinds.ByName(), part)
	loaded := slices.ContainsFunc(extended.Load, func(m kind.Module) bool { return same(m.Name) })
	left := slices.IndexFunc(want.Without, same)
	switch {
	case want.Extensions == nil && left >= 0:
		if on {
			return "without", slices.Delete(slices.Clone(want.Without), left, left+1), true
		}
		return "without", want.Without, false
	case want.Extensions == nil && !on:
		return "without", append(slices.Clone(want.Without), name), true
	case want.Extensions == nil && loaded:
		return "without", want.Without, false
	case want.Extensions == nil: // one that is only loaded by name: all are named from now on
		for _, m := range extended.Load {
			list = append(list, m.Name)
		}
		slices.Sort(list)
		return "extensions", append(list, name), true
	}
	had := slices.IndexFunc(want.Extensions, same)
	switch {
	case on && had < 0:
		return "extensions", append(slices.Clone(want.Extensions), name), true
	case !on && had >= 0:
		return "extensions", slices.Delete(slices.Clone(want.Extensions), had, had+1), true
	}
	return "extensions", want.Extensions, false
}

// runtimeOf is the kind and version of a part in a plan.
func runtimeOf(p plan.Plan, part string) string {
	for _, x := range p.Parts {
		if x.Name == part {
			return x.Kind + " " + x.Version
		}
	}
	return ""
}

// tryList plans with another list, and fails where the part has no plan then. The input holds the list afterwards.
func (s *Stack) tryList(in *plan.Input, part, kindName, key string, list []string) error {
	f := *in.File
	f.Parts = map[string]stackfile.Part{}
	for name, p := range in.File.Parts {
		if name == part {
			p.Of = maps.Clone(p.Of)
			own, ok := p.Of[kindName]
			switch {
			case key == "without":
				p.Without = list
				own.Without = list
			default:
				p.Extensions = list
				ok = ok && own.Extensions != nil
				own.Extensions = list
			}
			if ok {
				p.Of[kindName] = own
			}
		}
		f.Parts[name] = p
	}
	in.File = &f
	if runtime, ok := s.Kinds.Of(kindName).(kind.Runtime); ok {
		others := slices.DeleteFunc(slices.Clone(in.Project.Modules), func(m kind.Module) bool { return m.Kind == kindName })
		in.Project.Modules = append(others, runtime.Scan(s.Dir, f.Parts[part].For(kindName))...)
	}
	for _, fault := range plan.Make(*in, s.Kinds.ByName()).Faults {
		if fault.Subject == "part."+part {
			return ErrNoPlan
		}
	}
	return nil
}

// switched returns the part whose extensions are meant, and of its kinds the one that has them.
func (s *Stack) switched(in plan.Input, part string) (name, kindName string, err error) {
	kinds := map[string]string{}
	var runtimes []string
	for _, name := range in.File.PartNames() {
		for _, k := range in.File.Parts[name].Kind {
			if s.Kinds.TraitsOf(k).Extensions && kinds[name] == "" {
				kinds[name] = k
				runtimes = append(runtimes, name)
			}
		}
	}
	switch {
	case part == "" && len(runtimes) == 1:
		return runtimes[0], kinds[runtimes[0]], nil
	case kinds[part] != "":
		return part, kinds[part], nil
	case part != "" && !slices.Contains(in.File.PartNames(), part):
		return "", "", noPart(part, in.File.PartNames())
	case part != "":
		return "", "", noExtensions("part "+part+" has no extensions to switch", "dravit extensions lists what its runtimes have")
	case len(runtimes) == 0:
		return "", "", noExtensions("the stack has no part with extensions to switch", "dravit extensions lists what its runtimes have")
	}
	return "", "", noExtensions("the stack has several parts with extensions", "name one: --part "+strings.Join(runtimes, ", --part "))
}
