// Package pattern compiles regular expressions when they are first used: compiling them all would be a tenth of a short
// command's time.
package pattern

import (
	"regexp"
	"strings"
	"sync"
)

// New returns a function that returns the compiled expression. A bad expression panics at its first use.
func New(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}

// Literal writes a path so that a shell pattern (path.Match, glob(7)) takes it as it is. A path without anything that
// means something there stays what it is. Not every reader takes a backslash before a wildcard, but all take a class of
// one.
func Literal(path string) string {
	if !strings.ContainsAny(path, `*?[`) {
		return path
	}
	return strings.NewReplacer(`\`, `\\`, `*`, `[*]`, `?`, `[?]`, `[`, `[[]`).Replace(path)
}

var compiled sync.Map

// Of returns the compiled form of an expression that is not known beforehand, as those in struct tags.
func Of(text string) *regexp.Regexp {
	if re, ok := compiled.Load(text); ok {
		return re.(*regexp.Regexp)
	}
	re := regexp.MustCompile(text)
	compiled.Store(text, re)
	return re
}
