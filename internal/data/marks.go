package data

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"dravit/internal/home"
	"dravit/internal/pattern"
)

// Mark is a copy of a part's data at one point in time, or of all that a stack keeps (see All).
type Mark struct {
	Name    string    `json:"name"`
	At      time.Time `json:"at"`
	Kind    string    `json:"kind"`
	Version string    `json:"version"` // of the program that wrote the data
	Bytes   int64     `json:"bytes"`   // on the disk, where files share no blocks with the data
	Before  string    `json:"before"`  // the command that made it by itself, before it changed the data, or ""
	ID      string    `json:"id"`      // see Meta

	// What a mark of a whole stack holds instead of one part's data, which Kind, Version and ID describe.
	Parts   []MarkedPart `json:"parts,omitempty"`
	Folders []string     `json:"folders,omitempty"` // of the project, relative to it
}

func marksDir(dataDir string) string { return dataDir + ".marks" }

// markDir returns the folder of a mark. A mark's name may hold what the name of a file cannot, so its digest stands for
// it.
func markDir(dataDir, name string) string {
	sum := sha256.Sum256([]byte(name))
	return filepath.Join(marksDir(dataDir), "m-"+hex.EncodeToString(sum[:8]))
}

// longestName is the longest name of a mark, in characters.
const longestName = 60

// CheckName returns why a mark cannot have a name, or nil.
func CheckName(name string) error {
	switch {
	case name == "":
		return errors.New("the name is empty")
	case utf8.RuneCountInString(name) > longestName:
		return fmt.Errorf("the name has more than %d characters", longestName)
	case !utf8.ValidString(name) || strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsPrint(r) }):
		return errors.New("the name has characters that cannot be printed")
	case strings.TrimSpace(name) != name:
		return errors.New("the name begins or ends with a space")
	}
	return nil
}

