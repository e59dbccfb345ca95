// Package project reads what the planner has to know about a project's folder.
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

// Facts are what is known about the folder. Keys are paths relative to the project.
type Facts struct {
	Dir     string            `json:"dir"`
	Folders map[string]Folder `json:"folders"`
	// the folders that are sites, by the pattern of the site that names them
	Each  map[string][]string `json:"each,omitempty"`
	Files []string            `json:"files,omitempty"` // the files that sites include and that exist
	// by folder: the project, and the folders above document roots
	Manifests map[string]Manifests `json:"manifests,omitempty"`
	Modules   []kind.Module        `json:"modules,omitempty"` // compiled files that the project brings
	// Outside holds, for paths of the stack file that lead out of the project, where they lead.
	Outside map[string]string `json:"outside,omitempty"`

	// Includes holds the text of the files with directives for a web server that sites include, by their names.
	Includes map[string]string `json:"includes,omitempty"`

	// FileSystem is the file system of the folder, if that lacks what a project may need, else nil.
	FileSystem *FileSystem `json:"file_system,omitempty"`

	// Elsewhere are folders outside the project that the user of this machine lets it reach.
	Elsewhere []string `json:"elsewhere,omitempty"`
}

// Folder describes a folder that may be a document root.
type Folder struct {
	Exists bool   `json:"exists"`
	Index  string `json:"index,omitempty"` // the index file in it, or "" if it has none
}

// Roots are the folders that may be a document root, most likely first.
var Roots = []string{"public", "web", "htdocs", "."}

// Indexes are the files that make a folder a document root, in the order of preference.
var Indexes = []string{"index.php", "index.html"}

// Look reads the facts: about the usual document roots, those that sites name, and the folders that are sites. paths
// are the other paths of the stack file, allowed the folders outside the project that they may lead to.
func Look(dir string, sites []stackfile.SiteConfig, paths, allowed []string) Facts {
	f := Facts{
		Dir:       dir,
		Folders:   map[string]Folder{},
		Manifests: map[string]Manifests{},
		Outside:   map[string]string{},
		Elsewhere: allowed,

		FileSystem: fileSystem(dir),
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
			f.include(s.Include)
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

// LookEach reads again which folders are sites, and which document roots they may have. It reports whether anything has
// changed.
func (f *Facts) LookEach(sites []stackfile.SiteConfig) (changed bool) {
	was := f.Each
	f.Each = map[string][]string{}
	for _, s := range sites {
		if s.Each == "" {
			continue
		}
		parent, glob := filepath.Split(s.Each)
		f.outside(parent)
		// a folder that does not exist holds no sites
		entries, _ := confined.ReadDir(f.Dir, parent, maxFolders, f.Elsewhere...)
		slices.SortFunc(entries, func(a, b os.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
		for _, e := range entries {
			fits, _ := filepath.Match(glob, e.Name()) // the pattern was checked before
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

// longestInclude is the longest file of directives that is read, in bytes.
const longestInclude = 1 << 20

// include reads a file with directives of a web server, and records which of its words would lead out of the project. A
// path with .. in it does, as servers read it from folders of their own.
func (f *Facts) include(file string) {
	text, err := confined.ReadFile(f.Dir, file, longestInclude, f.Elsewhere...)
	if err != nil {
		text = []byte("include " + file) // what nobody can look at is refused
	}
	if f.Includes == nil {
		f.Includes = map[string]string{}
	}
	f.Includes[file] = string(text)
	for _, word := range strings.FieldsFunc(string(text), func(r rune) bool {
		return strings.ContainsRune(" \t\r\n;{}\"'<>|=", r)
	}) {
		if _, path, ok := strings.Cut(word, "unix:"); ok {
			word = path
		}
		if slices.Contains(strings.Split(word, "/"), "..") {
			f.Outside[word] = filepath.Clean(word)
		} else if first, _, _ := strings.Cut(strings.TrimPrefix(word, "/"), "/"); strings.HasPrefix(word, "/") {
			if _, err := os.Lstat("/" + first); err == nil { // else it is an address, such as /index.php
				f.outside(word)
			}
		}
	}
}

// maxFolders bounds how many folders of a pattern are read.
const maxFolders = 20_000

// outside records where a path leads, if that is out of the project.
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
	if resolved := confined.Outside(f.Dir, path, f.Elsewhere...); resolved != "" {
		f.Outside[path] = resolved
		f.Outside[filepath.Clean(path)] = resolved
	}
}

// look describes a folder that may be a document root. If links lead out of the project, it reports that the folder
// exists, and does not read it.
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

// Above returns a folder of the project and the folders above it, the nearest first, up to the project itself.
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
