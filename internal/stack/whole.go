package stack

import (
	"cmp"
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/data"
	"dravit/internal/kind"
	"dravit/internal/trouble"
)

// whole is all that a stack keeps.
type whole struct {
	*Stack
	all     string      // see data.All
	parts   []kind.Part // those with data, in the order of their names
	folders []string    // of the project, writable, relative to it
	caches  []kind.Part // that keep nothing on the disk
}

// whole returns what the stack keeps, and what a mark leaves out.
func (s *Stack) whole() (whole, []string, error) {
	w := whole{Stack: s}
	spec, err := s.spec()
	if err != nil {
		return w, nil, err
	}
	if spec.ID == "" {
		return w, nil, ErrNeverStarted
	}
	left := []string{}
	w.all = data.All(s.Home.Stack(s.ID, "data"))
	for _, p := range spec.Parts {
		_, cache := s.Kinds.For(p).(kind.Cache)
		switch {
		case p.Outside != "":
			left = append(left, "the data of "+p.Name+", whose server runs outside of Dravit")
		case p.Data != "":
			w.parts = append(w.parts, p)
		case cache:
			w.caches = append(w.caches, p)
		}
		for _, name := range p.Want.Writable {
			if slices.Contains(w.folders, name) {
				continue
			}
			if err := data.InProject(s.Dir, name); err != nil && !errors.Is(err, os.ErrNotExist) {
				left = append(left, "the folder "+name+": "+err.Error())
				continue
			}
			w.folders = append(w.folders, name)
		}
	}
	slices.SortFunc(w.parts, func(a, b kind.Part) int { return cmp.Compare(a.Name, b.Name) })
	slices.Sort(w.folders)
	if len(w.parts) == 0 {
		return w, left, &trouble.Trouble{Code: trouble.NoPart, What: "the stack has nothing to mark",
			Because: "none of its parts keeps data", Next: "add a part of kind mariadb, postgres or sqlite"}
	}
	return w, left, nil
}

// change takes the data of all parts. The caller must call done.
func (w whole) change(what string) (done func(), err error) {
	var taken []func()
	done = func() {
		for _, done := range slices.Backward(taken) {
			done()
		}
	}
	for _, dir := range append([]string{w.all}, w.dataDirs()...) {
		d, err := w.takeData(dir, what)
		if err != nil {
			done()
			return nil, err
		}
		taken = append(taken, d)
	}
	for _, p := range w.parts {
		if err := w.finishRewind(p); err != nil {
			done()
			return nil, err
		}
	}
	return done, nil
}

func (w whole) dataDirs() []string {
	var all []string
	for _, p := range w.parts {
		all = append(all, p.Data)
	}
	return all
}

// save makes a mark of everything. No server of the parts runs. The data of parts without a process are copied while
// they are used.
func (w whole) save(ctx context.Context, m data.Mark) error {
	m.Parts, m.Folders = []data.MarkedPart{}, w.folders
	for _, p := range w.parts {
		meta, err := data.Read(p.Data)
		if err != nil {
			return err
		}
		m.Parts = append(m.Parts, data.MarkedPart{Name: p.Name, Meta: meta})
	}
	return data.SaveMark(ctx, w.all, m, func(ctx context.Context, content string) error {
		for _, p := range w.parts {
			to := data.ContentOf(content, p.Name)
			err := os.MkdirAll(to, 0o700)
			if k, ok := w.Kinds.For(p).(kind.Database); ok && err == nil && k.Command(p).Path == "" {
				err = k.Copy(ctx, p, to)
			} else if err == nil {
				err = data.Copy(ctx, p.Data, to)
			}
			if err != nil {
				return err
			}
		}
		return data.SaveFolders(ctx, content, w.Dir, w.folders)
	})
}

// MarkAll makes a mark of all that the stack keeps, at one moment: the data of its parts, and the writable folders. It
// returns the mark, and what it leaves out. If a mark of that name exists, it fails.
func (s *Stack) MarkAll(ctx context.Context, name string) (data.Mark, []string, error) {
	w, left, err := s.whole()
	if err != nil {
		return data.Mark{}, nil, err
	}
	done, err := w.change("a mark")
	if err != nil {
		return data.Mark{}, nil, err
	}
	defer done()
	m, err := newMark(w.all, name)
	if err != nil {
		return m, nil, err
	}
	if err := w.room(""); err != nil {
		return m, nil, err
	}
	err = w.atRest(ctx, w.parts, func() error { return w.save(ctx, m) })
	if err == nil {
		err = data.SyncMark(w.all, m.Name)
	}
	if err != nil {
		return m, nil, err
	}
	m, err = data.ReadMark(w.all, m.Name)
	return m, left, err
}

// room returns an error if the disk has no space for a copy of everything, and of content if it is not "".
func (w whole) room(content string) error {
	folders := w.dataDirs()
	if content != "" {
		folders = append(folders, content)
	}
	for _, name := range w.folders {
		folders = append(folders, filepath.Join(w.Dir, name))
	}
	return data.Room(w.Home.Stack(w.ID, "data"), folders...)
}

