package layout

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// builtins are the names of Go's own functions that a variable should not have.
var builtins = []string{"append", "cap", "clear", "close", "copy", "delete", "len", "make", "max", "min", "new",
	"panic", "print", "println", "real", "recover", "any", "error",
	"string", "byte", "rune", "true", "false", "nil", "iota"}

// hides returns the variables of a file that have the name of a builtin or of one of the file's imports.
func hides(name string, text []byte) ([]string, error) {
	files := token.NewFileSet()
	f, err := parser.ParseFile(files, name, text, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	taken := map[string]string{}
	for _, b := range builtins {
		taken[b] = "a builtin"
	}
	for _, x := range f.Imports {
		path, _ := strconv.Unquote(x.Path.Value) // the parser has read it
		called := filepath.Base(path)
		if x.Name != nil {
			called = x.Name.Name
		}
		taken[called] = "the import " + path
	}
	var found []string
	note := func(id *ast.Ident) {
		if of := taken[id.Name]; of != "" && id.Name != "_" {
			found = append(found, fmt.Sprintf("%s: %s hides %s", files.Position(id.Pos()), id.Name, of))
		}
	}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.AssignStmt:
			for _, left := range n.Lhs {
				if id, ok := left.(*ast.Ident); ok && n.Tok == token.DEFINE {
					note(id)
				}
			}
		case *ast.RangeStmt:
			for _, left := range []ast.Expr{n.Key, n.Value} {
				if id, ok := left.(*ast.Ident); ok && n.Tok == token.DEFINE {
					note(id)
				}
			}
		case *ast.ValueSpec:
			for _, id := range n.Names {
				note(id)
			}
		case *ast.FuncDecl:
			noteFields(n.Type, note)
		case *ast.FuncLit:
			noteFields(n.Type, note)
		}
		return true
	})
	return found, nil
}

// noteFields calls note for the parameters and results of a function with a body.
func noteFields(f *ast.FuncType, note func(*ast.Ident)) {
	for _, list := range []*ast.FieldList{f.Params, f.Results} {
		if list == nil {
			continue
		}
		for _, field := range list.List {
			for _, id := range field.Names {
				note(id)
			}
		}
	}
}

// A name means one thing in a file: no variable hides a builtin or an import.
func TestNothingIsHidden(t *testing.T) {
	var found []string
	require.NoError(t, filepath.WalkDir("../..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		more, err := hides(path, text)
		found = append(found, more...)
		return err
	}))
	assert.Empty(t, found)

	own, err := hides("x.go", []byte("package x\nimport \"net/http\"\n"+
		"func f(len int) { http := 1; for cap := range http {} }"))
	require.NoError(t, err)
	assert.Len(t, own, 3)
}
