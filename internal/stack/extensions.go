package stack

import (
	"context"
	"path/filepath"
	"slices"
	"time"

	"dravit/internal/about"
	"dravit/internal/extensions"
	"dravit/internal/home"
	"dravit/internal/keeper"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/plan"
	"dravit/internal/trouble"
)

// Extensions are the modules of a stack's runtimes.
type Extensions struct {
	Format int                 `json:"format"`
	Stack  string              `json:"stack"`
	Parts  []extensions.Report `json:"parts"`
}

// Extensions lists the modules of the runtimes, or of the named part, and asks the running processes.
func (s *Stack) Extensions(ctx context.Context, part string) (Extensions, error) {
	in, p, err := s.Plan(ctx, plan.Consent{})
	if err != nil {
		return Extensions{}, err
	}
	out := Extensions{Format: 1, Stack: p.Stack, Parts: []extensions.Report{}}
	spec, err := s.spec()
	if err != nil {
		return out, err
	}
	library := kind.NewLibrary(slices.Concat(in.Project.Modules, in.Survey.Modules))
	for _, name := range in.File.PartNames() {
		if part != "" && name != part {
			continue
		}
		x, wanted := extensions.List(s.Kinds, in, p, name, library)
		if x == nil {
			continue
		}
		var runs kind.Part
		if keeper.ShouldRun(s.Home, s.ID) {
			runs, _ = spec.Part(name)
		}
		if err := x.Prove(ctx, s.Kinds, runs, wanted); err != nil {
			return out, err
		}
		out.Parts = append(out.Parts, *x)
	}
	if part != "" && len(out.Parts) == 0 {
		if _, ok := in.File.Parts[part]; !ok {
			return out, trouble.NoSuchPart(part, in.File.PartNames())
		}
	}
	return out, nil
}

// Switched is the result of switching an extension.
type Switched struct {
	Format  int    `json:"format"`
	Stack   string `json:"stack"`
	Part    string `json:"part"`
	Name    string `json:"name"`
	On      bool   `json:"on"`
	Changed bool   `json:"changed"` // whether the stack file was changed
	File    string `json:"file"`
	// the list that changed: extensions, or without (extensions to leave out)
	Key     string             `json:"key"`
	List    []string           `json:"extensions"`        // the entries of that list now
	Runs    bool               `json:"runs"`              // the stack runs, and the part was restarted
	Web     bool               `json:"web"`               // loaded in the web process
	Command bool               `json:"command"`           // loaded in the command-line program
	Because string             `json:"because,omitempty"` // why it is loaded though it is off
	Was     string             `json:"was,omitempty"`     // the runtime before, if the change led to another one
	Now     string             `json:"now,omitempty"`
	Plan    plan.Plan          `json:"-"`
	Report  *extensions.Report `json:"-"`
}

// Switch adds an extension to the stack file's list, or removes it. If the stack runs, it restarts the part and asks
// its processes. If no plan would satisfy the changed file, Switch leaves the file alone.
func (s *Stack) Switch(ctx context.Context, part, name string, on bool, report func(lifecycle.Progress)) (
	Switched, error) {
	out := Switched{Format: 1, Name: name, On: on}
	in, p, err := s.Plan(ctx, plan.Consent{})
	if err != nil {
		return out, err
	}
	out.Stack = p.Stack
	change, err := extensions.Plan(s.Kinds, in, p, part, name, on)
	out.Part, out.List, out.Key, out.Changed = change.Part, change.List, change.Key, change.Changed
	if err != nil {
		return out, err
	}
	if change.Changed {
		edit, err := change.Edit(s.Kinds, s.Dir)
		if err != nil {
			return out, err
		}
		out.File = edit.File
		if !change.Try(s.Kinds, s.Dir, &in) {
			out.Plan = plan.Make(in, s.Kinds.ByName())
			return out, ErrNoPlan
		}
		if err := home.ReplaceFile(filepath.Join(s.Dir, edit.File), edit.Text); err != nil {
			return out, err
		}
		s.read = nil // the start that follows reads the new text
	}
	if s.ID == "" || !keeper.ShouldRun(s.Home, s.ID) {
		return out, nil
	}
	before := runtimeOf(p, change.Part)
	started, err := s.Start(ctx, StartOptions{Timeout: 90 * time.Second}, report)
	out.Plan = started.Plan
	if after := runtimeOf(started.Plan, change.Part); after != before {
		out.Was, out.Now = before, after
	}
	if err != nil {
		return out, err
	}
	all, err := s.Extensions(ctx, change.Part)
	if err != nil || len(all.Parts) != 1 {
		return out, err
	}
	x := all.Parts[0]
	out.Runs, out.Report = x.Proved, &x
	if x.Proved {
		short := extensions.Names(s.Kinds, change.Kind)(name)
		if d, _, _ := started.Plan.Why(about.Part(change.Part).At("extensions").At(short).String()); d != nil && !on {
			out.Because = d.Because[0]
		}
		out.Web, out.Command = slices.Contains(x.Loaded.Web, short), slices.Contains(x.Loaded.Command, short)
	}
	return out, nil
}

// runtimeOf returns the kind and version of a part in a plan.
func runtimeOf(p plan.Plan, part string) string {
	for _, x := range p.Parts {
		if x.Name == part {
			return x.Kind + " " + x.Version
		}
	}
	return ""
}
