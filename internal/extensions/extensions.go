// Package extensions reports which extensions the runtimes of a stack have, and changes the lists of them in the stack
// file.
package extensions

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"syscall"

	"dravit/internal/kind"
	"dravit/internal/plan"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// Report is the state of one runtime's extensions.
type Report struct {
	Part     string            `json:"part"`
	Kind     string            `json:"kind"`
	Version  string            `json:"version"`
	Program  string            `json:"program"`
	Facts    map[string]string `json:"facts"`
	Entries  []kind.Entry      `json:"extensions"`
	Proved   bool              `json:"proved"`             // the running processes were asked
	Loaded   kind.Proof        `json:"-"`                  // what they said
	Unproved string            `json:"unproved,omitempty"` // why they were not
	// Differences are names that the web process or the command-line program does not have as planned.
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

// Debugger is what an editor needs to connect to the debugger.
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

// List returns what a runtime of the plan has, before its processes are asked. It returns nil if the part is no
// runtime, or if no runtime of this machine serves it.
func List(kinds kind.List, in plan.Input, p plan.Plan, part string, library *kind.Library) (*Report, kind.Extended) {
	program, extended, _ := plan.Runtime(in, p, kinds.ByName(), part)
	if program == nil {
		return nil, extended
	}
	r := &Report{
		Part:        part,
		Kind:        program.Kind,
		Version:     program.Version,
		Program:     program.Path,
		Facts:       program.Facts,
		Entries:     []kind.Entry{},
		Differences: []Difference{},
	}
	if runtime, ok := kinds.Of(program.Kind).(kind.Runtime); ok {
		if list := runtime.List(*program, extended, library); list != nil {
			r.Entries = list
		}
	}
	return r, extended
}

// Prove asks the processes of a part what they have loaded. runs is the part as it was started last, or the zero Part
// if it should not run now; want is what List returned. Unproved says what could not be asked; an error is the
// context's.
func (x *Report) Prove(ctx context.Context, kinds kind.List, runs kind.Part, want kind.Extended) error {
	k := kinds.Of(x.Kind)
	runtime, ok := k.(kind.Runtime)
	if !ok || !k.Traits().Extensions {
		return nil
	}
	switch {
	case runs.Name == "" || !run.Seen(runs).Alive():
		x.Unproved = "the part does not run"
		return nil
	case runs.Program != x.Program || runs.Version != x.Version:
		x.Unproved = fmt.Sprintf("it still runs on %s %s: dravit start changes that", runs.Kind, runs.Version)
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
	x.Proved, x.Loaded = true, proof
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
		x.Debugger = debuggerOf(ctx, runtime, runs)
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

func debuggerOf(ctx context.Context, k kind.Runtime, p kind.Part) *Debugger {
	d := &Debugger{Host: kind.Host, Port: p.Debug, Local: p.Project, Remote: p.Project}
	said, err := k.Debug(ctx, p)
	switch {
	case err == nil:
		d.Live, d.Because = true, said
	case errors.Is(err, syscall.EADDRINUSE):
		d.Because = "a program listens on its port, probably the editor, so only the editor can see " +
			"whether the debugger connects"
	default:
		d.Because = err.Error()
	}
	return d
}
