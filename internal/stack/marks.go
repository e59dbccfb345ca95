package stack

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"dravit/internal/data"
	"dravit/internal/kind"
	"dravit/internal/members"
	"dravit/internal/trouble"
)

// mark makes a mark. The caller has taken the data for a change.
func (d database) mark(ctx context.Context, m data.Mark) error {
	if !d.served() {
		return data.SaveMark(ctx, d.part.Data, m, func(ctx context.Context, dir string) error {
			return d.kind.Copy(ctx, d.part, dir)
		})
	}
	if err := data.Room(filepath.Dir(d.part.Data), d.part.Data); err != nil { // before the server stops
		return err
	}
	return d.atRest(ctx, []kind.Part{d.part}, func() error { return data.SaveMark(ctx, d.part.Data, m, nil) })
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
			if err := d.mark(ctx, *keep); err != nil {
				return err
			}
		}
		return d.kind.Restore(ctx, d.part, data.Prepared(d.part.Data))
	}
	meta, err := data.Read(d.part.Data)
	if err != nil {
		return err
	}
	err = d.atRest(ctx, []kind.Part{d.part}, func() error { return data.Swap(d.part.Data, m) })
	if err != nil {
		return err
	}
	if keep == nil {
		return data.DropWas(d.part.Data)
	}
	return data.KeepWas(d.part.Data, *keep, meta)
}

// Mark makes a mark of a database, and returns it. If a mark of that name exists, it fails.
func (s *Stack) Mark(ctx context.Context, t Target, name string) (data.Mark, error) {
	d, err := s.keeping(t)
	if err != nil {
		return data.Mark{}, err
	}
	done, err := d.change("a mark")
	if err != nil {
		return data.Mark{}, err
	}
	defer done()
	m, err := newMark(d.part.Data, name)
	if err == nil {
		name, err = m.Name, d.mark(ctx, m)
	}
	if err != nil {
		return data.Mark{}, err
	}
	if err := data.SyncMark(d.part.Data, name); err != nil {
		return data.Mark{}, err
	}
	return data.ReadMark(d.part.Data, name)
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

// Rewind puts a mark in the place of a database: the named one, or the newest that a user made. Unless forget, the
// database as it was becomes the mark before-rewind. It returns the mark.
func (s *Stack) Rewind(ctx context.Context, t Target, name string, forget bool) (data.Mark, error) {
	d, err := s.keeping(t)
	if err != nil {
		return data.Mark{}, err
	}
	done, err := d.change("a rewind")
	if err != nil {
		return data.Mark{}, err
	}
	defer done()
	m, err := findMark(d.part.Data, d.is(), name)
	if err != nil {
		return m, err
	}
	if err := s.otherRelease(d.part, m.Name, m.Kind, m.Version); err != nil {
		return m, err
	}
	keep := &data.Mark{Name: beforeRewind, At: time.Now(), Before: "rewind"}
	if forget {
		keep = nil
	}
	return m, d.putBack(ctx, m.Name, keep)
}

// otherRelease returns an error if a part must not get the data of a mark: another kind wrote them, or a release whose
// data the running server does not read. While the part is stopped, it gets those: its next start looks at them.
func (s *Stack) otherRelease(p kind.Part, mark, wroteKind, wroteVersion string) error {
	needs := s.Kinds.For(p).Needs(p.Want)
	same := needs.SeriesOf(wroteVersion) == needs.SeriesOf(p.Version) || !members.Alive(p.Lock)
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

// findMark returns a mark by its name, or the newest that a user made. of describes what the marks are of.
func findMark(dataDir, of, name string) (data.Mark, error) {
	all, err := data.Marks(dataDir)
	if err != nil {
		return data.Mark{}, err
	}
	option := ""
	if filepath.Base(dataDir) == filepath.Base(data.All("")) {
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
		Because: of + " has none", Next: "dravit db mark" + option + " makes one"}
	if name == "" {
		t.What = "there is no mark to go back to"
	}
	if len(names) > 0 {
		t.Because, t.Next = "its marks are "+trouble.List(names), "dravit db marks"+option
	}
	return data.Mark{}, t
}

// Marks returns the marks of a database, the newest first, and the name of its part.
func (s *Stack) Marks(t Target) (name string, marks []data.Mark, err error) {
	d, err := s.keeping(t)
	if err != nil {
		return "", nil, err
	}
	if err := d.own("a mark"); err != nil {
		return "", nil, err
	}
	marks, err = data.Marks(d.part.Data)
	return d.part.Name, marks, err
}

// DeleteMark deletes a mark of a database.
func (s *Stack) DeleteMark(t Target, name string) error {
	d, err := s.keeping(t)
	if err != nil {
		return err
	}
	done, err := d.change("deleting a mark")
	if err != nil {
		return err
	}
	defer done()
	m, err := findMark(d.part.Data, d.is(), name)
	if err != nil {
		return err
	}
	return data.RemoveMark(d.part.Data, m.Name)
}
