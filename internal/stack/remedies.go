package stack

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/cause"
	"dravit/internal/confined"
	"dravit/internal/diagnose"
	"dravit/internal/examine"
	"dravit/internal/home"
	"dravit/internal/plan"
	"dravit/internal/project"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// causes derives the causes, looks in the project's files for where what they name comes from, and derives them again
// with that.
func (s *Stack) causes(ctx context.Context, facts diagnose.Facts, in plan.Input) []diagnose.Cause {
	causes := diagnose.Causes(facts)
	if len(causes) == 0 {
		return causes
	}
	if slices.ContainsFunc(causes, func(c diagnose.Cause) bool { return c.Cause == cause.ConnectionsUsedUp }) {
		for i, p := range facts.Parts {
			if p.Clients == nil {
				facts.Parts[i].Clients = examine.Clients(ctx, s.Kinds, p.Spec)
			}
		}
	}
	facts.Variables = project.Variables(s.Dir)
	facts.Mentions = project.Mentions(s.Dir, diagnose.Words(causes))
	facts.Dotenv, facts.EnvKeys = in.File.Dotenv, slices.Sorted(maps.Keys(in.File.Env))
	facts.Dumps, facts.Lines = project.Creates(s.Dir, diagnose.Tables(causes)), s.lines(causes)
	facts.Lacking = map[string]bool{}
	for _, dir := range diagnose.Paths(causes) {
		if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
			facts.Lacking[dir] = true
		}
	}
	entries, _ := os.ReadDir(s.Dir) // what cannot be read has no names
	for _, e := range entries {
		facts.TopLevel = append(facts.TopLevel, e.Name())
	}
	causes = diagnose.Causes(facts)
	for i := range causes {
		s.offerEdit(&causes[i], in)
	}
	return causes
}

// lines returns what is written at the places that causes name, by FILE:LINE.
func (s *Stack) lines(causes []diagnose.Cause) map[string]string {
	out := map[string]string{}
	for _, c := range causes {
		file, number, ok := strings.Cut(c.Place, ":")
		n, err := strconv.Atoi(number)
		if !ok || err != nil || strings.HasPrefix(filepath.Base(file), ".env") { // it may hold a password
			continue
		}
		text, err := confined.ReadFile(s.Dir, file, 1<<20)
		if all := strings.Split(string(text), "\n"); err == nil && n > 0 && n <= len(all) {
			out[c.Place] = strings.TrimSpace(all[n-1])
		}
	}
	return out
}

// offerEdit says how the stack file would have to change, if the change can be made and a plan satisfies the changed
// file. Else the remedy stays what it was.
func (s *Stack) offerEdit(c *diagnose.Cause, in plan.Input) {
	if len(c.Edit) == 0 {
		return
	}
	edits, err := stackfile.Set(s.Dir, c.Edit, s.Kinds.Vocabulary())
	if err == nil {
		err = s.tryEdits(edits, in)
	}
	if err != nil || len(edits) == 0 {
		c.Edit = nil
		return
	}
	var lines []string
	for _, change := range c.Edit {
		if toml := change.TOML(); len(lines) > 0 && len(toml) == 2 && slices.Contains(lines, toml[0]) {
			lines = append(lines, toml[1])
		} else {
			lines = append(lines, toml...)
		}
	}
	c.Remedy = "dravit diagnose --fix " + string(c.Cause) + " changes " + edits[0].File + " and starts again:" +
		trouble.Lines(lines...)
}

// tryEdits returns an error if no plan satisfies the stack file with some edits, though one does now.
func (s *Stack) tryEdits(edits []stackfile.Edit, in plan.Input) error {
	texts := map[string][]byte{}
	for _, name := range []string{stackfile.Name, stackfile.LocalName} {
		texts[name], _ = os.ReadFile(filepath.Join(s.Dir, name)) // Set has read them
	}
	for _, e := range edits {
		texts[e.File] = e.Text
	}
	file, err := stackfile.Parse(filepath.Base(s.Dir), texts[stackfile.Name], texts[stackfile.LocalName],
		s.Kinds.Vocabulary())
	if err != nil {
		return err
	}
	before := plan.Make(in, s.Kinds.ByName()).Faults
	in.File = file
	if after := plan.Make(in, s.Kinds.ByName()).Faults; len(after) > len(before) {
		return &after[0]
	}
	return nil
}

// Difference is what a remedy changes of a stack file.
type Difference struct {
	File     string
	Old, New string
}

// Differences returns what the remedy of a cause changes of the stack files, without changing them.
func (s *Stack) Differences(c diagnose.Cause) ([]Difference, error) {
	edits, err := stackfile.Set(s.Dir, c.Edit, s.Kinds.Vocabulary())
	if err != nil {
		return nil, err
	}
	var out []Difference
	for _, e := range edits {
		old, err := os.ReadFile(filepath.Join(s.Dir, e.File))
		if err != nil {
			return nil, err
		}
		out = append(out, Difference{e.File, string(old), string(e.Text)})
	}
	return out, nil
}

// edit changes the stack files as the remedy of a cause says.
func (s *Stack) edit(ctx context.Context, c diagnose.Cause) error {
	edits, err := stackfile.Set(s.Dir, c.Edit, s.Kinds.Vocabulary())
	if err != nil || ctx.Err() != nil {
		return err
	}
	for _, e := range edits {
		if err := home.ReplaceFile(filepath.Join(s.Dir, e.File), e.Text); err != nil {
			return err
		}
	}
	s.read = nil // the start that follows reads the new text
	return nil
}
