package supply

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/confined"
	"dravit/internal/home"
	"dravit/internal/trouble"
)

// LockFile is the file beside the stack file that names the exact programs of parts, for every machine of a team.
const LockFile = "dravit.lock"

// lockFormat is the number of the file's format.
const lockFormat = 1

// Lock is the content of the file.
type Lock struct {
	Format int               `json:"format"`
	Parts  map[string]Locked `json:"parts"`
	Tools  map[string]Locked `json:"tools,omitempty"` // the programs of [requires], by name
}

// Locked is the exact program of a part.
type Locked struct {
	Kind       string         `json:"kind"`
	Version    string         `json:"version"`
	System     string         `json:"system"` // as Go names it, such as linux/amd64
	Package    string         `json:"package"`
	Release    string         `json:"release"`
	Integrity  string         `json:"integrity"` // as Tree's
	Extensions []string       `json:"extensions,omitempty"`
	Packages   map[string]Pin `json:"packages,omitempty"` // by name
	With       map[string]Pin `json:"with,omitempty"`     // as Tree's
}

// Pin is the exact version of a package: with the SHA-256 of one of the Debian format, the integrity of another.
type Pin struct {
	Version   string `json:"version"`
	SHA256    string `json:"sha256,omitempty"`
	Integrity string `json:"integrity,omitempty"`
}

// ReadLock reads the lock of a project, a real path. A project without one has an empty one. A file that cannot be read
// as one is trouble.BadStackFile.
func ReadLock(project string) (Lock, error) {
	l := Lock{Format: lockFormat}
	text, err := confined.ReadFile(project, LockFile, 8<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &l)
	}
	if err == nil && l.Format != lockFormat {
		err = fmt.Errorf("its format is %d, and this Dravit knows %d", l.Format, lockFormat)
	}
	if err != nil {
		return l, &trouble.Trouble{Code: trouble.BadStackFile, What: LockFile + " cannot be read", Because: err.Error(),
			Next: "correct or delete it; dravit supply lock writes a new one", Err: err}
	}
	return l, nil
}

// Write writes the lock into a project.
func (l Lock) Write(project string) error {
	text, err := json.MarshalIndent(l, "", "  ")
	if err != nil {
		return err
	}
	return home.WriteFile(filepath.Join(project, LockFile), append(text, '\n'), 0o644)
}

// Locked returns what a lock says of the tree.
func (t Tree) Locked(system string) Locked {
	l := Locked{Kind: t.Kind, Version: t.Version, System: system, Package: t.Package, Release: t.Release,
		Integrity: t.Integrity, Extensions: t.Extensions, With: t.With}
	for _, p := range t.Packages {
		if l.Packages == nil {
			l.Packages = map[string]Pin{}
		}
		l.Packages[p.Name] = Pin{Version: p.Version, SHA256: p.SHA256}
	}
	return l
}

// Is reports whether a tree is just what a lock names.
func (l Locked) Is(t Tree) bool {
	if t.Kind != l.Kind || t.Integrity != l.Integrity {
		return false
	}
	for name, pin := range l.With {
		if t.With[name] != pin {
			return false
		}
	}
	return true
}

// Differs says in what an offer is not what a lock names, or "".
func (l Locked) Differs(o Offer) string {
	if o.Integrity == l.Integrity {
		for _, name := range slices.Sorted(maps.Keys(l.With)) {
			if o.With[name] != l.With[name] {
				return "it has no " + name + " " + l.With[name].Version + " as it was locked"
			}
		}
		return ""
	}
	var words []string
	seen := map[string]bool{}
	for _, p := range o.Packages {
		seen[p.Name] = true
		switch pin, ok := l.Packages[p.Name]; {
		case !ok:
			words = append(words, p.Name+" "+p.Version+" is not in the lock")
		case pin.Version != p.Version:
			words = append(words, p.Name+" is "+p.Version+", locked is "+pin.Version)
		case pin.SHA256 != p.SHA256:
			words = append(words, p.Name+" "+p.Version+" has another content")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(l.Packages)) {
		if !seen[name] {
			words = append(words, name+" "+l.Packages[name].Version+" is no longer needed")
		}
	}
	if len(words) == 0 {
		return o.Package + " " + o.Release + " is not the " + l.Package + " " + l.Release + " that was locked"
	}
	const most = 5
	if len(words) > most {
		words = append(words[:most], fmt.Sprintf("and %d more", len(words)-most))
	}
	return strings.Join(words, "; ")
}