// Marks returns the marks of a part's data, the newest first.
func Marks(dataDir string) ([]Mark, error) {
	entries, err := os.ReadDir(marksDir(dataDir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	all := []Mark{}
	for _, e := range entries {
		var m Mark
		if !strings.HasPrefix(e.Name(), "m-") {
			continue
		}
		if err := home.ReadJSON(filepath.Join(marksDir(dataDir), e.Name(), "mark.json"), &m); err == nil &&
			m.Name != "" {
			all = append(all, m)
		}
	}
	slices.SortFunc(all, func(a, b Mark) int { return b.At.Compare(a.At) })
	return all, nil
}

// ReadMark returns the mark of that name. If there is none, the error is fs.ErrNotExist.
func ReadMark(dataDir, name string) (Mark, error) {
	var m Mark
	err := home.ReadJSON(filepath.Join(markDir(dataDir, name), "mark.json"), &m)
	if err == nil && m.Name == "" {
		err = &fs.PathError{Op: "open", Path: markDir(dataDir, name), Err: fs.ErrNotExist}
	}
	return m, err
}

// SaveMark makes a mark, whole or not at all; a mark of the same name is replaced. copyTo copies the data into a
// folder; nil copies the data folder as it is, which no process may use meanwhile.
func SaveMark(ctx context.Context, dataDir string, m Mark, copyTo func(ctx context.Context, dir string) error) error {
	meta, err := Read(dataDir)
	if err != nil {
		return err
	}
	return makeMark(dataDir, m, meta, func(content string) error {
		if err := os.Mkdir(content, 0o700); err != nil {
			return err
		}
		if copyTo == nil {
			return Copy(ctx, dataDir, content)
		}
		return copyTo(ctx, content)
	})
}

// makeMark makes a mark of what fill puts into the folder content, which fill makes. meta describes those data.
func makeMark(dataDir string, m Mark, meta Meta, fill func(content string) error) error {
	m.Kind, m.Version, m.ID = meta.Kind, meta.Version, meta.ID // zero, of a whole stack
	if err := os.MkdirAll(marksDir(dataDir), 0o700); err != nil {
		return err
	}
	fresh, err := os.MkdirTemp(marksDir(dataDir), "new-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(fresh) // it fails after the rename, as it should
	content := filepath.Join(fresh, "data")
	if err := fill(content); err != nil {
		return err
	}
	m.Bytes = used(content)
	if err := home.WriteJSON(filepath.Join(fresh, "mark.json"), m); err != nil {
		return err
	}
	if err := RemoveMark(dataDir, m.Name); err != nil {
		return err
	}
	return os.Rename(fresh, markDir(dataDir, m.Name))
}

// SyncMark writes a mark to the disk (fsync).
func SyncMark(dataDir, name string) error {
	return errors.Join(Sync(markDir(dataDir, name)), syncFolder(marksDir(dataDir)))
}

// RemoveMark throws a mark away.
func RemoveMark(dataDir, name string) error { return throwAway(dataDir, markDir(dataDir, name)) }

// was is where a data folder is after another took its place.
func was(dataDir string) string { return dataDir + ".was" }

// Prepared returns the folder with the copy of a mark that PrepareRewind makes, beside the data folder.
func Prepared(dataDir string) string { return dataDir + ".next" }

// DropPrepared deletes that copy, if it was not swapped in.
func DropPrepared(dataDir string) { _ = os.RemoveAll(Prepared(dataDir)) } // else the next rewind does

// Content returns the folder with the data of a mark.
func Content(dataDir, name string) string { return filepath.Join(markDir(dataDir, name), "data") }

// PrepareRewind copies the data of a mark, its Content, so that Swap takes no time. The part may use its data
// meanwhile.
func PrepareRewind(ctx context.Context, dataDir, content string) error {
	if err := Room(filepath.Dir(dataDir), content); err != nil {
		return err
	}
	next := Prepared(dataDir)
	if err := os.RemoveAll(next); err != nil {
		return err
	}
	if err := os.Mkdir(next, 0o700); err != nil {
		return err
	}
	err := Copy(ctx, content, next)
	if err == nil {
		err = Sync(next) // else the server waits for it when it syncs its own files as it stops
	}
	if err != nil {
		return errors.Join(err, os.RemoveAll(next))
	}
	return nil
}

// Swap puts what PrepareRewind prepared in the place of the data, which no process uses, and keeps them aside. If it
// dies, the next start of the part finds the data as they were, or the mark's, as a whole. mark describes the mark.
func Swap(dataDir string, mark Mark) error {
	if err := DropWas(dataDir); err != nil {
		return err
	}
	// A start that finds the older version's note with newer data only refuses to go on; the other way round, a newer
	// server would change older data unasked. So the older note is written first.
	if err := home.WriteJSON(dataDir+".json", Meta{Kind: mark.Kind, Version: mark.Version, ID: mark.ID}); err != nil {
		return err
	}
	if err := os.Rename(dataDir, was(dataDir)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.Rename(Prepared(dataDir), dataDir); err != nil {
		return errors.Join(err, os.Rename(was(dataDir), dataDir))
	}
	return syncFolder(filepath.Dir(dataDir))
}

// KeepWas makes the data that Swap put aside a mark.
func KeepWas(dataDir string, m Mark, meta Meta) error {
	return makeMark(dataDir, m, meta, func(content string) error { return os.Rename(was(dataDir), content) })
}

// DropWas throws away the data that Swap put aside.
func DropWas(dataDir string) error { return throwAway(dataDir, was(dataDir)) }

func gonePrefix(dataDir string) string { return dataDir + ".gone-" }

// throwAway moves a folder to where Sweep deletes it: to free a gigabyte may take a file system a second.
func throwAway(dataDir, folder string) error {
	err := os.Rename(folder, gonePrefix(dataDir)+rand.Text())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Sweep deletes what was thrown away of a part's data.
func Sweep(dataDir string) error {
	gone, err := filepath.Glob(pattern.Literal(gonePrefix(dataDir)) + "*")
	for _, folder := range gone {
		err = errors.Join(err, os.RemoveAll(folder))
	}
	return err
}

func syncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}
