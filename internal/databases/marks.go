package databases

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"dravit/internal/data"
	"dravit/internal/kind"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// marked is what marks are of: one part's data, or all that a stack keeps.
type marked interface {
	// is names it in a sentence.
	is() string
	// dir is the folder whose marks they are.
	dir() string
	// change takes the data for a command that changes or copies them as a whole. The caller must call done.
	change(what string) (done func(), err error)
	// save makes a mark, and stops servers for that where it has to.
	save(ctx context.Context, m data.Mark) error
	// rewind puts a mark back. If keep is not nil, the data as they were become that mark. It returns what stays as it
	// is, as the mark has nothing of it.
	rewind(ctx context.Context, m data.Mark, keep *data.Mark) (stays []string, err error)
}

// of returns what marks are of, and what they leave out.
func (s *Stack) of(t Target) (marked, []string, error) {
	if t.All {
		return s.whole()
	}
	d, err := s.keeping(t)
	return d, nil, err
}

// Mark makes a mark, and returns it with what it leaves out. If a mark of that name exists, it fails; without a name it
// gets one after the time.
func (s *Stack) Mark(ctx context.Context, t Target, name string) (m data.Mark, left []string, err error) {
	x, left, err := s.of(t)
	if err != nil {
		return m, nil, err
	}
	done, err := x.change("a mark")
	if err != nil {
		return m, nil, err
	}
	defer done()
	if m, err = newMark(x.dir(), name); err != nil {
		return m, nil, err
	}
	if err = x.save(ctx, m); err == nil {
		err = data.SyncMark(x.dir(), m.Name)
	}
	if err != nil {
		return m, nil, err
	}
	m, err = data.ReadMark(x.dir(), m.Name)
	return m, left, err
}

// Rewind puts a mark back: the named one, or the newest that a user made. Unless forget, what was there before becomes
// the mark before-rewind. It returns the mark, and what stays as it is.
func (s *Stack) Rewind(ctx context.Context, t Target, name string, forget bool) (m data.Mark, stays []string,
	err error) {
	x, left, err := s.of(t)
	if err != nil {
		return m, nil, err
	}
	done, err := x.change("a rewind")
	if err != nil {
		return m, nil, err
	}
	defer done()
	if m, err = findMark(x, name); err != nil {
		return m, nil, err
	}
	keep := &data.Mark{Name: beforeRewind, At: time.Now(), Before: "rewind"}
	if forget {
		keep = nil
	}
	stays, err = x.rewind(ctx, m, keep)
	return m, append(left, stays...), err
}

// Marks returns the marks, the newest first, and the name of the part that they are of; "" is the whole stack.
func (s *Stack) Marks(t Target) (part string, marks []data.Mark, err error) {
	x, _, err := s.of(t)
	if err != nil {
		return "", nil, err
	}
	if d, ok := x.(database); ok {
		if err := d.own("a mark"); err != nil {
			return "", nil, err
		}
		part = d.part.Name
	}
	marks, err = data.Marks(x.dir())
	return part, marks, err
}

// DeleteMark deletes a mark.
func (s *Stack) DeleteMark(t Target, name string) error {
	x, _, err := s.of(t)
	if err != nil {
		return err
	}
	done, err := x.change("deleting a mark")
	if err != nil {
		return err
	}
	defer done()
	m, err := findMark(x, name)
	if err != nil {
		return err
	}
	return data.RemoveMark(x.dir(), m.Name)
}

func (d database) dir() string { return d.part.Data }

// save makes a mark. The caller has taken the data for a change.
func (d database) save(ctx context.Context, m data.Mark) error {
	if !d.served() {
		return data.SaveMark(ctx, d.part.Data, m, func(ctx context.Context, dir string) error {
			return d.kind.Copy(ctx, d.part, dir)
		})
	}
	if err := data.Room(filepath.Dir(d.part.Data), d.part.Data); err != nil { // before the server stops
		return err
	}
	return d.AtRest(ctx, []kind.Part{d.part}, func() error { return data.SaveMark(ctx, d.part.Data, m, nil) })
}

