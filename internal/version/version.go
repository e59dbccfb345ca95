// Package version parses the versions that programs print, and the constraints of stack files and manifests.
package version

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/pattern"
)

// Version is a program's version: three numbers, and the mark of a pre-release.
type Version struct {
	numbers [3]uint64
	pre     string // alpha.1, beta.2, rc.3; "": a release
}

var leading = pattern.New(`^v?(\d+)(?:\.(\d+))?(?:\.(\d+))?[\d.]*(?:[-~]?(alpha|beta|rc)\.?(\d*))?`)

// Parse parses the leading dotted numbers of a text: 10.11.19-MariaDB-0+deb12u1 is 10.11.19. It keeps an alpha, beta or
// rc mark as a pre-release, and ignores whatever else follows.
func Parse(text string) (Version, error) {
	var v Version
	m := leading().FindStringSubmatch(strings.ToLower(strings.TrimSpace(text)))
	if m == nil {
		return v, fmt.Errorf("%q does not begin with a version number", text)
	}
	for i, number := range m[1:4] {
		if number == "" {
			break
		}
		n, err := parseNumber(number)
		if err != nil {
			return v, fmt.Errorf("%q: %w", text, err)
		}
		v.numbers[i] = n
	}
	if m[4] != "" {
		v.pre = strings.TrimSuffix(m[4]+"."+m[5], ".")
	}
	return v, nil
}

func parseNumber(digits string) (uint64, error) {
	n, err := strconv.ParseUint(digits, 10, 64)
	if err != nil {
		return 0, errTooLarge
	}
	return n, nil
}

// String returns the three numbers and the pre-release: 8.4.0-rc.2.
func (v Version) String() string {
	text := fmt.Sprintf("%d.%d.%d", v.numbers[0], v.numbers[1], v.numbers[2])
	if v.pre != "" {
		text += "-" + v.pre
	}
	return text
}

// Major returns the first number.
func (v Version) Major() uint64 { return v.numbers[0] }

// Compare orders two versions: -1, 0 or 1. A pre-release comes before its release (semver.org, 11).
func (v Version) Compare(other Version) int {
	numbers := slices.Compare(v.numbers[:], other.numbers[:])
	switch {
	case numbers != 0 || v.pre == other.pre:
		return numbers
	case v.pre == "":
		return 1
	case other.pre == "":
		return -1
	}
	return slices.CompareFunc(strings.Split(v.pre, "."), strings.Split(other.pre, "."), compareIdentifiers)
}

// compareIdentifiers orders two parts of a pre-release: numbers by their value, and before words.
func compareIdentifiers(a, b string) int {
	x, errA := strconv.ParseUint(a, 10, 64)
	y, errB := strconv.ParseUint(b, 10, 64)
	switch {
	case errA == nil && errB == nil:
		return cmp.Compare(x, y)
	case errA == nil:
		return -1
	case errB == nil:
		return 1
	}
	return strings.Compare(a, b)
}

// ParseConstraint parses what a stack file demands of a version: a prefix (8.2), or comparisons with commas between (>=
// 8.1, < 8.4). The empty text allows every release.
func ParseConstraint(text string) (Constraint, error) {
	if strings.TrimSpace(text) == "" {
		text = "*"
	}
	c, err := parseConstraint(text)
	if err != nil {
		return Constraint{}, fmt.Errorf(
			"%q is not a version constraint, which is a prefix (8.2) or comparisons (>= 8.1, < 8.4)", text)
	}
	return c, nil
}

// Compare orders two versions as programs print them: -1, 0 or 1. What is no version comes first.
func Compare(a, b string) int {
	va, errA := Parse(a)
	vb, errB := Parse(b)
	switch {
	case errA != nil && errB != nil:
		return strings.Compare(a, b)
	case errA != nil:
		return -1
	case errB != nil:
		return 1
	}
	return va.Compare(vb)
}
