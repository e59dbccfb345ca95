package stack

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dravit/internal/confined"
	"dravit/internal/data"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/plan"
	"dravit/internal/project"
	"dravit/internal/setting"
	"dravit/internal/settings"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
	"dravit/internal/trouble"
)

// Plan makes the plan, and changes nothing.
func (s *Stack) Plan(ctx context.Context, consent plan.Consent) (plan.Input, plan.Plan, error) {
	file, err := s.file()
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
	in.Consent = said.with(consent, in.Consent)
	p := s.decide(&in)
	if in.Offers = s.offered(ctx, in, p); len(in.Offers) > 0 {
		p = plan.Make(in, s.Kinds.ByName())
	}
	return in, p, nil
}

// decide makes the plan. It looks up who holds a port only if the plan has to name that, as it examines every process.
func (s *Stack) decide(in *plan.Input) plan.Plan {
	p := plan.Make(*in, s.Kinds.ByName())
	if len(p.Contested) == 0 {
		return p
	}
	in.Survey.Ports = survey.Holders(in.Survey.Ports, p.Contested)
	return plan.Make(*in, s.Kinds.ByName())
}

// newID is the id of a stack that was never started.
const newID = "new"

// input gathers everything that the decisions depend on. It reads the ports last.
func (s *Stack) input(file *stackfile.File, found survey.Survey, book *ledger.Ledger) (plan.Input, error) {
	set, err := settings.Read(s.Home)
	if err != nil {
		return plan.Input{}, err
	}
	if !confined.Printable(s.Dir) { // no configuration file can hold such a path
		return plan.Input{}, &trouble.Trouble{
			Code:    trouble.BadFolder,
			What:    "this folder cannot be a project",
			Because: fmt.Sprintf("the project's path has a control character: %q", s.Dir),
			Next:    "rename the folder",
		}
	}
	in := plan.Input{Consent: plan.Consent{Suffixes: set.Suffixes, Settings: set.Settings},
		Gateway: plan.Gateway{HTTP: set.HTTP, HTTPS: set.HTTPS}, Format: plan.Format, StackID: s.ID, File: file,
		Project: s.project(file, set.Outside), Survey: found, Run: s.Home.Run, Version: s.Version,
		Ledger: plan.Ledger{
			HTTPPort:  book.HTTPPort,
			HTTPSPort: book.HTTPSPort,
			DNSPort:   book.DNSPort,
			Ports:     book.Stacks[s.ID].Ports,
			Others:    map[int]string{},
			Hosts:     map[string]string{},
			Name:      s.Name,
		},
		History: plan.History{Data: map[string]plan.Written{}}}
	if in.Locked, err = s.locked(); err != nil {
		return in, err
	}
	if in.StackID == "" {
		in.StackID = newID
	} else if err := home.ReadDerived(s.goodFile(), &in.History.Good); err != nil {
		return in, err
	}
	named := map[int]bool{
		book.HTTPPort:  true,
		book.HTTPSPort: true,
		book.DNSPort:   true,
		80:             true,
		443:            true,
	}
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
			for i := range 10 { // the first ports that a part without a pin would get
				named[s.Kinds.Of(k).Needs(want).PortBase+i] = true
			}
		}
	}
	in.Survey.Ports, err = s.portsHeld(book, named)
	return in, err
}

// pathsOf returns the paths in a stack file other than those of its sites.
func pathsOf(file *stackfile.File) []string {
	var paths []string
	if file.Dotenv != nil {
		paths = append(paths, file.Dotenv.File)
	}
	for _, t := range file.Tasks {
		paths = append(paths, t.Folder)
	}
	for _, part := range file.Parts {
		for _, k := range part.Kind {
			want := part.For(k)
			paths = append(paths, want.Seed)
			paths = append(paths, want.Writable...)
			for _, value := range want.Settings {
				paths = append(paths, setting.Paths(string(value))...)
			}
			for _, e := range want.Extensions {
				if strings.Contains(e, "/") {
					paths = append(paths, e)
				}
			}
		}
		if part.Requires != nil {
			paths = append(paths, part.Requires.Writable...)
		}
	}
	return paths
}

// project reads the facts about the folder, and the modules that it brings for the runtimes of the stack.
func (s *Stack) project(file *stackfile.File, allowed []string) project.Facts {
	facts := project.Look(s.Dir, file.Sites, pathsOf(file), allowed)
	seen := map[string]bool{}
	for _, name := range file.PartNames() {
		for _, k := range file.Parts[name].Kind {
			runtime, ok := s.Kinds.Of(k).(kind.Runtime)
			if !ok {
				continue
			}
			for _, m := range runtime.Scan(s.Dir, file.Parts[name].For(k)) {
				if key := m.Kind + " " + m.File + " " + m.Name; !seen[key] {
					seen[key] = true
					facts.Modules = append(facts.Modules, m)
				}
			}
		}
	}
	return facts
}
