package propose

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/confined"
)

// Limits of what is read of a folder.
const (
	maxEntries  = 60_000    // files and folders
	maxDepth    = 10        // folders below each other
	maxManifest = 1 << 20   // bytes of one manifest
	maxCode     = 512 << 10 // bytes of one file of code
	maxCodes    = 4_000     // files of code
	maxAllCode  = 48 << 20  // bytes of all files of code
)

// passed are folders that say nothing about the project: other people's packages, and what a build or a run leaves.
var passed = []string{
	"node_modules",
	"vendor",
	"bower_components",
	"__pycache__",
	"venv",
	"env",
	"target",
	"obj",
	"dist",
	"build",
	"coverage",
	"cache",
	"tmp",
	"temp",
	"logs",
	"var",
	"storage",
	"uploads",
	"sample",
	"samples",
	"example",
	"examples",
	"fixtures",
	"testdata",
	"third_party",
	"contrib",
}

// tree is the regular files of a folder, as far as they may say something about the project. No link is followed.
type tree struct {
	dir     string
	files   []string // sorted, with slashes
	folders []string
	cut     bool     // there is more than was read
	faults  []string // files that could not be read, with the reason
	text    map[string][]byte
	signs   *signs
}

// look lists the folder dir.
func look(ctx context.Context, dir string, s *signs) (*tree, error) {
	t := &tree{dir: dir, text: map[string][]byte{}, signs: s}
	err := filepath.WalkDir(dir, func(full string, e fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		rel, relErr := filepath.Rel(dir, full)
		switch {
		case rel == "." && err != nil:
			return err
		case rel == ".":
			return nil
		case err != nil || relErr != nil || !confined.Printable(rel):
			if e != nil && e.IsDir() {
				return fs.SkipDir
			}
			return nil
		case len(t.files)+len(t.folders) >= maxEntries:
			t.cut = true
			return fs.SkipAll
		case e.IsDir():
			t.folders = append(t.folders, rel)
			if strings.HasPrefix(e.Name(), ".") || slices.Contains(passed, e.Name()) {
				return fs.SkipDir
			}
			if strings.Count(rel, "/") >= maxDepth {
				t.cut = true
				return fs.SkipDir
			}
		case e.Type().IsRegular():
			t.files = append(t.files, rel)
		}
		return nil
	})
	slices.Sort(t.files)
	slices.Sort(t.folders)
	return t, err
}

func (t *tree) has(file string) bool {
	_, found := slices.BinarySearch(t.files, path.Clean(file))
	return found
}

func (t *tree) hasFolder(folder string) bool {
	_, found := slices.BinarySearch(t.folders, path.Clean(folder))
	return found || path.Clean(folder) == "."
}

// in returns the files that are directly in a folder.
func (t *tree) in(folder string) []string {
	var all []string
	for _, f := range t.files {
		if path.Dir(f) == path.Clean(folder) {
			all = append(all, f)
		}
	}
	return all
}

// below reports whether a file or folder is in a folder, or is that folder.
func below(file, folder string) bool {
	return folder == "." || file == folder || strings.HasPrefix(file, folder+"/")
}

// read returns the text of a file, or nil if it cannot be read or is too large.
func (t *tree) read(file string) []byte {
	if text, ok := t.text[file]; ok {
		return text
	}
	text, err := confined.ReadFile(t.dir, file, maxManifest)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		t.faults = append(t.faults, file+" was not read: "+err.Error())
	}
	if err != nil {
		text = nil
	}
	t.text[file] = text
	return text
}

// readCode returns the text of a file of code without keeping it.
func (t *tree) readCode(file string) ([]byte, error) {
	text, err := confined.ReadFile(t.dir, file, maxCode)
	if err == nil && bytes.IndexByte(text, 0) >= 0 {
		return nil, errors.New("it is not text")
	}
	return text, err
}

// lineOf returns the number of the first line with a text in it, or 0.
func lineOf(text []byte, what string) int {
	i := bytes.Index(text, []byte(what))
	if i < 0 {
		return 0
	}
	return 1 + bytes.Count(text[:i], []byte{'\n'})
}
