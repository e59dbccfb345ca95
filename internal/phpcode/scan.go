// Package phpcode reads PHP source token by token, without running it, and says what the code calls, checks for and
// defines, and which extension has a name.
package phpcode

import (
	_ "embed"
	"slices"
	"strings"
	"sync"
)

// Symbol is a name in the source, and its line.
type Symbol struct {
	Name string
	Line int
}

// Source is what one file of PHP says.
type Source struct {
	// Functions, Classes and Constants are what the code uses, as global names in lower case (constants as written).
	Functions, Classes, Constants []Symbol
	// Checked are the names of functions, classes, constants and extensions that the code checks for before it uses
	// them, in lower case.
	Checked []string
	// Defined are the global functions and classes that the file itself defines, in lower case.
	Defined []string
	// Databases are the beginnings of PDO's data source names: mysql, pgsql, sqlite.
	Databases []Symbol
	// Variables are the environment's variables that the code reads.
	Variables []Symbol
}

// Scan reads the text of a file.
func Scan(src []byte) Source {
	s := &scanner{lexer: lexer{src: src, line: 1, html: true}, imports: map[string]string{}}
	s.now, s.after = s.next(), token{}
	s.after = s.next()
	for s.now.sort != end {
		s.step()
		s.before, s.now = s.now, s.after
		s.after = s.next()
	}
	return s.Source
}

// scanner sees three tokens at a time.
type scanner struct {
	lexer
	Source
	before, now, after token
	namespace          string
	imports            map[string]string // the full names of classes, by their short ones in lower case
	imported           string            // the one that was imported last
	depth              int               // of braces
	bodies             []int             // the depths of the bodies of classes around this token
	classAhead         bool              // the next brace opens the body of a class
	checks             bool              // the next string is the name of what is checked for
	reads              bool              // the next string is the name of a variable
}

// checkers are the functions that tell whether something is there.
var checkers = []string{
	"function_exists",
	"class_exists",
	"interface_exists",
	"extension_loaded",
	"defined",
	"is_callable",
}

// keywords are what looks like a call and is none.
var keywords = strings.Fields(
	"if elseif while for foreach switch match catch array list isset unset empty exit die echo " +
		"print include include_once require require_once return and or xor function fn declare static self " +
		"parent use new",
)

func (s *scanner) step() {
	switch s.now.sort {
	case sign:
		s.sign()
	case text:
		if s.checks {
			s.Checked = append(s.Checked, strings.ToLower(strings.TrimLeft(s.now.text, `\`)))
		}
		if s.reads {
			s.Variables = append(s.Variables, Symbol{s.now.text, s.now.line})
		}
		s.checks, s.reads = false, false
		for _, driver := range []string{"mysql", "pgsql", "sqlite"} {
			if strings.HasPrefix(s.now.text, driver+":") {
				s.Databases = append(s.Databases, Symbol{driver, s.now.line})
			}
		}
	case variable:
		s.reads = s.now.text == "$_ENV" && s.after.text == "["
		s.checks = false
	case word:
		s.word()
	}
}

func (s *scanner) sign() {
	switch s.now.text {
	case "{":
		s.depth++
		if s.classAhead {
			s.bodies, s.classAhead = append(s.bodies, s.depth), false
		}
	case "}":
		if n := len(s.bodies); n > 0 && s.bodies[n-1] == s.depth {
			s.bodies = s.bodies[:n-1]
		}
		s.depth--
	case "(", "[":
		return // a string may follow
	}
	s.checks, s.reads = false, false
}

// word handles a name by what stands before and after it.
func (s *scanner) word() {
	name, lower := s.now.text, strings.ToLower(s.now.text)
	before := ""
	if s.before.sort == word || s.before.sort == sign {
		before = strings.ToLower(s.before.text)
	}
	s.checks, s.reads = false, false
	switch {
	case before == "->" || before == "?->" || before == "::":
	case before == "namespace":
		s.namespace = lower
	case before == "use" && len(s.bodies) == 0:
		s.imported = strings.TrimLeft(lower, `\`)
		s.imports[lower[strings.LastIndexByte(lower, '\\')+1:]] = s.imported
	case before == "as" && s.after.text == ";": // use Tide\Table as Sailings
		s.imports[lower] = s.imported
	case before == "function":
		if len(s.bodies) == 0 && s.namespace == "" {
			s.Defined = append(s.Defined, lower)
		}
	case before == "class" || before == "interface" || before == "trait" || before == "enum":
		s.classAhead = true
		if s.namespace == "" {
			s.Defined = append(s.Defined, lower)
		}
	case lower == "class" && before == "new": // without a name
		s.classAhead = true
	case slices.Contains(keywords, lower):
	case before == "new" || before == "instanceof" || before == "extends" || s.after.text == "::":
		if class, ok := s.global(lower); ok {
			s.Classes = append(s.Classes, Symbol{class, s.now.line})
		}
	case s.after.text == "(" && !strings.Contains(strings.TrimPrefix(lower, `\`), `\`):
		lower = strings.TrimPrefix(lower, `\`)
		s.Functions = append(s.Functions, Symbol{lower, s.now.line})
		s.checks, s.reads = slices.Contains(checkers, lower), lower == "getenv" || lower == "env"
	case name == strings.ToUpper(name) && s.after.text != "=":
		s.Constants = append(s.Constants, Symbol{strings.TrimPrefix(name, `\`), s.now.line})
	}
}

// global returns the global name of a class, and whether it has one.
func (s *scanner) global(lower string) (string, bool) {
	if full, ok := strings.CutPrefix(lower, `\`); ok {
		return full, true
	}
	if full, ok := s.imports[lower]; ok {
		return full, true
	}
	return lower, s.namespace == "" && !strings.Contains(lower, `\`)
}

//go:embed extensions.txt
var extensionsText string

// table has the extension of each function and class in lower case, and of each constant as written.
var table = sync.OnceValue(func() map[string]map[string]string {
	all := map[string]map[string]string{"functions": {}, "classes": {}, "constants": {}}
	for line := range strings.Lines(extensionsText) {
		f := strings.Fields(line)
		if len(f) < 3 || f[0] == "#" {
			continue
		}
		for _, name := range f[2:] {
			if f[1] != "constants" {
				name = strings.ToLower(name)
			}
			all[f[1]][name] = f[0]
		}
	}
	return all
})

// OfFunction, OfClass and OfConstant return the extension that has a name, or "" if PHP itself has it or nothing does.
func OfFunction(name string) string { return table()["functions"][name] }
func OfClass(name string) string    { return table()["classes"][name] }
func OfConstant(name string) string { return table()["constants"][name] }
