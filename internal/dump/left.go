package dump

import "slices"

// Left collects what was left out of a dump, each thing once, in the order in which it came.
type Left struct{ Out []string }

// Note adds a thing.
func (l *Left) Note(thing string) {
	const most = 20 // a dump may name thousands of owners
	if len(l.Out) < most && !slices.Contains(l.Out, thing) {
		l.Out = append(l.Out, thing)
	}
}
