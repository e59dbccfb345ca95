// Package layout holds the repository's Go files to lines and functions that fit a screen.
package layout

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A tab takes 4 columns. A function counts from its func to its closing brace.
const (
	maxColumns = 120
	maxLines   = 80
)

// columns returns the width of a line.
func columns(line string) int {
	n := 0
	for _, r := range line {
		if r == '\t' {
			n += 4 - n%4
		} else {
			n++
		}
	}
	return n
}

// faults returns the lines and functions of a Go file that are too long, each with its place.
func faults(name string, text []byte) ([]string, error) {
	var found []string
	for i, line := range strings.Split(string(text), "\n") {
		if n := columns(line); n > maxColumns {
			found = append(found, fmt.Sprintf("%s:%d has %d columns", name, i+1, n))
		}
	}
	files := token.NewFileSet()
	f, err := parser.ParseFile(files, name, text, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	for _, d := range f.Decls {
		fn, ok := d.(*ast.FuncDecl)
		if !ok {
			continue
		}
		first, last := files.Position(fn.Pos()), files.Position(fn.End())
		if n := last.Line - first.Line + 1; n > maxLines {
			found = append(found, fmt.Sprintf("%s: %s has %d lines", first, fn.Name.Name, n))
		}
	}
	return found, nil
}

func TestLinesAndFunctionsFitAScreen(t *testing.T) {
	read := 0
	var all []string
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(path) != ".go" {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		read++
		found, err := faults(path, text)
		all = append(all, found...)
		return err
	})
	require.NoError(t, err)
	assert.Empty(t, all)
	assert.Greater(t, read, 100, "the repository was read")
}

func TestFaults(t *testing.T) {
	long := "package x\n\n//" + strings.Repeat("-", 119) + "\nfunc f() {\n" + strings.Repeat("\tg()\n", 79) + "}\n"
	found, err := faults("x.go", []byte(long))
	require.NoError(t, err)
	assert.Equal(t, []string{"x.go:3 has 121 columns", "x.go:4:1: f has 81 lines"}, found)
	found, err = faults("x.go", []byte(strings.Replace(strings.Replace(long, "--", "-", 1), "\tg()\n", "", 1)))
	require.NoError(t, err)
	assert.Empty(t, found)
	assert.Equal(t, 5, columns("a\tb"))
}
