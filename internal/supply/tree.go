package supply

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/supply/fetch"
	"dravit/internal/version"
)

// Tree is the folder of one supplied program.
type Tree struct {
	Kind      string    `json:"kind"`
	Format    string    `json:"format,omitempty"` // of its source
	Version   string    `json:"version"`          // as the program says
	Package   string    `json:"package"`
	Release   string    `json:"release"`
	Integrity string    `json:"integrity"` // of the package, or the SHA-256 of the digests of all packages
	At        time.Time `json:"at"`
	Bytes     int64     `json:"size_bytes"` // of its files
	Count     int       `json:"files"`
	Program   string    `json:"program"` // absolute
	Dir       string    `json:"-"`

	With map[string]Pin `json:"with,omitempty"` // the packages beside the program, by name

	Suite      string   `json:"suite,omitempty"`
	Extensions []string `json:"extensions,omitempty"` // that were asked for
	Packages   []Item   `json:"packages,omitempty"`   // that it shares with other trees
	Way        Way      `json:"way,omitempty"`        // "": its programs run as they are
	Without    []string `json:"without,omitempty"`    // files that were left out, and what each lacks
}

// What is in the folder of a tree, beside its files: what describes it, and the SHA-256 of each file by its path, which
// most commands do not read.
const (
	treeFile    = "tree.json"
	SumsFile    = "sums.json"
	filesFolder = "files"
)

// The endings of folders that are no whole tree: one that is made, and one that is deleted.
const (
	NewSuffix  = ".new"
	goneSuffix = ".gone"
)

// Item is a package that trees share.
type Item struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Arch    string `json:"arch"`
	SHA256  string `json:"sha256"`
	File    string `json:"file"`    // below the address
	Address string `json:"address"` // of the repository
}

// Get makes the tree of an offer, whole or not at all. If it is there already, it is returned. progress is called with
// the bytes that were fetched.
func (s Supplier) Get(ctx context.Context, o Offer, r kind.Recipe, progress func(done int64)) (Tree, error) {
	if err := os.MkdirAll(s.Path("trees"), 0o700); err != nil {
		return Tree{}, err
	}
	lock, err := home.Lock(ctx, s.Path("lock"), "another command, which fetches programs")
	if err != nil {
		return Tree{}, err
	}
	defer lock.Close()
	dir := s.folder(o)
	if t, err := readTree(dir); err == nil {
		return t, nil
	}
	t := Tree{Kind: o.Kind, Format: o.from.Format(), Version: o.Version, Package: o.Package, Release: o.Release,
		Integrity: o.Integrity, With: o.With, Suite: o.Suite, Extensions: o.Extensions, At: time.Now(), Dir: dir}
	l := &Laid{Tree: &t, Fresh: dir + NewSuffix, Sums: map[string]string{}}
	defer os.RemoveAll(l.Fresh) // it is gone after the rename
	if err := errors.Join(os.RemoveAll(l.Fresh), os.MkdirAll(l.Files(), 0o700)); err != nil {
		return Tree{}, err
	}
	if err := o.from.Lay(ctx, o, r, l, progress); err != nil {
		return Tree{}, err
	}
	if err := errors.Join(os.RemoveAll(dir), os.Rename(l.Fresh, dir)); err != nil { // one without its description
		return Tree{}, err
	}
	if err := l.settle(ctx, r); err != nil {
		return Tree{}, errors.Join(err, os.RemoveAll(dir))
	}
	return t, home.WriteJSON(filepath.Join(dir, treeFile), t)
}

// settle does what is left to do in a folder that has its final path. What describes the tree is written after it: a
// folder without that is no tree, and the next Get deletes it.
func (l *Laid) settle(ctx context.Context, r kind.Recipe) (err error) {
	files := filepath.Join(l.Dir, filesFolder)
	if l.Settle != nil {
		err = l.Settle(ctx)
	} else if l.Version, err = Ask(ctx, r, l.Program, files); err != nil {
		err = fmt.Errorf("%s %s does not run on this machine: %w", r.Name, l.Tree.Release, err)
	}
	if err != nil {
		return err
	}
	if l.Bytes, err = SizeOf(files); err != nil {
		return err
	}
	l.Count = len(l.Sums)
	if err := home.WriteJSON(filepath.Join(l.Dir, SumsFile), l.Sums); err != nil {
		return err
	}
	return Sync(l.Dir)
}

// Ask has a program of a tree say its version.
func Ask(ctx context.Context, r kind.Recipe, program, files string) (string, error) {
	said, _, err := r.Inspect(ctx, program, func(path string, args ...string) (string, error) {
		ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		cmd := exec.CommandContext(ctx, path, args...)
		cmd.Dir, cmd.Env = files, []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}
		out, err := cmd.CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%w: %.300s", err, out)
		}
		return string(out), err
	})
	return said, err
}

