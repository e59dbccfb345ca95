// Package project says what a project's folder holds, as far as decisions rest on it.
package project

import (
	"os"
	"path/filepath"

	"dravit/internal/kind"
)

// Facts is what the folder says. Keys are paths relative to the project.
type Facts struct {
	Dir       string               `json:"dir"`
	Folders   map[string]Folder    `json:"folders"`
	Manifests map[string]Manifests `json:"manifests,omitempty"` // by folder: the project, and those above document roots
	Modules   []kind.Module        `json:"modules,omitempty"`   // compiled files that the project brings
}

// Folder is a folder that may be a document root.
type Folder struct {
	Exists bool   `json:"exists"`
	Index  string `json:"index,omitempty"` // the index file in it, "" where it has none
}

// Roots are the folders that may be a document root, most likely first.
var Roots = []string{"public", "web", "htdocs", "."}

// Look reads the facts: about the usual document roots and the ones that the stack file names.
func Look(dir string, roots []string) Facts {
	f := Facts{Dir: dir, Folders: map[string]Folder{}, Manifests: map[string]Manifests{}}
	for _, root := range append(roots, Roots...) {
		path := filepath.Join(dir, root)
		info, err := os.Stat(path)
		folder := Folder{Exists: err == nil && info.IsDir()}
		for _, index := range []string{"index.php", "index.html"} {
			if _, err := os.Stat(filepath.Join(path, index)); err == nil && folder.Index == "" {
				folder.Index = index
			}
		}
		f.Folders[filepath.Clean(root)] = folder
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
	return f
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
