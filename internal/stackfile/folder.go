package stackfile

import (
	"path/filepath"
	"strings"

	"dravit/internal/pattern"
)

// Folder returns the folder in which a part's command works, relative to the project: the one that it changes into
// first (cd FOLDER && ...), else the project's own, ".".
func (c PartConfig) Folder() string {
	m := changes().FindStringSubmatch(c.Command)
	if m == nil {
		return "."
	}
	folder := filepath.Clean(strings.Trim(m[1], `'"`))
	if !filepath.IsLocal(folder) {
		return "."
	}
	return folder
}

// changes matches a command that changes into a folder first. One with variables in its path says nothing.
var changes = pattern.New(`^\s*cd\s+("[^"$\x60\\]+"|'[^']+'|[\w.@+][\w.@+/-]*)\s*(?:&&|;|\n)`)

// Above returns the folders of a name in the folder in which a part's command works and in those above it, up to the
// project's, the nearest first: where runtimes look for what a project brings.
func (c PartConfig) Above(name ...string) []string {
	var all []string
	for folder := c.Folder(); ; folder = filepath.Dir(folder) {
		all = append(all, filepath.Join(append([]string{folder}, name...)...))
		if folder == "." {
			return all
		}
	}
}
