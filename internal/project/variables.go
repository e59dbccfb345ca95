package project

import (
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/confined"
	"dravit/internal/pattern"
)

// Variable is a line of one of the project's own files of variables.
type Variable struct {
	File  string // relative to the project
	Line  int
	Name  string
	Value string // without quotes
}

// samples are endings of files that show what could stand in another one.
var samples = []string{"example", "sample", "dist", "template", "tmpl", "defaults", "test", "testing", "ci"}

// variableLine matches a line of a file of variables.
var variableLine = pattern.New(`^\s*(?:export\s+)?([A-Za-z_][A-Za-z0-9_.]*)\s*=\s*(.*?)\s*$`)

// mostVariables bounds how many lines are returned.
const mostVariables = 2000

// Variables returns the lines of the files of variables (.env, .env.local and the like) in the project's folder and in
// those just below it. Samples are left out. It opens regular files only and follows no link.
func Variables(dir string) []Variable {
	var out []Variable
	_ = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return filepath.SkipDir
		}
		file, _ := filepath.Rel(dir, path) // it is below
		if e.IsDir() {
			deep := strings.Count(file, string(filepath.Separator)) >= 2
			if path != dir && (deep || slices.Contains(packages, e.Name()) || strings.HasPrefix(e.Name(), ".")) {
				return filepath.SkipDir
			}
			return nil
		}
		name := e.Name()
		if name != ".env" && !strings.HasPrefix(name, ".env.") || slices.Contains(samples, filepath.Ext(name)[1:]) {
			return nil
		}
		text, err := confined.ReadFile(dir, file, longestConfig)
		if err != nil {
			return nil
		}
		for i, line := range strings.Split(string(text), "\n") {
			if m := variableLine().FindStringSubmatch(line); m != nil && len(out) < mostVariables {
				out = append(out, Variable{file, i + 1, m[1], unquoted(m[2])})
			}
		}
		return nil
	})
	return out
}

// unquoted returns a value without its quotes, or without the comment after it.
func unquoted(value string) string {
	if len(value) > 1 && (value[0] == '"' || value[0] == '\'') {
		if end := strings.IndexByte(value[1:], value[0]); end >= 0 {
			return value[1 : end+1]
		}
	}
	value, _, _ = strings.Cut(value, " #")
	return strings.TrimSpace(value)
}
