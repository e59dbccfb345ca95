package kind

import "dravit/internal/stackfile"

// List is the kinds that a dravit program knows.
type List []Server

// Of returns the kind of that name, nil where there is none.
func (l List) Of(name string) Server {
	for _, k := range l {
		if k.Name() == name {
			return k
		}
	}
	return nil
}

// Pure returns the pure half of every kind, for the planner.
func (l List) Pure() map[string]Kind {
	all := map[string]Kind{}
	for _, k := range l {
		all[k.Name()] = k
	}
	return all
}

// Vocabulary says which keys each kind understands, for the stack file's reader.
func (l List) Vocabulary() stackfile.Vocabulary {
	words := stackfile.Vocabulary{}
	for _, k := range l {
		words[k.Name()] = k.Keys()
	}
	return words
}
