package version

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"dravit/internal/pattern"
)

// Constraint is a condition on a version. The zero Constraint allows none.
type Constraint struct {
	alternatives [][]comparator // one has to hold, with all of its comparators
}

// comparator compares a version with one whose last numbers may be missing.
type comparator struct {
	operator string // "" = != > < >= <= ~ ^
	version  Version
	numbers  int // how many numbers were given; 0: any version
}

var (
	// One comparison: an operator, numbers (a missing one, x or * stands for any), and a pre-release.
	comparison = pattern.New(`^(=>|>=|=<|<=|!=|~>|[=><~^])?\s*v?(\d+|[xX*])(?:\.(\d+|[xX*]))?(?:\.(\d+|[xX*]))?` +
		`(?:-([0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*))?(?:\+[0-9A-Za-z.-]+)?$`)
	spaced = pattern.New(`(=>|>=|=<|<=|!=|~>|[=><~^])\s+`)        // an operator with a space before its version
	hyphen = pattern.New(`(\S+)\s+-\s+(\S+)`)                     // a range: 8.1 - 8.3
	commas = pattern.New(`\s*,\s*|\s+`)                           // what separates comparisons that all have to hold
	same   = map[string]string{"=>": ">=", "=<": "<=", "~>": "~"} // operators with two spellings
)

// parseConstraint reads comparisons that are joined by commas or spaces, in alternatives that are joined by ||.
func parseConstraint(text string) (Constraint, error) {
	var c Constraint
	for _, alternative := range strings.Split(text, "||") {
		alternative = hyphen().ReplaceAllString(strings.TrimSpace(alternative), ">=$1,<=$2")
		alternative = spaced().ReplaceAllString(alternative, "$1")
		var all []comparator
		for _, word := range commas().Split(alternative, -1) {
			x, err := parseComparator(word)
			if err != nil {
				return Constraint{}, err
			}
			all = append(all, x)
		}
		c.alternatives = append(c.alternatives, all)
	}
	return c, nil
}

func parseComparator(word string) (comparator, error) {
	m := comparison().FindStringSubmatch(word)
	if m == nil {
		return comparator{}, fmt.Errorf("%q compares with something that is no version", word)
	}
	c := comparator{operator: m[1], numbers: 3}
	if other, ok := same[c.operator]; ok {
		c.operator = other
	}
	for i, number := range m[2:5] {
		if number == "" || strings.ContainsAny(number, "xX*") { // what follows an x means nothing
			c.numbers = i
			break
		}
		n, err := parseNumber(number)
		if err != nil {
			return c, err
		}
		c.version.numbers[i] = n
	}
	c.version.pre = m[5]
	return c, nil
}

// Allows reports whether a version satisfies the constraint. A pre-release satisfies
// it only if it names one.
func (c Constraint) Allows(version string) bool {
	v, err := Parse(version)
	return err == nil && slices.ContainsFunc(c.alternatives, func(all []comparator) bool {
		namesPre := slices.ContainsFunc(all, func(x comparator) bool { return x.version.pre != "" })
		refuses := func(x comparator) bool { return !x.allows(v) }
		return (v.pre == "" || namesPre) && !slices.ContainsFunc(all, refuses)
	})
}

// allows compares only the numbers that were given: > 8.1 is 8.2 and above, <= 8.3 is below 8.4, 8.2 is any 8.2.
func (c comparator) allows(v Version) bool {
	given := slices.Compare(v.numbers[:c.numbers], c.version.numbers[:c.numbers])
	if c.numbers == len(v.numbers) { // then a pre-release counts, too
		given = v.Compare(c.version)
	}
	switch c.operator {
	case "", "=":
		return given == 0 && v.Compare(c.version) >= 0
	case "!=":
		return given != 0
	case ">":
		return given > 0
	case "<":
		return v.Compare(c.version) < 0
	case ">=":
		return v.Compare(c.version) >= 0
	case "<=":
		return given <= 0
	}
	fixed := min(2, c.numbers) // ~: the last number may grow
	if c.operator == "^" {
		fixed = c.leading()
	}
	return v.Compare(c.version) >= 0 && slices.Equal(v.numbers[:fixed], c.version.numbers[:fixed])
}

// leading returns how many numbers ^ fixes: up to the first that is not zero.
func (c comparator) leading() int {
	for i, n := range c.version.numbers[:c.numbers] {
		if n != 0 {
			return i + 1
		}
	}
	return c.numbers
}

var errTooLarge = errors.New("a number of the version is too large")
