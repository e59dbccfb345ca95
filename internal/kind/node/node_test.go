package node

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// module compiles a native module of a package: an empty library with the symbols that real ones have.
func module(t *testing.T, project, pkg, source string) {
	t.Helper()
	dir := filepath.Join(project, "node_modules", pkg, "build", "Release")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	c := filepath.Join(t.TempDir(), "m.c")
	require.NoError(t, os.WriteFile(c, []byte(source), 0o644))
	out, err := exec.Command("gcc", "-shared", "-fPIC", "-o",
		filepath.Join(dir, filepath.Base(pkg)+".node"), c).CombinedOutput()
	require.NoError(t, err, string(out))
}

func TestScan(t *testing.T) {
	project := filepath.Join(t.TempDir(), "ferry [office]")
	module(t, project, "kelp", "void node_register_module_v93(void) {}")
	module(t, project, "@ferry/any", "void napi_register_module_v1(void) {}")
	module(t, project, "whelk", "void start(void) {}")
	require.NoError(t, os.WriteFile(filepath.Join(project, "node_modules/whelk/build/config.gypi"),
		[]byte("# Do not edit\n{ \"variables\": { \"node_module_version\": \"108\" } }"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(project, "node_modules/torn/build/Release"), 0o755))
	require.NoError(t,
		os.WriteFile(filepath.Join(project, "node_modules/torn/build/Release/torn.node"), []byte("no library"), 0o644))
	modules := node{}.Scan(project, stackfile.PartConfig{})
	built := map[string]string{}
	for _, m := range modules {
		built[m.Name] = m.Built + m.Fault
		assert.True(t, filepath.IsLocal(m.File), m.File)
	}
	assert.Equal(t, map[string]string{"kelp": "93", "any": "", "whelk": "108", "torn": "it is no compiled file"}, built)

	e := node{}.Extend(stackfile.PartConfig{},
		kind.Program{Version: "20.1.0", Facts: map[string]string{factABI: "108"}}, kind.NewLibrary(modules))
	require.Len(t, e.Unfit, 2)
	assert.Equal(t, "it was built for module ABI 93, and node 20.1.0 has 108", e.Unfit[0].Because)
	assert.Empty(t, node{}.Scan(t.TempDir(), stackfile.PartConfig{}))
}

func TestExplain(t *testing.T) {
	because, next := kind.Explain(symptoms(),
		"Error: The module '/p/kelp.node'\nwas compiled against a different Node.js version using\n"+
			"NODE_MODULE_VERSION 93. This version of Node.js requires\nNODE_MODULE_VERSION 115. Please try", "crew")
	assert.Equal(t, "the native module /p/kelp.node was built for module ABI 93, and this Node.js has 115", because)
	assert.Equal(t, "dravit run --part crew -- npm rebuild", next)
	because, _ = kind.Explain(symptoms(), "all is well", "crew")
	assert.Empty(t, because)
}

// The programs of the packages nearest to where the command works come first.
func TestFolders(t *testing.T) {
	p := kind.Part{Project: "/p", Conf: "/c", Want: stackfile.PartConfig{Command: "cd web && vite"}}
	assert.Equal(t, []string{"/c/bin", "/p/web/node_modules/.bin", "/p/node_modules/.bin"}, node{}.Folders(p))
	p.Want.Command = "vite"
	assert.Equal(t, []string{"/c/bin", "/p/node_modules/.bin"}, node{}.Folders(p))
}

// An error that the loader throws is of the program's text; one of a parser's is of what it was given.
func TestSyntaxErrorsOfTheLoaderOnly(t *testing.T) {
	because, _ := kind.Explain(symptoms(), "/p/tide.js:3\n\nSyntaxError: Unexpected end of input\n"+
		"    at wrapSafe (node:internal/modules/cjs/loader:1464:18)\n", "crew")
	assert.Equal(t, "the program has a syntax error: SyntaxError: Unexpected end of input", because)
	because, _ = kind.Explain(symptoms(), "SyntaxError: Unexpected token '<', \"<\" is not valid JSON\n"+
		"    at JSON.parse (<anonymous>)\n    at boats (/p/boats.js:4:6)\n", "crew")
	assert.NotContains(t, because, "syntax error:")
	because, _ = kind.Explain(symptoms(), "TypeError: fetch failed\n    at node:internal/deps/undici/undici:12637:11\n",
		"crew")
	assert.Contains(t, because, "another server failed")
	because, next := kind.Explain(symptoms(), "Error: MOOR_KEY is not set\n    at /p/app.js:3:9\n", "crew")
	assert.Equal(t, "the application wants the variable MOOR_KEY, and it is not set", because)
	assert.Contains(t, next, `MOOR_KEY = "VALUE"`)
	because, _ = kind.Explain(symptoms(), "Error: NODE_ENV is set to fog\n    at /p/app.js:3:9\n", "crew")
	assert.NotContains(t, because, "it is not set")
}
