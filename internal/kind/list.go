package kind

import (
	"slices"

	"dravit/internal/stackfile"
)

// List is the kinds that a dravit program knows.
type List []Kind

// Of returns the kind of that name, or nil if there is none.
func (l List) Of(name string) Kind {
	for _, k := range l {
		if k.Traits().Name == name {
			return k
		}
	}
	return nil
}

// ByName returns every kind under its name.
func (l List) ByName() map[string]Kind {
	all := map[string]Kind{}
	for _, k := range l {
		all[k.Traits().Name] = k
	}
	return all
}

// TraitsOf returns the traits of the kind of that name, or zero traits if there is none: a newer Dravit may have
// written the name.
func (l List) TraitsOf(name string) *Traits {
	if k := l.Of(name); k != nil {
		return k.Traits()
	}
	return &Traits{}
}

// Vocabulary returns which words of the stack file each kind understands.
func (l List) Vocabulary() stackfile.Vocabulary {
	words := stackfile.Vocabulary{}
	for _, k := range l {
		t := k.Traits()
		fields := slices.Clone(t.Fields)
		for _, p := range k.Needs(stackfile.PartConfig{}).More {
			fields = append(fields, p.Field())
		}
		words[t.Name] = stackfile.Words{Keys: t.Keys, Fields: fields}
	}
	return words
}
