package dump

import (
	"slices"
	"strings"
)

// Left collects what was left out of a dump, each thing once, in the order in which it came.
type Left struct{ Out []string }

// Note adds a thing.
func (l *Left) Note(thing string) {
	const most = 20 // a dump may name thousands of owners
	if len(l.Out) < most && !slices.Contains(l.Out, thing) {
		l.Out = append(l.Out, thing)
	}
}

// Beginnings are how statements begin that are left out of a dump, in upper case and with single blanks, each with what
// a user is told of it, or "".
type Beginnings [][2]string

// Takes reports whether a statement that has this head begins in one of these ways, and notes it.
func (l *Left) Takes(head string, ways Beginnings) bool {
	i := slices.IndexFunc(ways, func(w [2]string) bool { return strings.HasPrefix(head+" ", w[0]) })
	if i < 0 {
		return false
	}
	if ways[i][1] != "" {
		l.Note(ways[i][1])
	}
	return true
}
