// Package project says what a project's folder holds, as far as decisions rest on it.
package project

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/confined"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// Facts is what the folder says. Keys are paths relative to the project.
type Facts struct {
	Dir     string            `json:"dir"`
	Folders map[string]Folder `json:"folders"`
	// the folders that are sites of their own, by the site's pattern
	Each  map[string][]string `json:"each,omitempty"`
	Files []string            `json:"files,omitempty"` // of those that sites include, the ones that are there
	// by folder: the project, and those above document roots
	Manifests map[string]Manifests `json:"manifests,omitempty"`
	Modules   []kind.Module        `json:"modules,omitempty"` // compiled files that the project brings
	// Outside is where paths of the stack file lead that links, or they themselves, lead out of the project.
	Outside map[string]string `json:"outside,omitempty"`

	// Elsewhere are folders beside the project that this machine's user lets it reach.
	Elsewhere []string `json:"elsewhere,omitempty"`
}

// Folder is a folder that may be a document root.
type Folder struct {
	Exists bool   `json:"exists"`
	Index  string `json:"index,omitempty"` // the index file in it, "" where it has none
}

// Roots are the folders that may be a document root, most likely first.
var Roots = []string{"public", "web", "htdocs", "."}

// Indexes are the files that make a folder a document root, the one that is taken first.
var Indexes = []string{"index.php", "index.html"}

// Look reads the facts: about the usual document roots, those that sites name, and the folders that are sites of their
// own. paths are the other paths of the stack file, and allowed the folders beside the project that they may lead to.
func Look(dir string, sites []stackfile.SiteConfig, paths, allowed []string) Facts {
	f := Facts{
		Dir:       dir,
		Folders:   map[string]Folder{},
		Manifests: map[string]Manifests{},
		Outside:   map[string]string{},
		Elsewhere: allowed,
	}
	for _, path := range paths {
		f.outside(path)
	}
	var roots []string
	for _, s := range sites {
		if s.Each == "" && s.Root != "" {
			roots = append(roots, s.Root)
		}
		f.outside(s.Include)
		if info, err := confined.Stat(dir, s.Include, allowed...); s.Include != "" &&
			err == nil && info.Mode().IsRegular() {
			f.Files = append(f.Files, s.Include)
		}
	}
	for _, root := range append(roots, Roots...) {
		f.Folders[filepath.Clean(root)] = f.look(root)
	}
	for _, root := range append(roots, ".") {
		for _, folder := range Above(root) {
			if _, ok := f.Manifests[folder]; ok {
				continue
			}
			if m := readManifests(dir, folder); len(m.Demands)+len(m.Extensions)+len(m.Faults) > 0 {
				f.Manifests[folder] = m
			}
		}
	}
	f.LookEach(sites)
	return f
}

// LookEach reads again which folders are sites of their own, and what may be their document roots. It tells whether
// anything has changed.
func (f *Facts) LookEach(sites []stackfile.SiteConfig) (changed bool) {
	was := f.Each
	f.Each = map[string][]string{}
	for _, s := range sites {
		if s.Each == "" {
			continue
		}
		parent, glob := filepath.Split(s.Each)
		f.outside(parent)
		// a folder that is not there holds no sites
		entries, _ := confined.ReadDir(f.Dir, parent, maxFolders, f.Elsewhere...)
		slices.SortFunc(entries, func(a, b os.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
		for _, e := range entries {
			fits, _ := filepath.Match(glob, e.Name()) // the pattern was read already
			if !fits || strings.HasPrefix(e.Name(), ".") {
				continue
			}
			folder := filepath.Join(parent, e.Name())
			if info, err := os.Stat(filepath.Join(f.Dir, folder)); err != nil || !info.IsDir() {
				continue
			}
			f.outside(folder)
			f.Each[s.Each] = append(f.Each[s.Each], folder)
			roots := Roots
			if s.Root != "" {
				roots = []string{s.Root}
			}
			for _, root := range roots {
				root = filepath.Join(folder, root)
				now := f.look(root)
				changed = changed || now != f.Folders[root]
				f.Folders[root] = now
			}
		}
	}
	return changed || !maps.EqualFunc(was, f.Each, slices.Equal)
}

// maxFolders is how many folders of a pattern are looked at.
const maxFolders = 20_000

// outside notes where a path leads, if that is out of the project.
func (f *Facts) outside(path string) {
	if path == "" {
		return
	}
	if filepath.IsAbs(path) || strings.HasPrefix(path, "~") {
		if !slices.ContainsFunc(append(f.Elsewhere, f.Dir), func(dir string) bool {
			return confined.Inside(dir, filepath.Clean(path))
		}) {
			f.Outside[path] = path
		}
		return
	}
	if real := confined.Outside(f.Dir, path, f.Elsewhere...); real != "" {
		f.Outside[path] = real
		f.Outside[filepath.Clean(path)] = real
	}
}

// look tells of a folder that may be a document root. One that links lead out of the project exists, and is not looked
// into.
func (f *Facts) look(root string) Folder {
	f.outside(root)
	info, err := os.Stat(filepath.Join(f.Dir, root))
	folder := Folder{Exists: err == nil && info.IsDir()}
	if !folder.Exists || f.Outside[filepath.Clean(root)] != "" {
		return folder
	}
	for _, index := range Indexes {
		if _, err := os.Stat(filepath.Join(f.Dir, root, index)); err == nil {
			folder.Index = index
			break
		}
	}
	return folder
}

// Above returns a folder of the project and those above it, nearest first, up to the project itself.
func Above(folder string) []string {
	var all []string
	for at := filepath.Clean(folder); filepath.IsLocal(at); at = filepath.Dir(at) {
		all = append(all, at)
		if at == "." {
			break
		}
	}
	return all
}
