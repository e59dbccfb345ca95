// Package pattern compiles regular expressions when they are first used: compiling all of them would take a tenth of a
// short command's time.
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

// Literal returns a path as a shell pattern (path.Match, glob(7)) that matches only this path. It puts wildcards into
// brackets, as not every reader accepts a backslash before them.
func Literal(path string) string {
	if !strings.ContainsAny(path, `*?[`) {
		return path
	}
	return strings.NewReplacer(`\`, `\\`, `*`, `[*]`, `?`, `[?]`, `[`, `[[]`).Replace(path)
}

var compiled sync.Map

// Of returns the compiled form of an expression that is known only at run time.
func Of(text string) *regexp.Regexp {
	if re, ok := compiled.Load(text); ok {
		return re.(*regexp.Regexp)
	}
	re := regexp.MustCompile(text)
	compiled.Store(text, re)
	return re
}
