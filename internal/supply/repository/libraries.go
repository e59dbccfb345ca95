package repository

import (
	"bytes"
	"debug/elf"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// binary is what a compiled file of a tree says about itself (ELF).
type binary struct {
	path   string   // in the tree
	needs  []string // libraries, by name
	paths  []string // where it searches itself, in the tree
	loader string   // of a program: the path of the loader that starts it; "": it is a library
}

// binaries reads every compiled file below a folder.
func binaries(dir string) ([]binary, error) {
	var all []binary
	err := filepath.WalkDir(dir, func(file string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		name, err := filepath.Rel(dir, file)
		if err != nil {
			return err
		}
		if b, ok := readBinary(file); ok {
			b.path = name
			for i, p := range b.paths {
				p = strings.ReplaceAll(strings.ReplaceAll(p, "${ORIGIN}", "$ORIGIN"), "$ORIGIN", "/"+path.Dir(name))
				b.paths[i], _ = placeOf(strings.TrimPrefix(path.Clean(p), "/")) // "": outside the tree
			}
			all = append(all, b)
		}
		return nil
	})
	return all, err
}

func readBinary(file string) (b binary, ok bool) {
	in, err := os.Open(file)
	if err != nil {
		return b, false
	}
	defer in.Close()
	magic := make([]byte, 4)
	if _, err := io.ReadFull(in, magic); err != nil || !bytes.Equal(magic, []byte(elf.ELFMAG)) {
		return b, false
	}
	x, err := elf.NewFile(in)
	if err != nil || x.Type != elf.ET_DYN && x.Type != elf.ET_EXEC {
		return b, false
	}
	b.needs, _ = x.ImportedLibraries() // a broken one needs nothing, and does not run
	for _, tag := range []elf.DynTag{elf.DT_RUNPATH, elf.DT_RPATH} {
		values, _ := x.DynString(tag)
		for _, v := range values {
			b.paths = append(b.paths, strings.Split(v, ":")...)
		}
	}
	for _, p := range x.Progs {
		if p.Type == elf.PT_INTERP {
			text, _ := io.ReadAll(io.LimitReader(p.Open(), 4096))
			b.loader = strings.TrimRight(string(text), "\x00")
		}
	}
	return b, true
}

// libraries are the folders of a tree in which the loader looks for libraries: those that Debian's own is built with.
func libraries(dir string) []string {
	found := []string{}
	entries, _ := os.ReadDir(filepath.Join(dir, "usr", "lib"))
	for _, e := range entries {
		if e.IsDir() && strings.Contains(e.Name(), "-linux-gnu") {
			found = append(found, "usr/lib/"+e.Name())
		}
	}
	return append(found, "usr/lib", "usr/lib64")
}

// reach makes every library reachable that a program of the tree needs, by links in the first of the folders, and
// returns the files that cannot be loaded, with what each lacks. must are programs that have to run: what they, or the
// libraries that they need, lack is returned as lacking.
func reach(dir string, all []binary, folders []string, must func(path string) bool) (
	unloaded map[string]string, lacking string, err error) {
	at := map[string]string{} // libraries by name, as the loader finds them
	for _, folder := range slices.Backward(folders) {
		entries, _ := os.ReadDir(filepath.Join(dir, folder))
		for _, e := range entries {
			at[e.Name()] = path.Join(folder, e.Name())
		}
	}
	elsewhere, err := named(dir)
	if err != nil {
		return nil, "", err
	}
	unloaded = map[string]string{}
	for again := true; again; { // what needs a file that cannot be loaded cannot be loaded either
		again = false
		for _, b := range all {
			if unloaded[b.path] != "" {
				continue
			}
			for _, need := range b.needs {
				name, ok := at[need]
				for _, p := range b.paths {
					if own := path.Join(p, need); !ok && exists(filepath.Join(dir, own)) {
						name, ok = own, true
					}
				}
				if other := elsewhere[need]; !ok && other != "" {
					name, ok = path.Join(folders[0], need), true
					target, err := filepath.Rel(folders[0], other)
					if err == nil {
						err = os.Symlink(target, filepath.Join(dir, name))
					}
					if err != nil {
						return nil, "", err
					}
					at[need] = name
				}
				if ok && unloaded[real(dir, name)] == "" {
					continue
				}
				unloaded[b.path], again = need, true
				break
			}
		}
	}
	for _, b := range all {
		if unloaded[b.path] != "" && must(b.path) {
			return unloaded, b.path + " needs " + unloaded[b.path], nil
		}
	}
	return unloaded, "", nil
}

// named returns the paths of the libraries below a folder, and of links to them, by their names.
func named(dir string) (map[string]string, error) {
	all := map[string]string{}
	return all, filepath.WalkDir(dir, func(file string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.Contains(e.Name(), ".so") {
			return err
		}
		name, err := filepath.Rel(dir, file)
		all[e.Name()] = name
		return err
	})
}

func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}

// real returns the path in the tree that a path points to, through links.
func real(dir, name string) string {
	file, err := filepath.EvalSymlinks(filepath.Join(dir, name))
	if err != nil {
		return name
	}
	base, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return name
	}
	rel, err := filepath.Rel(base, file)
	if err != nil {
		return name
	}
	return rel
}
