package version

import (
	"fmt"
	"strings"

	"dravit/internal/pattern"
)

// Grammar is the way in which a tool's manifest writes constraints.
type Grammar string

const (
	Stack    Grammar = "stack"    // Dravit's own: a prefix, or comparisons joined by commas
	Composer Grammar = "composer" // getcomposer.org, "Versions and constraints"
	NPM      Grammar = "npm"      // docs.npmjs.com, "semver"
	PEP440   Grammar = "pep440"   // PEP 440, and the carets and tildes of pyproject.toml's tools
	RubyGems Grammar = "rubygems" // guides.rubygems.org, "Patterns"
	Minimum  Grammar = "minimum"  // the number is the lowest that serves
	Pin      Grammar = "pin"      // files that name one version, or the beginning of one
)

// Read parses a constraint in the given grammar. A text that names no version of the runtime is an error.
func Read(g Grammar, text string) (Constraint, error) {
	text = strings.TrimSpace(text)
	if g == Stack {
		return ParseConstraint(text)
	}
	out, err := translate(g, text)
	if err == nil {
		var c Constraint
		if c, err = parseConstraint(out); err == nil {
			return c, nil
		}
	}
	return Constraint{}, fmt.Errorf("%q is not understood: %w", text, err)
}

// codenames are the names of Node.js' long-term releases.
var codenames = map[string]string{
	"argon":    "4",
	"boron":    "6",
	"carbon":   "8",
	"dubnium":  "10",
	"erbium":   "12",
	"fermium":  "14",
	"gallium":  "16",
	"hydrogen": "18",
	"iron":     "20",
	"jod":      "22",
	"krypton":  "24",
}

// translate returns a constraint in the grammar of the stack file.
func translate(g Grammar, text string) (string, error) {
	switch g {
	case Minimum:
		return ">=" + text, nil
	case NPM:
		if text == "" || text == "latest" {
			return "*", nil
		}
		return text, nil
	case Pin:
		return pin(text)
	}
	// Alternatives, each a list of demands that all have to hold.
	var either []string
	text = pattern.Of(`\s*\|\|?\s*`).ReplaceAllString(text, "|")
	for _, alternative := range strings.Split(text, "|") {
		if m := pattern.Of(`^(\S+)\s+-\s+(\S+)$`).FindStringSubmatch(alternative); m != nil {
			either = append(either, ">="+m[1]+", <="+m[2])
			continue
		}
		var all []string
		for _, m := range pattern.Of(`([~^<>=!]*)\s*v?(\d[\w.*+-]*|\*)(@\w+)?`).FindAllStringSubmatch(alternative, -1) {
			all = append(all, translated(g, m[1], m[2]))
		}
		if len(all) == 0 {
			return "", fmt.Errorf("it holds no version")
		}
		either = append(either, strings.Join(all, ", "))
	}
	return strings.Join(either, " || "), nil
}

// translated is one operator with its version.
func translated(g Grammar, operator, v string) string {
	v = strings.TrimSuffix(v, "-dev")
	numbers := strings.Split(v, ".")
	// The last number may grow, the one before it may not: ~8.2 is below 9, ~8.2.1 below 8.3.
	pessimistic := g == Composer && operator == "~" || g == PEP440 && operator == "~=" ||
		g == RubyGems && operator == "~>"
	switch {
	case pessimistic && len(numbers) <= 2:
		return "^" + strings.Join(append(numbers, "0")[:2], ".")
	case pessimistic:
		return "~" + strings.Join(numbers[:3], ".")
	case operator == "==" || operator == "===":
		return "=" + v
	}
	return operator + v
}

// pin parses the content of files like .node-version: one version, or several with spaces between, of which any is
// acceptable.
func pin(text string) (string, error) {
	var either []string
	for _, word := range strings.Fields(text) {
		word = strings.ToLower(word)
		if name, ok := strings.CutPrefix(word, "lts/"); ok && codenames[name] != "" {
			word = codenames[name]
		}
		m := pattern.Of(`^(?:ruby-|python-|php-|node-|v)?(\d+(?:\.\d+){0,2})(?:-?p\d+)?$`).FindStringSubmatch(word)
		switch {
		case m != nil:
			either = append(either, m[1])
		case word == "system" || word == "node" || word == "stable" || word == "current" || word == "lts/*":
			return "*", nil
		}
	}
	if len(either) == 0 {
		return "", fmt.Errorf("it names no release")
	}
	return strings.Join(either, " || "), nil
}
