package repository

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

	"dravit/internal/debian"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/launch"
	"dravit/internal/supply"
	"dravit/internal/supply/fetch"
	"dravit/internal/trouble"
)

// compose lays the tree of an offer from the packages on their shelves.
func (s *Source) compose(ctx context.Context, o supply.Offer, r kind.Recipe, t *supply.Laid) error {
	files, series, p := t.Files(), o.Of.(string), r.Packages
	owners, err := s.assemble(ctx, o, files, t.Sums)
	if err != nil {
		return err
	}
	t.Packages, t.Program = items(o.Packages), filepath.Join(t.Dir, "files", kind.InSeries(p.Program, series))
	all, err := binaries(files)
	if err != nil {
		return err
	}
	program := real(files, kind.InSeries(p.Program, series))
	unloaded, lacking, err := reach(files, all, libraries(files), func(file string) bool { return file == program })
	if err == nil && lacking != "" {
		err = fmt.Errorf("the packages of %s are not whole: %s", o.Package, lacking)
	}
	if err != nil {
		return err
	}
	for name := range unloaded {
		delete(t.Sums, name)
		if err := os.Remove(filepath.Join(files, name)); err != nil {
			return err
		}
		t.Without = append(t.Without, name+" needs "+unloaded[name])
	}
	slices.Sort(t.Without)
	if err := finish(files, p, series, t.Sums); err != nil {
		return err
	}
	starts, err := programsOf(files, all, func(file string) bool {
		return unloaded[file] == "" && !slices.Contains(always, owners[file]) && alone[owners[file]] == ""
	})
	if err != nil {
		return err
	}
	if err := moveNames(files, p.Folder, t.Dir, t.Sums); err != nil {
		return err
	}
	if p.Interpreter != "" {
		starts = append(starts, Start{Path: p.Program, Interpreter: p.Interpreter})
	}
	return s.makeWay(o, r, t, starts)
}

// makeWay puts programs aside for the scripts that start them, which are written when the tree stands at its place.
func (s *Source) makeWay(o supply.Offer, r kind.Recipe, t *supply.Laid, starts []Start) error {
	files, series, p := t.Files(), o.Of.(string), r.Packages
	if err := home.WriteCache(filepath.Join(t.Fresh, startsFile), starts); err != nil {
		return err
	}
	for _, start := range starts {
		if err := start.makeWay(files); err != nil {
			return err
		}
		if sum, ok := t.Sums[start.Path]; ok {
			t.Sums[start.Path+realSuffix] = sum
		}
	}
	with := scripts{tree: t.Tree, self: s.Self, argsOf: p.ArgsOf, args: inTree(p.Args, files, t.Dir, series),
		env: inTree(p.Env, files, t.Dir, series), envUnset: inTree(p.EnvUnset, files, t.Dir, series)}
	t.Settle = func(ctx context.Context) error {
		if err := s.findWay(ctx, with, r, starts); err != nil {
			return unstarted(o, err)
		}
		var err error
		for _, start := range starts {
			if t.Sums[start.Path], err = fetch.SumOf(filepath.Join(t.Dir, "files", start.Path)); err != nil {
				return err
			}
		}
		t.Sums[bundleFile], err = fetch.SumOf(filepath.Join(t.Dir, "files", bundleFile))
		return err
	}
	return os.Mkdir(filepath.Join(t.Fresh, "root"), 0o700)
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
func (s *Source) findWay(ctx context.Context, with scripts, r kind.Recipe, starts []Start) error {
	t := with.tree
	named := map[string]bool{}
	for i, start := range starts {
		if _, known := named[start.Loader]; !known {
			named[start.Loader] = takesName(ctx, filepath.Join(t.Dir, "files", start.Loader))
		}
		starts[i].Named = named[start.Loader]
	}
	if r.Packages.Interpreter != "" {
		return with.write(starts)
	}
	var failed error
	for _, way := range s.ways() {
		t.Way = way
		if err := with.write(starts); err != nil {
			return err
		}
		said, err := supply.Ask(ctx, r, t.Program, filepath.Join(t.Dir, "files"))
		if err == nil {
			t.Version = said
			return nil
		}
		failed = errors.Join(failed, fmt.Errorf("by %s: %w", way, err))
	}
	return failed
}

// ways returns the ways to start a tree's programs that are tried, in their order. By the loader, programs still see
// those of the machine; but also the machine's time zones, which it has to have then.
func (s *Source) ways() []supply.Way {
	switch {
	case s.Way != "":
		return []supply.Way{s.Way}
	case !exists("/usr/share/zoneinfo/UTC"):
		return []supply.Way{supply.ByNamespace, supply.ByLoader}
	}
	return []supply.Way{supply.ByLoader, supply.ByNamespace}
}

// takesName reports whether a loader can give a program another name for itself (glibc 2.33 and newer).
func takesName(ctx context.Context, loader string) bool {
	help, err := exec.CommandContext(ctx, loader, "--help").Output()
	return err == nil && bytes.Contains(help, []byte("--argv0"))
}

// unstarted says that an offer's program does not run here, and what would help.
func unstarted(o supply.Offer, because error) error {
	next := "another version, or one that is installed by the system's own packages"
	if permit := launch.Permit(); permit != "" {
		next = permit + " allows the way by namespace; or " + next
	}
	return &trouble.Trouble{Code: trouble.NoWay, What: o.Kind + " " + o.Version + " does not run on this machine",
		Because: because.Error(), Next: next, Err: because}
}

// assemble links the files of all packages into one folder. Of two with the same path, the first counts. It puts the
// SHA-256 of each into all, and returns the package of each.
func (s *Source) assemble(ctx context.Context, o supply.Offer, files string, all map[string]string) (
	owners map[string]string, err error) {
	owners = map[string]string{}
	root, err := os.OpenRoot(files)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	for _, p := range o.Packages {
		sums := map[string]string{}
		if err := home.ReadJSON(filepath.Join(s.shelf(p), supply.SumsFile), &sums); err != nil {
			return nil, err
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
			return nil, fmt.Errorf("%s: %w", p.Name, err)
		}
	}
	return owners, nil
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
func id(packages []debian.Package) string {
	sum := sha256.New()
	for _, p := range packages {
		fmt.Fprintln(sum, p.SHA256)
	}
	return hex.EncodeToString(sum.Sum(nil))
}
