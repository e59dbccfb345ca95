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
	"syscall"
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
	Integrity string    `json:"integrity"` // of the package, or the SHA-256 of the digests of all packages
	At        time.Time `json:"at"`
	Bytes     int64     `json:"size_bytes"` // of its files
	Count     int       `json:"files"`
	Program   string    `json:"program"` // absolute
	Dir       string    `json:"-"`

	With map[string]Pin `json:"with,omitempty"` // the packages of a registry beside the program, by name

	// Of a Debian-format repository:

	Suite      string   `json:"suite,omitempty"`
	Extensions []string `json:"extensions,omitempty"` // that were asked for
	Packages   []Item   `json:"packages,omitempty"`
	Way        Way      `json:"way,omitempty"`
	Without    []string `json:"without,omitempty"` // files that were left out, and what each lacks

	// What the scripts are written from, while the tree is made:

	self   string   // the dravit program that they start, by namespace
	args   []string // come first in the scripts of programs whose name
	argsOf string   // begins with this
	env    []string

	envUnset []string // where a program is started without it
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
	lock, err := home.Lock(ctx, s.path("lock"), "another command, which fetches programs")
	if err != nil {
		return Tree{}, err
	}
	defer lock.Close()
	dir := s.folder(o)
	if t, err := readTree(dir); err == nil {
		return t, nil
	}
	if o.Packages != nil {
		if err := s.stock(ctx, o.Packages, progress); err != nil {
			return Tree{}, err
		}
		return s.compose(ctx, o, k)
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
	with := map[string]Pin{}
	for _, x := range o.with {
		if err := s.add(ctx, x, o.carrier.Program, files, sums); err != nil {
			return t, nil, err
		}
		with[x.Package] = Pin{Version: x.release, Integrity: x.integrity}
	}
	program := filepath.Join(files, o.carrier.Program)
	said, err := ask(ctx, k, program, files)
	if err != nil {
		return t, nil, fmt.Errorf("%s %s does not run on this machine: %w", o.Kind, o.Version, err)
	}
	bytes, err := sizeOf(files)
	return Tree{Kind: o.Kind, Version: said, Package: o.Package, Release: o.Release, Integrity: o.integrity,
		At: time.Now(), Bytes: bytes, Count: len(sums), With: with}, sums, err
}

// ask has a program of a tree say its version.
func ask(ctx context.Context, k kind.Kind, program, files string) (string, error) {
	said, _, err := k.Inspect(ctx, program, func(path string, args ...string) (string, error) {
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

// sizeOf returns the bytes of the files in a folder.
func sizeOf(dir string) (bytes int64, err error) {
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
		if strings.HasSuffix(dir, newSuffix) || !exists(filepath.Join(dir, treeFile)) {
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
			used[shelfName(p.Name, p.SHA256)] = true
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

// sumOf returns the SHA-256 of a file.
func sumOf(file string) (string, error) {
	sum := sha256.New()
	err := read(file, sum)
	return hex.EncodeToString(sum.Sum(nil)), err
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
		sum, err := sumOf(path)
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
