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
	// Exists: the folder has a stack file, and New is what the proposal has that the file lacks. Merged is the file
	// with that, or "" if it cannot be added.
	Exists bool
	New    []string
	Merged string
}

// Propose proposes the stack file of a folder. It reads the folder, and runs and writes nothing. choose asks the user
// what the folder leaves open (propose.Machine); nil: nobody is asked.
func (m *Machine) Propose(ctx context.Context, dir string,
	choose func(question string, options []string) string) (Proposed, error) {
	var out Proposed
	resolved, err := ledger.RealDir(dir)
	if err != nil {
		return out, noFolder(dir, err)
	}
	out.Dir = resolved
	book, err := ledger.Read(m.Home)
	if err != nil {
		return out, err
	}
	s := &Stack{Machine: m}
	s.ID, s.Dir = book.ByDir(resolved)
	known, err := s.proposeMachine(ctx)
	if err != nil {
		return out, err
	}
	known.Choose = choose
	var none *propose.NoProject
	if out.Proposal, err = propose.Look(ctx, resolved, known); errors.As(err, &none) {
		return out, &trouble.Trouble{
			Code:    trouble.NoProject,
			What:    "there is nothing to propose for " + resolved,
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
	file, err := stackfile.Read(resolved, m.Kinds.Vocabulary())
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	out.Exists = true
	if err != nil {
		return out, err
	}
	return out, m.beside(&out, s.read, file)
}

// proposeMachine returns what a proposal has to know about the machine.
func (s *Stack) proposeMachine(ctx context.Context) (propose.Machine, error) {
	out := propose.Machine{Exports: map[string][]string{}, Kinds: s.Kinds}
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
	return stackfile.Parse("", []byte(text), nil, m.Kinds.Vocabulary())
}

// beside compares a proposal with the stack file that is there. It sets New, and Merged if that can be added to the
// file.
func (m *Machine) beside(out *Proposed, proposed, file *stackfile.File) error {
	text, err := os.ReadFile(filepath.Join(out.Dir, stackfile.Name))
	if err != nil {
		return err
	}
	merged, complete := string(text), true
	for _, name := range proposed.PartNames() {
		p := proposed.Parts[name]
		own := partOf(file, p.Kind)
		if own == "" {
			out.New = append(out.New, "[part."+name+"] kind = \""+strings.Join(p.Kind, "\" or \"")+"\"")
			i := slices.IndexFunc(out.Tables, func(t propose.Table) bool { return t.Path == "part."+name })
			_, taken := file.Parts[name]
			complete = complete && !taken
			merged = strings.TrimRight(merged, "\n") + "\n\n" + out.Tables[i].Text()
			continue
		}
		listed := file.Parts[own].For(p.Kind[0]).Extensions
		missing := slices.DeleteFunc(slices.Clone(p.Extensions), func(e string) bool {
			return slices.Contains(listed, e) || slices.Contains(out.Wishes, e)
		})
		if listed == nil || len(missing) == 0 {
			continue
		}
		for _, e := range missing {
			out.New = append(out.New, "extension "+e+" of part "+own)
		}
		edit, err := stackfile.EditExtensions(out.Dir, own, p.Kind[0], append(slices.Clone(listed), missing...),
			m.Kinds.Vocabulary())
		if err != nil || edit.File != stackfile.Name {
			complete = false
			continue
		}
		merged = string(edit.Text) + strings.TrimPrefix(merged, string(text))
	}
	if len(out.New) == 0 || !complete {
		return nil
	}
	if _, err := m.readProposed(merged); err == nil { // else it is written in a way that somebody must change by hand
		out.Merged = merged
	}
	return nil
}

// partOf returns the name of the first part of a stack file that is of one of the kinds, or "".
func partOf(f *stackfile.File, kinds []string) string {
	for _, name := range f.PartNames() {
		if slices.ContainsFunc(kinds, func(k string) bool { return slices.Contains(f.Parts[name].Kind, k) }) {
			return name
		}
	}
	return ""
}

// WriteMerged adds what is new to the stack file that is there. Comments and order stay.
func (p Proposed) WriteMerged() error {
	return home.ReplaceFile(filepath.Join(p.Dir, stackfile.Name), []byte(p.Merged))
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
