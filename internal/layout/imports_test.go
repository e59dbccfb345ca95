package layout

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// groups are the packages in the order in which data flows (docs/develop.md). A package imports packages of its own
// group and of earlier ones only. kind/* stands for each kind's own package.
var groups = [][]string{
	{ // leaves with one purpose
		"about", "account", "cause", "certificates", "confined", "debian", "debian/mirror", "directives", "dump",
		"fastcgi", "home",
		"launch", "ledger", "leg", "lifecycle", "locale", "logfile", "members", "objfile", "patient", "pattern",
		"phpcode", "proc", "requests", "resolver", "self", "setting", "settings", "shell", "sqltext", "suffix",
		"trouble",
		"version", "webrules",
	},
	{"stackfile"},
	{"kind"},
	{"data", "environment", "health", "project", "run", "setup", "supervise", "supply", "supply/fetch",
		"supply/packed", "supply/registry", "supply/repository", "survey", "task", "tool"},
	{"kind/*", "plan"},
	{"propose", "extensions", "materialise"},
	{"kind/all", "diagnose", "gateway"},
	{"keeper", "examine", "trace", "databases"},
	{"stack"},
	{"starting", "report", "ui"},
	{"cli"},
}

// libraries are the packages of others that the program contains. Each is paid for at every command, and by whoever
// builds it: it is here because its field is not the heart of the job, and everybody knows it.
var libraries = []string{
	"github.com/ProtonMail/go-crypto", "github.com/alicebob/miniredis/v2", "github.com/bradfitz/gomemcache",
	"github.com/charmbracelet/x/ansi", "github.com/ebitengine/purego", "github.com/emersion/go-smtp",
	"github.com/go-sql-driver/mysql", "github.com/jackc/pgx/v5", "github.com/klauspost/compress",
	"github.com/pelletier/go-toml/v2", "github.com/shirou/gopsutil/v4", "github.com/spf13/cobra",
	"github.com/ulikunitz/xz", "golang.org/x/net", "golang.org/x/sync", "golang.org/x/sys", "golang.org/x/term",
	"modernc.org/sqlite",
}

// pure packages compute: they look at no file, no clock and no network.
var pure = []string{"plan", "diagnose"}

// impure are what such a package may not import.
var impure = []string{"os", "os/exec", "net/http", "io/fs", "syscall", "golang.org/x/sys/unix"}

// showing are packages that show values of the core, and do not talk to the keeper.
var showing = []string{"ui", "report"}

// groupOf returns the index of a package's group, or -1.
func groupOf(name string) int {
	i := slices.IndexFunc(groups, func(g []string) bool { return slices.Contains(g, name) })
	if i < 0 && strings.HasPrefix(name, "kind/") {
		return groupOf("kind/*")
	}
	return i
}

// imports returns what the packages below a folder import without their tests, by package.
func imports(t *testing.T, root string) map[string][]string {
	t.Helper()
	found := map[string][]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		name, err := filepath.Rel(root, filepath.Dir(path))
		for _, x := range f.Imports {
			text, _ := strconv.Unquote(x.Path.Value) // the parser has read it
			found[name] = append(found[name], text)
		}
		return err
	}))
	return found
}

// The arrows between packages point one way, as docs/develop.md draws them.
func TestImportsFlowOneWay(t *testing.T) {
	for name, all := range imports(t, "..") {
		if name == "layout" {
			continue
		}
		own := groupOf(name)
		assert.GreaterOrEqual(t, own, 0, "%s is in no group", name)
		for _, x := range all {
			if other, ours := strings.CutPrefix(x, "dravit/internal/"); ours {
				assert.LessOrEqual(t, groupOf(other), own, "%s imports %s", name, other)
			}
		}
	}
}

// Who decides computes from values alone, so that it can be tested with machines that nobody has.
func TestDecisionsArePure(t *testing.T) {
	all := imports(t, "..")
	for _, name := range pure {
		require.NotEmpty(t, all[name])
		for _, x := range all[name] {
			assert.NotContains(t, impure, x, "%s imports %s", name, x)
		}
	}
}

func TestWhoShowsDoesNotAskTheKeeper(t *testing.T) {
	all := imports(t, "..")
	for _, name := range showing {
		require.NotEmpty(t, all[name])
		assert.NotContains(t, all[name], "dravit/internal/keeper", name)
	}
}

// The program contains the libraries of the list, and no more.
func TestLibraries(t *testing.T) {
	used := map[string]bool{}
	for name, all := range imports(t, "..") {
		for _, x := range all {
			first, _, _ := strings.Cut(x, "/")
			if !strings.Contains(first, ".") {
				continue
			}
			i := slices.IndexFunc(libraries, func(l string) bool { return x == l || strings.HasPrefix(x, l+"/") })
			if assert.GreaterOrEqual(t, i, 0, "%s imports %s, which is not in the list", name, x) {
				used[libraries[i]] = true
			}
		}
	}
	assert.Len(t, used, len(libraries), "a library of the list is not used")
}
