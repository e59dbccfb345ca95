package debian

import "strings"

// Relation is one alternative of what a package depends on (Debian Policy, section 7.1).
type Relation struct {
	Name     string
	Operator string // <<, <=, =, >=, >>; "": any version
	Version  string
}

// Allows reports whether a version meets the relation's condition.
func (r Relation) Allows(version string) bool {
	if r.Operator == "" {
		return true
	}
	c := Compare(version, r.Version)
	switch r.Operator {
	case "<<":
		return c < 0
	case "<=", "<":
		return c <= 0
	case "=":
		return c == 0
	case ">=", ">":
		return c >= 0
	}
	return c > 0
}

func (r Relation) String() string {
	if r.Operator == "" {
		return r.Name
	}
	return r.Name + " (" + r.Operator + " " + r.Version + ")"
}

// Relations reads a list such as "libc6 (>= 2.36), awk | mawk": each group is a list of alternatives.
func Relations(text string) [][]Relation {
	var all [][]Relation
	for group := range strings.SplitSeq(text, ",") {
		var alternatives []Relation
		for one := range strings.SplitSeq(group, "|") {
			if r := relation(one); r.Name != "" {
				alternatives = append(alternatives, r)
			}
		}
		if alternatives != nil {
			all = append(all, alternatives)
		}
	}
	return all
}

func relation(text string) Relation {
	name, condition, _ := strings.Cut(text, "(")
	name, _, _ = strings.Cut(name, "[") // architectures: an index has only those of its own
	name, _, _ = strings.Cut(strings.TrimSpace(name), ":")
	r := Relation{Name: strings.TrimSpace(name)}
	condition, _, _ = strings.Cut(condition, ")")
	condition = strings.TrimSpace(condition)
	if i := strings.IndexFunc(condition, func(c rune) bool { return c != '<' && c != '=' && c != '>' }); i > 0 {
		r.Operator, r.Version = condition[:i], strings.TrimSpace(condition[i:])
	}
	return r
}
