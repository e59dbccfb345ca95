package proc

import (
	"path/filepath"
	"slices"
	"strings"
)

// Process is one running process of this user, as Processes lists it.
type Process struct {
	Identity
	Parent  int      // the process id of its parent; an orphan's parent is the process that adopted it
	Session int      // the id of its session: the process id of the one that called setsid
	Mark    string   // the value of the environment variable that was asked for, or ""
	Locks   []string // the lock files (flock, *.lock) that it holds, as the system writes their paths
}

// RealPath returns a path in the form that the system shows for an open file: with links resolved, as far as the
// folders still exist.
func RealPath(path string) string {
	if resolved, err := filepath.EvalSymlinks(path); err == nil {
		return resolved
	}
	if dir, err := filepath.EvalSymlinks(filepath.Dir(path)); err == nil {
		return filepath.Join(dir, filepath.Base(path))
	}
	return filepath.Clean(path)
}

// Descendants returns the roots and all processes that descend from one of them.
func Descendants(all []Process, roots map[int]bool) []Process {
	children := map[int][]Process{}
	for _, p := range all {
		children[p.Parent] = append(children[p.Parent], p)
	}
	var found []Process
	seen := map[int]bool{}
	var add func(p Process)
	add = func(p Process) {
		if seen[p.PID] {
			return
		}
		seen[p.PID] = true
		found = append(found, p)
		for _, child := range children[p.PID] {
			add(child)
		}
	}
	for _, p := range all {
		if roots[p.PID] {
			add(p)
		}
	}
	slices.SortFunc(found, func(a, b Process) int { return a.PID - b.PID })
	return found
}

// variable returns the value of a variable in an environment block (NUL after each entry), or "".
func variable(block, name string) string {
	for entry := range strings.SplitSeq(block, "\x00") {
		if value, ok := strings.CutPrefix(entry, name+"="); ok {
			return value
		}
	}
	return ""
}
