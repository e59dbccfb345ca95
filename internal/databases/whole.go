package databases

import (
	"cmp"
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/data"
	"dravit/internal/kind"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// whole is all that a stack keeps.
type whole struct {
	*Stack
	folder  string      // see data.All
	parts   []kind.Part // those with data, in the order of their names
	folders []string    // of the project, writable, relative to it
	caches  []kind.Part // that keep nothing on the disk
}

// whole returns what the stack keeps, and what a mark leaves out.
func (s *Stack) whole() (whole, []string, error) {
	w := whole{Stack: s}
	left := []string{}
	w.folder = data.All(s.Home.Stack(s.ID, "data"))
	for _, p := range s.Parts {
		_, cache := s.Kinds.Of(p.Kind).(kind.Cache)
		switch {
		case !run.Of(p).Offers().Data:
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
	for _, dir := range append([]string{w.folder}, w.dataDirs()...) {
		d, err := w.TakeData(dir, what)
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

func (whole) is() string    { return "the whole stack" }
func (w whole) dir() string { return w.folder }

// save makes a mark of everything, at one moment: the data of the parts, and the writable folders.
func (w whole) save(ctx context.Context, m data.Mark) error {
	if err := w.room(""); err != nil {
		return err
	}
	return w.AtRest(ctx, w.parts, func() error { return w.copyAll(ctx, m) })
}

// copyAll makes a mark of everything. No server of the parts runs. The data of parts without a process are copied while
// they are used.
func (w whole) copyAll(ctx context.Context, m data.Mark) error {
	m.Parts, m.Folders = []data.MarkedPart{}, w.folders
	for _, p := range w.parts {
		meta, err := data.Read(p.Data)
		if err != nil {
			return err
		}
		m.Parts = append(m.Parts, data.MarkedPart{Name: p.Name, Meta: meta})
	}
	return data.SaveMark(ctx, w.folder, m, func(ctx context.Context, content string) error {
		for _, p := range w.parts {
			to := data.ContentOf(content, p.Name)
			err := os.MkdirAll(to, 0o700)
			if k, ok := w.Kinds.Of(p.Kind).(kind.Database); ok && err == nil && !run.Of(p).Offers().Process {
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

// rewind puts a mark of the whole stack back. Parts and folders that the mark has not, or that the stack no longer has,
// stay as they are.
func (w whole) rewind(ctx context.Context, m data.Mark, keep *data.Mark) (stays []string, err error) {
	plan, stays, err := w.rewinding(m)
	if err != nil {
		return nil, err
	}
	content := data.Content(w.folder, m.Name)
	if err := w.room(content); err != nil {
		return nil, err
	}
	for _, folder := range plan.Folders { // somebody may have deleted one
		if err := data.MakeFolder(w.Dir, folder.Name); err != nil {
			return nil, err
		}
	}
	defer w.dropPrepared()
	if err := data.PrepareFolders(ctx, w.folder, content); err != nil {
		return nil, err
	}
	for _, p := range plan.Parts {
		dir := w.Home.Stack(w.ID, "data", p.Name)
		if err := data.PrepareRewind(ctx, dir, data.ContentOf(content, p.Name)); err != nil {
			return nil, err
		}
	}
	err = w.AtRest(ctx, append(slices.Clone(w.parts), w.caches...), func() error {
		if keep != nil {
			if err := w.copyAll(ctx, *keep); err != nil {
				return err
			}
		}
		return w.putBack(plan)
	})
	return stays, err
}

// dropPrepared deletes what was prepared for a rewind that was not decided.
func (w whole) dropPrepared() {
	if data.Decided(w.folder) {
		return
	}
	for _, dir := range append(w.dataDirs(), w.folder) {
		data.DropPrepared(dir)
	}
}

// putBack does a rewind. From the decision on nothing interrupts it.
func (w whole) putBack(plan data.Rewinding) error {
	err := data.Decide(w.folder, plan)
	if err != nil {
		return err
	}
	for _, p := range w.parts { // each does its share, also if another one cannot
		if failed := data.FinishRewind(context.Background(), p, w.Kinds.Of(p.Kind)); err == nil {
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
