package kind

import "slices"

// For returns the kind of a part as Dravit uses it for that part: a server outside the stack is only asked. It returns
// nil if the list has no such kind.
func (l List) For(p Part) Kind {
	k := l.Of(p.Kind)
	if k == nil || p.Outside == "" {
		return k
	}
	return outside{k}
}

// Database returns what the kind of a part can do with its SQL databases, also if somebody else runs its server; ok is
// false if it has none. Who changes them as a whole, or a server's accounts, asks first whether the server is the
// stack's own.
func (l List) Database(p Part) (d Database, ok bool) {
	d, ok = l.Of(p.Kind).(Database)
	return d, ok
}

// outside is a kind for a part that somebody else runs: it has no process of the stack's, and no accounts to create.
type outside struct{ Kind }

func (o outside) Traits() *Traits {
	t := *o.Kind.Traits()
	t.Accounts, t.HeadStart = false, false
	return &t
}

func (outside) Command(Part) Command        { return Command{} }
func (outside) Test(Part) Command           { return Command{} }
func (outside) DeepChecks(Part) []DeepCheck { return nil } // they would write to the server

// Ladder leaves out the rungs that ask for a process of the stack's.
func (o outside) Ladder(p Part) []Rung {
	return slices.DeleteFunc(o.Kind.Ladder(p), func(r Rung) bool { return r.Name == Alive || r.Name == Ours })
}
