// Package about names what a decision, a fault, a check or a cause is about.
package about

import "strings"

// Subject is a thing of a stack, or an aspect of one: the part app, the version of the part app, the gateway. As text,
// and as JSON, it is its path in the stack file: part.app.version. Subjects can be compared with ==.
type Subject struct {
	sort, name, aspect string
}

// The things of which there is one.
var (
	Nothing = Subject{}
	Machine = Subject{sort: "machine"}
	Gateway = Subject{sort: "gateway"}
	Stack   = Subject{sort: "name"}
	Dotenv  = Subject{sort: "dotenv"}
)

// Part returns the part of that name.
func Part(name string) Subject { return Subject{"part", name, ""} }

// Site returns the site of that name.
func Site(name string) Subject { return Subject{"site", name, ""} }

// Task returns the task of that name.
func Task(name string) Subject { return Subject{"task", name, ""} }

// Required returns the program of that name which the stack file requires.
func Required(name string) Subject { return Subject{"requires", name, ""} }

// Parse reads what String returns. A name with a dot in it is not told from an aspect.
func Parse(text string) Subject {
	sort, rest, _ := strings.Cut(text, ".")
	name, aspect, _ := strings.Cut(rest, ".")
	return Subject{sort, name, aspect}
}

// At returns an aspect of the subject, such as version, or an aspect of the aspect.
func (s Subject) At(aspect string) Subject {
	if s.name == "" { // there is one of its sort
		return Subject{s.sort, aspect, ""}
	}
	if s.aspect != "" {
		aspect = s.aspect + "." + aspect
	}
	s.aspect = aspect
	return s
}

// Thing returns what the subject is an aspect of.
func (s Subject) Thing() Subject { return Subject{s.sort, s.name, ""} }

// Aspect returns which aspect of its thing the subject is, or "" for the thing as a whole.
func (s Subject) Aspect() string { return s.aspect }

// In reports whether the subject is the other one, or an aspect of it.
func (s Subject) In(other Subject) bool {
	return s == other || strings.HasPrefix(s.String(), other.String()+".")
}

// PartName returns the name of the part that the subject is, or is an aspect of; false if it is none.
func (s Subject) PartName() (string, bool) { return s.name, s.sort == "part" }

// SiteName returns the name of the site that the subject is, or is an aspect of; false if it is none.
func (s Subject) SiteName() (string, bool) { return s.name, s.sort == "site" }

// TaskName returns the name of the task that the subject is, or is an aspect of; false if it is none.
func (s Subject) TaskName() (string, bool) { return s.name, s.sort == "task" }

// RequiredName returns the name of the required program that the subject is; false if it is none.
func (s Subject) RequiredName() (string, bool) { return s.name, s.sort == "requires" }

// String returns the path.
func (s Subject) String() string {
	text := s.sort
	for _, step := range []string{s.name, s.aspect} {
		if step != "" {
			text += "." + step
		}
	}
	return text
}

// MarshalText implements encoding.TextMarshaler.
func (s Subject) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (s *Subject) UnmarshalText(text []byte) error { *s = Parse(string(text)); return nil }

// Compare orders subjects by their paths.
func Compare(a, b Subject) int { return strings.Compare(a.String(), b.String()) }
