// Package version reads the versions that programs print and the constraints of a stack file.
package version

import (
	"fmt"
	"strings"

	"dravit/internal/pattern"

	"github.com/Masterminds/semver/v3"
)

var leading = pattern.New(`^v?(\d+(?:\.\d+){0,2})[\d.]*(?:[-~]?(alpha|beta|rc)\.?(\d*))?`)

// Parse reads a program's leading dotted numbers: 10.11.19-MariaDB-0+deb12u1 is 10.11.19. An alpha, beta or rc mark is
// kept as a pre-release; whatever else follows is the packager's and does not count.
func Parse(text string) (*semver.Version, error) {
	m := leading().FindStringSubmatch(strings.ToLower(strings.TrimSpace(text)))
	if m == nil {
		return nil, fmt.Errorf("%q does not begin with a version number", text)
	}
	number := m[1]
	if m[2] != "" {
		for strings.Count(number, ".") < 2 {
			number += ".0"
		}
		number += strings.TrimSuffix("-"+m[2]+"."+m[3], ".")
	}
	return semver.NewVersion(number)
}

// Constraint is what a stack file demands of a version: a prefix (8.2) or comparisons joined by commas (>= 8.1, < 8.4).
type Constraint struct{ semver *semver.Constraints }

// ParseConstraint reads a constraint. The empty text allows every release.
func ParseConstraint(text string) (Constraint, error) {
	if strings.TrimSpace(text) == "" {
		text = "*"
	}
	c, err := semver.NewConstraint(text)
	if err != nil {
		return Constraint{}, fmt.Errorf("%q is not a version constraint, which is a prefix (8.2) or comparisons (>= 8.1, < 8.4)", text)
	}
	return Constraint{c}, nil
}

// Allows tells whether a version satisfies the constraint. Pre-releases satisfy it only where it names one.
func (c Constraint) Allows(version string) bool {
	v, err := Parse(version)
	return err == nil && c.semver.Check(v)
}

// Compare orders two versions: -1, 0 or 1. What is no version comes first.
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
