package data

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/run"
)

// MarkedPart is a part in a mark of a whole stack.
type MarkedPart struct {
	Name string `json:"name"`
	Meta
}

// All returns what stands for the data folder of a whole stack: its marks and its change lock are beside it. dir is the
// folder with the data folders of the stack's parts. A part cannot have this name.
func All(dir string) string { return filepath.Join(dir, ".all") }

// ContentOf returns the folder with the data of a part, in the Content of a mark of its stack.
func ContentOf(content, part string) string { return filepath.Join(content, "parts", part) }

// contentOfFolder returns the folder with what was in one of the mark's Folders.
func contentOfFolder(content string, index int) string {
	return filepath.Join(content, "folders", strconv.Itoa(index))
}

// PrepareFolders copies the project's folders of a mark, for a rewind that may replace this very mark.
func PrepareFolders(ctx context.Context, all, content string) error {
	next := Prepared(all)
	if err := os.RemoveAll(next); err != nil {
		return err
	}
	if err := os.MkdirAll(next, 0o700); err != nil {
		return err
	}
	from, err := os.OpenRoot(content)
	if err != nil {
		return err
	}
	defer from.Close()
	folders, err := from.OpenRoot("folders")
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer folders.Close()
	to := filepath.Join(next, "folders")
	if err := os.Mkdir(to, 0o700); err != nil {
		return err
	}
	return errors.Join(save(ctx, folders, to), Sync(next))
}

// SaveFolders copies folders of the project into the Content of a mark. One that is missing is empty in it.
func SaveFolders(ctx context.Context, content, project string, folders []string) error {
	for i, name := range folders {
		to := contentOfFolder(content, i)
		if err := os.MkdirAll(to, 0o700); err != nil {
			return err
		}
		from, err := openFolder(project, name)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err == nil {
			err = errors.Join(save(ctx, from, to), from.Close())
		}
		if err != nil {
			return fmt.Errorf("copying the folder %s: %w", name, err)
		}
	}
	return nil
}

// A rewind of a whole stack changes several folders. It copies everything first, and then notes what is left to do:
// from there on it is finished, whatever dies. Each part does its own share before it starts again; no part starts
// before.

// Rewinding is what is left to do of a rewind of a whole stack.
type Rewinding struct {
	Parts   []MarkedPart `json:"parts"`   // each has its data prepared (PrepareRewind)
	Folders []Rewound    `json:"folders"` // they are prepared, too (PrepareFolders)
	Project string       `json:"project"` // absolute
}

// Rewound is a folder of the project that is put back.
type Rewound struct {
	Name  string `json:"name"`
	Index int    `json:"index"` // in the mark's Folders
}

func rewindFile(all string) string { return all + ".rewind.json" }

// Decide notes a rewind of a whole stack. The caller has the hold locks of all its parts, and no process uses the data.
func Decide(all string, r Rewinding) error { return home.WriteJSON(rewindFile(all), r) }

// Decided reports whether a rewind of a whole stack was decided, and is not finished.
func Decided(all string) bool {
	_, err := os.Lstat(rewindFile(all))
	return err == nil
}

// ToFinish reports whether a rewind of the whole stack has not put a part's data back yet.
func ToFinish(dataDir string) bool {
	var r Rewinding
	all := All(filepath.Dir(dataDir))
	if !Decided(all) {
		return false
	}
	return home.ReadJSON(rewindFile(all), &r) != nil || r.has(dataDir) >= 0
}

// Unfinished reports whether a rewind of the whole stack died, and a part has to do its share of it.
func Unfinished(dataDir string) bool { return ToFinish(dataDir) && !home.Locked(changeLock(dataDir)) }

func (r Rewinding) has(dataDir string) int {
	return slices.IndexFunc(r.Parts, func(p MarkedPart) bool { return p.Name == filepath.Base(dataDir) })
}

// FinishRewind does what is left of a rewind of the whole stack for one part, and for the project's folders. The caller
// has the part's hold lock, and no process uses the data.
func FinishRewind(ctx context.Context, p kind.Part, k kind.Kind) error {
	all := All(filepath.Dir(p.Data))
	if !Decided(all) {
		return nil
	}
	// several parts start at once
	lock, err := home.Lock(ctx, all+".rewind.lock", "another part, which rewinds its data")
	if err != nil {
		return err
	}
	defer lock.Close()
	var r Rewinding
	if !Decided(all) { // another part did the rest
		return nil
	}
	if err := home.ReadJSON(rewindFile(all), &r); err != nil {
		return err
	}
	if i := r.has(p.Data); i >= 0 {
		if err := putIn(ctx, p, k, r.Parts[i].Meta); err != nil {
			return fmt.Errorf("rewinding %s: %w", p.Name, err)
		}
		r.Parts = slices.Delete(r.Parts, i, i+1)
		if err := Decide(all, r); err != nil {
			return err
		}
	}
	for len(r.Folders) > 0 {
		folder := r.Folders[0]
		content := contentOfFolder(Prepared(all), folder.Index)
		if err := putFolder(ctx, r.Project, folder.Name, content); err != nil {
			return fmt.Errorf("rewinding the folder %s: %w", folder.Name, err)
		}
		r.Folders = r.Folders[1:]
		if err := Decide(all, r); err != nil {
			return err
		}
	}
	if len(r.Parts) == 0 && len(r.Folders) == 0 {
		DropPrepared(all)
		return home.RemoveJSON(rewindFile(all))
	}
	return nil
}

// putIn puts a part's prepared data in their place, unless that is done.
func putIn(ctx context.Context, p kind.Part, k kind.Kind, meta Meta) error {
	if _, err := os.Lstat(Prepared(p.Data)); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if db, ok := k.(kind.Database); ok && !run.Of(p).Offers().Process {
		if err := db.Restore(ctx, p, Prepared(p.Data)); err != nil {
			return err
		}
		return os.RemoveAll(Prepared(p.Data))
	}
	return errors.Join(Swap(p.Data, Mark{Kind: meta.Kind, Version: meta.Version, ID: meta.ID}), DropWas(p.Data))
}

func putFolder(ctx context.Context, project, name, content string) error {
	to, err := openFolder(project, name)
	if err != nil {
		return err
	}
	return errors.Join(mirror(ctx, content, to), to.Close())
}
