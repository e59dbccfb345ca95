package supply

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/launch"
	"dravit/internal/trouble"
)

// Way is how the programs of a tree are started.
type Way string

// The ways to start a program that was built for other folders than those of its tree.
const (
	ByLoader    Way = "loader"    // the tree's own loader starts it, with the tree's libraries
	ByNamespace Way = "namespace" // it sees the tree in place of the system's folders
)

// Item is a package of a tree.
type Item struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Arch    string `json:"arch"`
	SHA256  string `json:"sha256"`
	File    string `json:"file"`    // below the address
	Address string `json:"address"` // of the repository
}

// compose makes the tree of an offer from the packages on their shelves.
func (s Supplier) compose(ctx context.Context, o Offer, k kind.Kind) (Tree, error) {
	dir := s.folder(o)
	fresh := dir + newSuffix
	defer os.RemoveAll(fresh) // it is gone after the rename
	files := filepath.Join(fresh, "files")
	if err := errors.Join(os.RemoveAll(fresh), os.MkdirAll(files, 0o700)); err != nil {
		return Tree{}, err
	}
	sums, owners, err := s.assemble(ctx, o, files)
	if err != nil {
		return Tree{}, err
	}
	p := k.Traits().Packages
	t := Tree{Kind: o.Kind, Version: o.Version, Package: o.Package, Release: o.Release, Integrity: o.id(),
		Suite: o.Suite, Extensions: o.Extensions, At: time.Now(), Dir: dir,
		Program: filepath.Join(dir, "files", kind.InSeries(p.Program, o.series))}
	for _, x := range o.Packages {
		t.Packages = append(t.Packages, Item{x.Name, x.Version, x.Arch, x.SHA256, x.File, x.Base})
	}
	all, err := binaries(files)
	if err != nil {
		return t, err
	}
	folders := libraries(files)
	program := real(files, kind.InSeries(p.Program, o.series))
	unloaded, lacking, err := reach(files, all, folders, func(file string) bool { return file == program })
	if err == nil && lacking != "" {
		err = fmt.Errorf("the packages of %s are not whole: %s", o.Package, lacking)
	}
	if err != nil {
		return t, err
	}
	for name := range unloaded {
		delete(sums, name)
		if err := os.Remove(filepath.Join(files, name)); err != nil {
			return t, err
		}
		t.Without = append(t.Without, name+" needs "+unloaded[name])
	}
	slices.Sort(t.Without)
	if err := finish(files, p, o.series, sums); err != nil {
		return t, err
	}
	starts, err := programsOf(files, all, func(file string) bool {
		return unloaded[file] == "" && !slices.Contains(always, owners[file]) && alone[owners[file]] == ""
	})
	if err != nil {
		return t, err
	}
	if err := moveNames(files, p.Folder, dir, sums); err != nil {
		return t, err
	}
	if p.Interpreter != "" {
		starts = append(starts, Start{Path: p.Program, Interpreter: p.Interpreter})
	}
	return s.putInPlace(ctx, t, k, o, fresh, sums, starts)
}