// SizeOf returns the bytes of the files in a folder.
func SizeOf(dir string) (bytes int64, err error) {
	err = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		info, err := e.Info()
		if err == nil {
			bytes += info.Size()
		}
		return err
	})
	return bytes, err
}

// Together returns the bytes that trees take on the disk, the files that they share counted once.
func Together(trees []Tree) (bytes int64, err error) {
	seen := map[[2]uint64]bool{}
	for _, t := range trees {
		err := filepath.WalkDir(t.Dir, func(_ string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return err
			}
			info, err := e.Info()
			if err != nil {
				return err
			}
			if stat, ok := info.Sys().(*syscall.Stat_t); ok {
				file := [2]uint64{uint64(stat.Dev), stat.Ino} //nolint:unconvert // it is signed on macOS
				if seen[file] {
					return nil
				}
				seen[file] = true
			}
			bytes += info.Size()
			return nil
		})
		if err != nil {
			return 0, err
		}
	}
	return bytes, nil
}

func readTree(dir string) (Tree, error) {
	t := Tree{Dir: dir}
	if _, err := os.Stat(filepath.Join(dir, treeFile)); err != nil {
		return t, err
	}
	err := home.ReadJSON(filepath.Join(dir, treeFile), &t)
	switch { // one that was made before trees said it
	case t.Format != "":
	case len(t.Packages) > 0:
		t.Format = "debian"
	default:
		t.Format = "npm"
	}
	return t, err
}

// ShelfName returns the name of the folder with the files of a package that trees share.
func ShelfName(name, sum string) string { return filepath.Base(name) + "-" + sum[:min(16, len(sum))] }

// Trees returns the trees that a user has, by kind, the newest version first.
func Trees(h *home.Home) ([]Tree, error) {
	dirs, err := os.ReadDir(h.Path("supply", "trees"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	all := []Tree{}
	for _, d := range dirs {
		if strings.HasSuffix(d.Name(), goneSuffix) || strings.HasSuffix(d.Name(), NewSuffix) {
			continue
		}
		if t, err := readTree(h.Path("supply", "trees", d.Name())); err == nil { // else it is not whole
			all = append(all, t)
		}
	}
	slices.SortFunc(all, func(a, b Tree) int {
		if c := strings.Compare(a.Kind, b.Kind); c != 0 {
			return c
		}
		return version.Compare(b.Version, a.Version)
	})
	return all, nil
}

// Discard deletes trees, and the packages that no other tree has.
func Discard(ctx context.Context, h *home.Home, trees ...Tree) error {
	lock, err := home.Lock(ctx, h.Path("supply", "lock"), "another command, which fetches programs")
	if err != nil {
		return err
	}
	defer lock.Close()
	for _, t := range trees {
		gone := t.Dir + goneSuffix
		if err := errors.Join(os.RemoveAll(gone), os.Rename(t.Dir, gone), os.RemoveAll(gone)); err != nil {
			return err
		}
	}
	dirs, err := os.ReadDir(h.Path("supply", "trees"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, d := range dirs { // what is not whole: a supply died
		dir := h.Path("supply", "trees", d.Name())
		if _, err := os.Stat(filepath.Join(dir, treeFile)); err != nil || strings.HasSuffix(dir, NewSuffix) {
			if err := os.RemoveAll(dir); err != nil {
				return err
			}
		}
	}
	left, err := Trees(h)
	if err != nil {
		return err
	}
	used := map[string]bool{}
	for _, t := range left {
		for _, p := range t.Packages {
			used[ShelfName(p.Name, p.SHA256)] = true
		}
	}
	shelves, err := os.ReadDir(h.Path("supply", "packages"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, s := range shelves {
		if !used[s.Name()] {
			if err := os.RemoveAll(h.Path("supply", "packages", s.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

// Verify returns the files of a tree that are not what was unpacked: changed, missing, or added.
func (t Tree) Verify() ([]string, error) {
	root := filepath.Join(t.Dir, filesFolder)
	wrong := []string{}
	seen, sums := map[string]bool{}, map[string]string{}
	if err := home.ReadJSON(filepath.Join(t.Dir, SumsFile), &sums); err != nil {
		return nil, err
	}
	err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		rel, err := filepath.Rel(root, path)
		if err != nil {
			return err
		}
		seen[rel] = true
		sum, err := fetch.SumOf(path)
		if err != nil {
			return err
		}
		if sums[rel] != sum {
			wrong = append(wrong, rel)
		}
		return nil
	})
	for name := range sums {
		if !seen[name] {
			wrong = append(wrong, name)
		}
	}
	slices.Sort(wrong)
	return wrong, err
}
