package stack

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/plan"
	"dravit/internal/propose"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// Proposed is a proposal for a folder, with what this machine would make of it.
type Proposed struct {
	*propose.Proposal
	Dir  string    // the folder, a real path
	Text string    // the proposed file
	Plan plan.Plan // the plan of it
	// Exists: the folder has a stack file, and New is what the proposal has that the file lacks.
	Exists bool
	New    []string
}

// Propose proposes the stack file of a folder. It reads the folder, and runs and writes nothing.
func (m *Machine) Propose(ctx context.Context, dir string) (Proposed, error) {
	var out Proposed
	real, err := ledger.RealDir(dir)
	if err != nil {
		return out, noFolder(dir, err)
	}
	out.Dir = real
	s := &Stack{Machine: m, Dir: real}
	known, err := s.proposeMachine(ctx)
	if err != nil {
		return out, err
	}
	var none *propose.NoProject
	if out.Proposal, err = propose.Look(ctx, real, known); errors.As(err, &none) {
		return out, &trouble.Trouble{
			Code:    trouble.NoProject,
			What:    "there is nothing to propose for " + real,
			Because: none.Because,
			Next:    "dravit propose -C FOLDER, in a project's folder",
		}
	} else if err != nil {
		return out, err
	}
	out.Text = out.Proposal.Text()
	if s.read, err = m.readProposed(out.Text); err != nil {
		return out, err
	}
	if _, out.Plan, err = s.Plan(ctx, plan.Consent{}); err != nil {
		return out, err
	}
	file, err := stackfile.Read(real, m.Kinds.Vocabulary())
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	out.Exists = true
	if err != nil {
		return out, err
	}
	out.New = added(s.read, file)
	return out, nil
}

// proposeMachine returns what a proposal has to know about the machine.
func (s *Stack) proposeMachine(ctx context.Context) (propose.Machine, error) {
	out := propose.Machine{Exports: map[string][]string{}}
	found, err := s.Look(ctx, nil)
	if err != nil {
		return out, err
	}
	for _, x := range found.Modules {
		if x.Kind == "php" && !slices.Contains(out.Extensions, x.Name) {
			out.Extensions = append(out.Extensions, x.Name)
		}
	}
	for _, p := range found.Programs {
		if p.Kind == "php" {
			out.Extensions = append(out.Extensions, strings.Fields(p.Facts["built_in"])...)
		}
	}
	for _, k := range s.Kinds {
		if t := k.Traits(); t.Role.Store() {
			e := k.Exports(kind.Part{Kind: t.Name, Port: 1, Socket: "s", Want: stackfile.PartConfig{Port: 1}})
			out.Exports[t.Name] = slices.Sorted(maps.Keys(e.Common))
		}
	}
	if out.Home, err = os.UserHomeDir(); err == nil {
		out.Home, err = filepath.EvalSymlinks(out.Home)
	}
	return out, err
}

// readProposed reads the text of a proposal as a stack file.
func (m *Machine) readProposed(text string) (*stackfile.File, error) {
	temp, err := os.MkdirTemp("", "dravit-propose-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(temp)
	if err := os.WriteFile(filepath.Join(temp, stackfile.Name), []byte(text), 0o600); err != nil {
		return nil, err
	}
	return stackfile.Read(temp, m.Kinds.Vocabulary())
}

// added says what a proposal has that a stack file lacks: parts of a kind, and extensions.
func added(proposed, file *stackfile.File) []string {
	var out []string
	of := func(f *stackfile.File, kindName string) (string, bool) {
		for _, name := range f.PartNames() {
			if slices.Contains(f.Parts[name].Kind, kindName) {
				return name, true
			}
		}
		return "", false
	}
	for _, name := range proposed.PartNames() {
		p := proposed.Parts[name]
		own, there := "", false
		for _, k := range p.Kind {
			if own, there = of(file, k); there {
				break
			}
		}
		if !there {
			out = append(out, "[part."+name+"] kind = \""+strings.Join(p.Kind, "\" or \"")+"\"")
			continue
		}
		listed := file.Parts[own].For(p.Kind[0]).Extensions
		for _, e := range p.Extensions {
			if listed != nil && !slices.Contains(listed, e) {
				out = append(out, "dravit extensions on "+e+" (part "+own+")")
			}
		}
	}
	return out
}

// WriteProposal writes the proposed file into its folder. Without force, it overwrites nothing: the error is then an
// fs.ErrExist.
func (p Proposed) WriteProposal(force bool) error {
	name := filepath.Join(p.Dir, stackfile.Name)
	if force {
		if err := home.ReplaceFile(name, []byte(p.Text)); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = f.WriteString(p.Text)
	return errors.Join(err, f.Close())
}