// putInPlace puts a tree in place, with scripts that start its programs in the first way by which its program runs.
func (s Supplier) putInPlace(ctx context.Context, t Tree, k kind.Kind, o Offer, fresh string, sums map[string]string,
	starts []Start) (Tree, error) {
	files := filepath.Join(fresh, "files")
	if err := home.WriteCache(filepath.Join(fresh, startsFile), starts); err != nil {
		return t, err
	}
	for _, start := range starts {
		if err := start.makeWay(files); err != nil {
			return t, err
		}
		if sum, ok := sums[start.Path]; ok {
			sums[start.Path+realSuffix] = sum
		}
	}
	p := k.Traits().Packages
	t.args, t.argsOf = inTree(p.Args, files, t.Dir, o.series), p.ArgsOf
	t.env, t.envUnset = inTree(p.Env, files, t.Dir, o.series), inTree(p.EnvUnset, files, t.Dir, o.series)
	if err := os.Mkdir(filepath.Join(fresh, "root"), 0o700); err != nil {
		return t, err
	}
	if err := os.RemoveAll(t.Dir); err != nil { // one without its description
		return t, err
	}
	if err := os.Rename(fresh, t.Dir); err != nil {
		return t, err
	}
	t, err := s.findWay(ctx, t, k, starts)
	if err != nil {
		return t, errors.Join(unstarted(o, err), os.RemoveAll(t.Dir))
	}
	if t.Bytes, err = sizeOf(filepath.Join(t.Dir, "files")); err != nil {
		return t, err
	}
	for _, start := range starts {
		if sums[start.Path], err = sumOf(filepath.Join(t.Dir, "files", start.Path)); err != nil {
			return t, err
		}
	}
	if sums[bundleFile], err = sumOf(filepath.Join(t.Dir, "files", bundleFile)); err != nil {
		return t, err
	}
	t.Count = len(sums)
	if err := home.WriteJSON(filepath.Join(t.Dir, sumsFile), sums); err != nil {
		return t, err
	}
	if err := syncTree(t.Dir); err != nil {
		return t, err
	}
	return t, home.WriteJSON(filepath.Join(t.Dir, treeFile), t)
}

// moveNames changes files of a folder that name it by its path in the system, so that they name it in the tree.
func moveNames(files, folder, dir string, sums map[string]string) error {
	if folder == "" {
		return nil
	}
	here := []byte(filepath.Join(dir, "files", folder) + "/")
	return filepath.WalkDir(filepath.Join(files, folder), func(file string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		moved := text
		for _, quote := range []string{"'", `"`} {
			moved = bytes.ReplaceAll(moved, []byte(quote+"/"+folder+"/"), append([]byte(quote), here...))
		}
		if bytes.Equal(moved, text) {
			return nil
		}
		name, err := filepath.Rel(files, file)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(moved)
		sums[name] = hex.EncodeToString(sum[:])
		// Other trees share the file that is there.
		return errors.Join(os.Remove(file), os.WriteFile(file, moved, 0o444))
	})
}

// findWay writes the scripts that start a tree's programs, in the first way by which its program says its version. A
// program that another one interprets is not asked: only a stack has that one.
func (s Supplier) findWay(ctx context.Context, t Tree, k kind.Kind, starts []Start) (Tree, error) {
	named := map[string]bool{}
	for i, start := range starts {
		if _, known := named[start.Loader]; !known {
			named[start.Loader] = takesName(ctx, filepath.Join(t.Dir, "files", start.Loader))
		}
		starts[i].Named = named[start.Loader]
	}
	if k.Traits().Packages.Interpreter != "" {
		return t, t.writeStarts(starts)
	}
	var failed error
	for _, way := range s.ways() {
		t.Way, t.self = way, s.Self
		if err := t.writeStarts(starts); err != nil {
			return t, err
		}
		said, err := ask(ctx, k, t.Program, filepath.Join(t.Dir, "files"))
		if err == nil {
			t.Version = said
			return t, nil
		}
		failed = errors.Join(failed, fmt.Errorf("by %s: %w", way, err))
	}
	return t, failed
}

// takesName reports whether a loader can give a program another name for itself (glibc 2.33 and newer).
func takesName(ctx context.Context, loader string) bool {
	help, err := exec.CommandContext(ctx, loader, "--help").Output()
	return err == nil && bytes.Contains(help, []byte("--argv0"))
}

// unstarted says that an offer's program does not run here, and what would help.
func unstarted(o Offer, because error) error {
	next := "another version, or one that is installed by the system's own packages"
	if permit := launch.Permit(); permit != "" {
		next = permit + " allows the way by namespace; or " + next
	}
	return &trouble.Trouble{Code: trouble.NoWay, What: o.Kind + " " + o.Version + " does not run on this machine",
		Because: because.Error(), Next: next, Err: because}
}

