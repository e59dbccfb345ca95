package supply

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/version"
)

// Tree is the folder of one supplied program.
type Tree struct {
	Kind      string    `json:"kind"`
	Version   string    `json:"version"` // as the program says
	Package   string    `json:"package"`
	Release   string    `json:"release"`
	Integrity string    `json:"integrity"`
	At        time.Time `json:"at"`
	Bytes     int64     `json:"size_bytes"` // of its files
	Count     int       `json:"files"`
	Program   string    `json:"program"` // absolute
	Dir       string    `json:"-"`
}

// What is in the folder of a tree, beside its files: what describes it, and the SHA-256 of each file by its path, which
// most commands do not read.
const (
	treeFile = "tree.json"
	sumsFile = "sums.json"
)

// The endings of folders that are no whole tree: one that is made, and one that is deleted.
const (
	newSuffix  = ".new"
	goneSuffix = ".gone"
)

// Get makes the tree of an offer, whole or not at all. If it is there already, it is returned. progress is called with
// the bytes that were fetched.
func (s Supplier) Get(ctx context.Context, o Offer, k kind.Kind, progress func(done int64)) (Tree, error) {
	if err := os.MkdirAll(s.path("trees"), 0o700); err != nil {
		return Tree{}, err
	}
	lock, err := home.Lock(s.path("lock"))
	if err != nil {
		return Tree{}, err
	}
	defer lock.Close()
	dir := s.folder(o)
	if t, err := readTree(dir); err == nil {
		return t, nil
	}
	file, err := s.fetch(ctx, o, progress)
	if err != nil {
		return Tree{}, err
	}
	fresh := dir + newSuffix
	defer os.RemoveAll(fresh) // it is gone after the rename
	t, sums, err := s.build(ctx, o, k, file, fresh)
	if err == nil {
		err = home.WriteJSON(filepath.Join(fresh, sumsFile), sums)
	}
	if err != nil {
		return Tree{}, err
	}
	// The program's path is that after the rename.
	t.Program = filepath.Join(dir, "files", o.carrier.Program)
	if err := home.WriteJSON(filepath.Join(fresh, treeFile), t); err != nil {
		return Tree{}, err
	}
	if err := syncTree(fresh); err != nil {
		return Tree{}, err
	}
	if err := os.RemoveAll(dir); err != nil { // one without its description
		return Tree{}, err
	}
	if err := os.Rename(fresh, dir); err != nil {
		return Tree{}, err
	}
	t.Dir = dir
	return t, os.Remove(file)
}

// build unpacks a package into the folder fresh, and has its program say its version.
func (s Supplier) build(ctx context.Context, o Offer, k kind.Kind, file, fresh string) (
	t Tree, sums map[string]string, err error) {
	if err := os.RemoveAll(fresh); err != nil {
		return t, nil, err
	}
	files := filepath.Join(fresh, "files")
	if err := os.MkdirAll(files, 0o700); err != nil {
		return t, nil, err
	}
	sums, err = unpack(ctx, file, files)
	if err == nil {
		err = link(files, o.carrier)
	}
	if err != nil {
		return t, nil, fmt.Errorf("unpacking %s: %w", o.Package, err)
	}
	program := filepath.Join(files, o.carrier.Program)
	said, _, err := k.Inspect(ctx, program, func(path string, args ...string) (string, error) {
		ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		cmd := exec.CommandContext(ctx, path, args...)
		cmd.Dir, cmd.Env = files, []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}
		out, err := cmd.CombinedOutput()
		return string(out), err
	})
	if err != nil {
		return t, nil, fmt.Errorf("%s %s does not run on this machine: %w", o.Kind, o.Version, err)
	}
	var bytes int64
	err = filepath.WalkDir(files, func(_ string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		info, err := e.Info()
		if err == nil {
			bytes += info.Size()
		}
		return err
	})
	return Tree{Kind: o.Kind, Version: said, Package: o.Package, Release: o.Release, Integrity: o.integrity,
		At: time.Now(), Bytes: bytes, Count: len(sums)}, sums, err
}

func readTree(dir string) (Tree, error) {
	t := Tree{Dir: dir}
	if _, err := os.Stat(filepath.Join(dir, treeFile)); err != nil {
		return t, err
	}
	return t, home.ReadJSON(filepath.Join(dir, treeFile), &t)
}

// Trees returns the trees that a user has, by kind, the newest version first.
func Trees(h *home.Home) ([]Tree, error) {
	dirs, err := os.ReadDir(h.Path("supply", "trees"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	all := []Tree{}
	for _, d := range dirs {
		if strings.HasSuffix(d.Name(), goneSuffix) || strings.HasSuffix(d.Name(), newSuffix) {
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

// Discard deletes a tree.
func (t Tree) Discard() error {
	gone := t.Dir + goneSuffix
	if err := errors.Join(os.RemoveAll(gone), os.Rename(t.Dir, gone)); err != nil {
		return err
	}
	return os.RemoveAll(gone)
}

// Verify returns the files of a tree that are not what was unpacked: changed, missing, or added.
func (t Tree) Verify() ([]string, error) {
	root := filepath.Join(t.Dir, "files")
	wrong := []string{}
	seen, sums := map[string]bool{}, map[string]string{}
	if err := home.ReadJSON(filepath.Join(t.Dir, sumsFile), &sums); err != nil {
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
		sum := sha256.New()
		if err := read(path, sum); err != nil {
			return err
		}
		if sums[rel] != hex.EncodeToString(sum.Sum(nil)) {
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
