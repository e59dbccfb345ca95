package kind

// Way names a way to run a part. Package run has what it does.
type Way string

const (
	// WayProcess is a process that Dravit starts. A part without a word about its way is one.
	WayProcess Way = "process"
	// WaySupervised is a command that may start anything in any way, below a supervisor (package supervise).
	WaySupervised Way = "supervised"
	// WayFiles is a part that consists of files: nothing runs.
	WayFiles Way = "files"
	// WayOutside is a server that somebody else runs. Dravit asks it, and never starts, stops or changes it.
	WayOutside Way = "outside"
)

// WayOf returns how a part of a kind runs. outside is the host of a server that somebody else runs, or "".
func (t *Traits) WayOf(outside string) Way {
	switch {
	case outside != "":
		return WayOutside
	case t.Way != "":
		return t.Way
	}
	return WayProcess
}

// Database returns what the kind of a part can do with its SQL databases, also if somebody else runs its server; ok is
// false if it has none. Who changes them as a whole, or a server's accounts, asks first whether the part's way offers
// that (package run).
func (l List) Database(p Part) (d Database, ok bool) {
	d, ok = l.Of(p.Kind).(Database)
	return d, ok
}