// putBack puts a mark in the place of the data. If keep is not nil, the data as they were become that mark.
func (d database) putBack(ctx context.Context, name string, keep *data.Mark) error {
	m, err := data.ReadMark(d.part.Data, name)
	if err != nil {
		return err
	}
	// A copy first: keep may replace this very mark.
	if err := data.PrepareRewind(ctx, d.part.Data, data.Content(d.part.Data, name)); err != nil {
		return err
	}
	if !d.served() {
		defer data.DropPrepared(d.part.Data)
		if keep != nil {
			if err := d.save(ctx, *keep); err != nil {
				return err
			}
		}
		return d.kind.Restore(ctx, d.part, data.Prepared(d.part.Data))
	}
	meta, err := data.Read(d.part.Data)
	if err != nil {
		return err
	}
	err = d.AtRest(ctx, []kind.Part{d.part}, func() error { return data.Swap(d.part.Data, m) })
	if err != nil {
		return err
	}
	if keep == nil {
		return data.DropWas(d.part.Data)
	}
	return data.KeepWas(d.part.Data, *keep, meta)
}

func (d database) rewind(ctx context.Context, m data.Mark, keep *data.Mark) ([]string, error) {
	if err := d.otherRelease(d.part, m.Name, m.Kind, m.Version); err != nil {
		return nil, err
	}
	return nil, d.putBack(ctx, m.Name, keep)
}

// newMark returns a mark with a name that is free, or with one after the time if name is "".
func newMark(dataDir, name string) (data.Mark, error) {
	m := data.Mark{Name: name, At: time.Now()}
	if name == "" {
		m.Name = m.At.Format("20060102-150405")
	}
	if err := data.CheckName(m.Name); err != nil {
		return m, &trouble.Trouble{Code: trouble.BadName, What: "a mark cannot have this name",
			Because: err.Error(), Next: "use up to 60 letters, digits, spaces and signs"}
	}
	if _, err := data.ReadMark(dataDir, m.Name); err == nil {
		return m, &trouble.Trouble{Code: trouble.BadName, What: "there is a mark " + m.Name + " already",
			Because: "a mark is not replaced", Next: "give another name, or delete that one: dravit db marks --delete"}
	}
	return m, nil
}

// otherRelease returns an error if a part must not get the data of a mark: another kind wrote them, or a release whose
// data the running server does not read. While the part is stopped, it gets those: its next start looks at them.
func (s *Stack) otherRelease(p kind.Part, mark, wroteKind, wroteVersion string) error {
	needs := s.Kinds.Of(p.Kind).Needs(p.Want)
	same := needs.SeriesOf(wroteVersion) == needs.SeriesOf(p.Version) || !run.Seen(p).Alive()
	if wroteKind == p.Kind && same {
		return nil
	}
	t := &trouble.Trouble{Code: trouble.WrongKind, What: "the mark " + mark + " cannot be put back as it is",
		Because: fmt.Sprintf("%s %s wrote the data of %s, which runs %s %s", wroteKind, wroteVersion, p.Name, p.Kind,
			p.Version),
		Next: fmt.Sprintf("dravit stop, and again; then version = %q for the part, and dravit start",
			needs.SeriesOf(wroteVersion))}
	if wroteKind != p.Kind {
		t.Next = `kind = "` + wroteKind + `" for the part, dravit start, and again`
	}
	return t
}

// findMark returns a mark by its name, or the newest that a user made.
func findMark(of marked, name string) (data.Mark, error) {
	all, err := data.Marks(of.dir())
	if err != nil {
		return data.Mark{}, err
	}
	option := ""
	if _, ok := of.(whole); ok {
		option = " --all"
	}
	var names []string
	for _, m := range all {
		if m.Name == name || name == "" && m.Before == "" {
			return m, nil
		}
		names = append(names, m.Name)
	}
	t := &trouble.Trouble{Code: trouble.NoMark, What: "there is no mark " + name,
		Because: of.is() + " has none", Next: "dravit db mark" + option + " makes one"}
	if name == "" {
		t.What = "there is no mark to go back to"
	}
	if len(names) > 0 {
		t.Because, t.Next = "its marks are "+trouble.List(names), "dravit db marks"+option
	}
	return data.Mark{}, t
}