// assemble links the files of all packages into one folder. Of two with the same path, the first counts. It returns the
// SHA-256 and the package of each.
func (s Supplier) assemble(ctx context.Context, o Offer, files string) (all, owners map[string]string, err error) {
	all, owners = map[string]string{}, map[string]string{}
	root, err := os.OpenRoot(files)
	if err != nil {
		return nil, nil, err
	}
	defer root.Close()
	for _, p := range o.Packages {
		sums := map[string]string{}
		if err := home.ReadJSON(filepath.Join(s.shelf(p), sumsFile), &sums); err != nil {
			return nil, nil, err
		}
		shelf := filepath.Join(s.shelf(p), "files")
		err := filepath.WalkDir(shelf, func(file string, e fs.DirEntry, err error) error {
			if err == nil {
				err = ctx.Err()
			}
			if err != nil || file == shelf {
				return err
			}
			name, err := filepath.Rel(shelf, file)
			if err != nil {
				return err
			}
			if !e.IsDir() && !strings.HasPrefix(name, alone[p.Name]) {
				return nil
			}
			err = place(root, files, file, name, e)
			if errors.Is(err, fs.ErrExist) {
				return nil
			}
			if sum, ok := sums[name]; ok && err == nil {
				all[name], owners[name] = sum, p.Name
			}
			return err
		})
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", p.Name, err)
		}
	}
	return all, owners, nil
}

// place puts a file, folder or link of a package into a tree. It makes nothing behind a link that a package brought.
func place(root *os.Root, files, file, name string, e fs.DirEntry) error {
	switch {
	case e.IsDir():
		info, err := root.Lstat(name)
		if err == nil && !info.IsDir() {
			return fmt.Errorf("%s is a folder in one package, and not in another", name)
		}
		return root.MkdirAll(name, 0o755)
	case e.Type() == fs.ModeSymlink:
		target, err := os.Readlink(file)
		if err != nil {
			return err
		}
		return root.Symlink(target, name)
	}
	return os.Link(file, filepath.Join(files, name))
}

// finish makes what scripts of packages would make: the shell's name, the bundle of certificates, and what the kind
// names. It puts the digests of the kind's files into sums.
func finish(files string, p kind.Packages, series string, sums map[string]string) error {
	if p.Made != nil {
		if err := makeFiles(files, p, series, sums); err != nil {
			return err
		}
	}
	sh := filepath.Join(files, "usr/bin/sh")
	if _, err := os.Lstat(sh); err != nil && exists(filepath.Join(files, "usr/bin/dash")) {
		if err := os.Symlink("dash", sh); err != nil {
			return err
		}
	}
	certificates, _ := filepath.Glob(filepath.Join(files, "usr/share/ca-certificates/*/*.crt")) // well-formed
	var bundle []byte
	for _, file := range certificates {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		bundle = append(bundle, text...)
	}
	target := filepath.Join(files, bundleFile)
	if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
		return err
	}
	return os.WriteFile(target, bundle, 0o444)
}

// makeFiles writes what a kind says that scripts of its packages would write. It neither reads nor writes anything
// outside the tree.
func makeFiles(files string, p kind.Packages, series string, sums map[string]string) error {
	root, err := os.OpenRoot(files)
	if err != nil {
		return err
	}
	defer root.Close()
	made, err := p.Made(root.FS(), series)
	if err != nil {
		return err
	}
	for name, text := range made {
		err := root.MkdirAll(path.Dir(name), 0o755)
		if err == nil {
			err = root.Remove(name) // other trees may share the file
		}
		if err == nil || errors.Is(err, fs.ErrNotExist) {
			err = root.WriteFile(name, text, 0o444)
		}
		if err != nil {
			return err
		}
		sum := sha256.Sum256(text)
		sums[name] = hex.EncodeToString(sum[:])
	}
	return nil
}

// bundleFile is where programs of Debian's look for certificates, in a tree.
const bundleFile = "etc/ssl/certs/ca-certificates.crt"

// id returns a text that tells trees of different packages apart.
func (o Offer) id() string {
	sum := sha256.New()
	for _, p := range o.Packages {
		fmt.Fprintln(sum, p.SHA256)
	}
	return hex.EncodeToString(sum.Sum(nil))
}