// RewindAll puts a mark of the whole stack back: the named one, or the newest that a user made. Unless forget, what the
// stack kept before becomes the mark before-rewind. Parts and folders that the mark has not, or that the stack no
// longer has, stay as they are: they are returned with the mark.
func (s *Stack) RewindAll(ctx context.Context, name string, forget bool) (data.Mark, []string, error) {
	w, left, err := s.whole()
	if err != nil {
		return data.Mark{}, nil, err
	}
	done, err := w.change("a rewind")
	if err != nil {
		return data.Mark{}, nil, err
	}
	defer done()
	m, err := findMark(w.all, "the whole stack", name)
	if err != nil {
		return m, nil, err
	}
	plan, others, err := w.rewinding(m)
	if err != nil {
		return m, nil, err
	}
	content := data.Content(w.all, m.Name)
	if err := w.room(content); err != nil {
		return m, nil, err
	}
	for _, folder := range plan.Folders { // somebody may have deleted one
		if err := data.MakeFolder(w.Dir, folder.Name); err != nil {
			return m, nil, err
		}
	}
	defer w.dropPrepared()
	if err := data.PrepareFolders(ctx, w.all, content); err != nil {
		return m, nil, err
	}
	for _, p := range plan.Parts {
		dir := w.Home.Stack(w.ID, "data", p.Name)
		if err := data.PrepareRewind(ctx, dir, data.ContentOf(content, p.Name)); err != nil {
			return m, nil, err
		}
	}
	keep := data.Mark{Name: beforeRewind, At: time.Now(), Before: "rewind"}
	err = w.atRest(ctx, append(slices.Clone(w.parts), w.caches...), func() error {
		if !forget {
			if err := w.save(ctx, keep); err != nil {
				return err
			}
		}
		return w.putBack(plan)
	})
	return m, append(left, others...), err
}

// dropPrepared deletes what was prepared for a rewind that was not decided.
func (w whole) dropPrepared() {
	if data.Decided(w.all) {
		return
	}
	for _, dir := range append(w.dataDirs(), w.all) {
		data.DropPrepared(dir)
	}
}

// putBack does a rewind. From the decision on nothing interrupts it.
func (w whole) putBack(plan data.Rewinding) error {
	err := data.Decide(w.all, plan)
	if err != nil {
		return err
	}
	for _, p := range w.parts { // each does its share, also if another one cannot
		if failed := data.FinishRewind(context.Background(), p, w.Kinds.For(p)); err == nil {
			err = failed
		}
	}
	if err != nil {
		return &trouble.Trouble{Code: trouble.LoadFailed, What: "the rewind is not complete", Because: err.Error(),
			Next: "remove the reason, then dravit start: it finishes the rewind"}
	}
	return nil
}

// rewinding returns what a rewind to a mark has to do, and what stays as it is.
func (w whole) rewinding(m data.Mark) (r data.Rewinding, stays []string, err error) {
	r = data.Rewinding{Project: w.Dir, Folders: []data.Rewound{}}
	for _, p := range w.parts {
		i := slices.IndexFunc(m.Parts, func(x data.MarkedPart) bool { return x.Name == p.Name })
		if i < 0 {
			stays = append(stays, "the data of "+p.Name+", which the mark has not")
			continue
		}
		if err := w.otherRelease(p, m.Name, m.Parts[i].Kind, m.Parts[i].Version); err != nil {
			return r, nil, err
		}
		r.Parts = append(r.Parts, m.Parts[i])
	}
	for _, p := range m.Parts {
		if !slices.ContainsFunc(w.parts, func(x kind.Part) bool { return x.Name == p.Name }) {
			stays = append(stays, "the data of "+p.Name+", a part that the stack no longer has")
		}
	}
	for i, name := range m.Folders {
		if slices.Contains(w.folders, name) {
			r.Folders = append(r.Folders, data.Rewound{Name: name, Index: i})
		} else {
			stays = append(stays, "the folder "+name+", which no part names as writable any more")
		}
	}
	if len(r.Parts) == 0 {
		err = errors.New("the mark has no part that the stack has: " + strings.Join(stays, "; "))
	}
	return r, stays, err
}

// AllMarks returns the marks of the whole stack, the newest first.
func (s *Stack) AllMarks() ([]data.Mark, error) {
	w, _, err := s.whole()
	if err != nil {
		return nil, err
	}
	return data.Marks(w.all)
}

// DeleteAllMark deletes a mark of the whole stack.
func (s *Stack) DeleteAllMark(name string) error {
	w, _, err := s.whole()
	if err != nil {
		return err
	}
	done, err := w.change("deleting a mark")
	if err != nil {
		return err
	}
	defer done()
	m, err := findMark(w.all, "the whole stack", name)
	if err != nil {
		return err
	}
	return data.RemoveMark(w.all, m.Name)
}
