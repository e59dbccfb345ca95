package propose

import (
	"slices"
	"strings"

	"dravit/internal/kind"
)

// signs is what the kinds say about the signs of themselves, turned around: by what is found in a project.
type signs struct {
	all                                kind.List
	kinds                              []*kind.Traits    // those that are proposed
	packages, names, extensions, calls map[string]string // the kind that each means
	hosts                              map[string]string // the kind that a word of a variable for its host means
	// variables are words in a variable's name that stand for a store, by the name of its part.
	variables map[string]string
	// languages are the runtimes that run a project's code: those of pages first.
	languages []*kind.Traits
}

// code returns how code of a runtime is told and run; of another kind nothing is known.
func (s *signs) code(kindName string) *kind.Code {
	if c := s.all.TraitsOf(kindName).Code; c != nil {
		return c
	}
	return &kind.Code{}
}

// languageOf returns the runtime of pages with that ending.
func (s *signs) languageOf(ending string) (*kind.Traits, bool) {
	i := slices.IndexFunc(s.languages, func(t *kind.Traits) bool { return t.Code.Pages == ending })
	if ending == "" || i < 0 {
		return nil, false
	}
	return s.languages[i], true
}

// readSigns asks the kinds.
func readSigns(kinds kind.List) *signs {
	s := &signs{all: kinds, packages: map[string]string{}, names: map[string]string{}, extensions: map[string]string{},
		calls: map[string]string{}, hosts: map[string]string{}, variables: map[string]string{}}
	for _, k := range kinds {
		t := k.Traits()
		if t.Code != nil {
			s.languages = append(s.languages, t)
		}
		if t.Signs.Part == "" {
			continue
		}
		s.kinds = append(s.kinds, t)
		for into, words := range map[*map[string]string][]string{&s.packages: t.Signs.Packages,
			&s.names: t.Signs.Names, &s.extensions: t.Signs.Extensions, &s.calls: t.Signs.Calls} {
			for _, word := range words {
				(*into)[word] = t.Name
			}
		}
		for _, word := range t.Signs.Variables {
			s.variables[word] = t.Signs.Part
			if !t.Databases { // a database is named in many variables that an application does not use
				s.hosts[strings.ToLower(word)] = t.Name
			}
		}
		for _, word := range rolesWords[t.Role] {
			s.variables[word] = t.Signs.Part
		}
	}
	slices.SortStableFunc(s.languages, func(a, b *kind.Traits) int {
		return strings.Compare(b.Code.Pages, a.Code.Pages)
	})
	return s
}

// rolesWords are words in a variable's name that stand for the only store of a sort.
var rolesWords = map[kind.Role][]string{kind.RoleDatabase: {"DB", "DATABASE", "SQL"}}

// databases are the kinds of SQL databases. They exclude each other: an application that knows several uses one.
func (s *signs) databases() []string {
	var all []string
	for _, t := range s.kinds {
		if t.Databases {
			all = append(all, t.Name)
		}
	}
	return all
}

// parts are the names of the parts of stores.
func (s *signs) parts() []string {
	var all []string
	for _, t := range s.kinds {
		all = append(all, t.Signs.Part)
	}
	return all
}

// beside are words in the names of images that go with a server, and are none.
var beside = []string{"exporter", "commander", "admin", "insight", "express", "backup", "ui", "client"}

// named returns the kind that a word in configuration means, or "". An image may add to the name: redis-stack.
func (s *signs) named(word string) string {
	word = strings.ToLower(word)
	if k := s.names[word]; k != "" {
		return k
	}
	first, rest, more := strings.Cut(word, "-")
	if !more {
		return ""
	}
	for part := range strings.SplitSeq(rest, "-") {
		if slices.Contains(beside, part) {
			return ""
		}
	}
	return s.names[first]
}
