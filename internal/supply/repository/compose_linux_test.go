package repository

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/debian"
	"dravit/internal/kind"
	"dravit/internal/supply"
)

// machinePackage packs a program of this machine with its loader and the libraries that it needs.
func machinePackage(t *testing.T, program, as string, more ...item) []byte {
	t.Helper()
	said, err := exec.Command("ldd", program).Output()
	require.NoError(t, err)
	items := append([]item{{Name: "./" + as, Text: read(t, program), Mode: 0o755}}, more...)
	for _, word := range strings.Fields(string(said)) {
		if filepath.IsAbs(word) {
			items = append(items, item{Name: "." + word, Text: read(t, word), Mode: 0o755})
		}
	}
	return deb(t, items...)
}

func read(t *testing.T, file string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(text)
}

// A program of a tree runs with the tree's own loader and libraries, with the arguments and variables of its kind, and
// what scripts of its packages would have made is there.
func TestProgramOfATree(t *testing.T) {
	env, err := exec.LookPath("env")
	require.NoError(t, err)
	r := newRepository(t, map[string][]byte{"Package: barge2\nVersion: 2.1-1": machinePackage(t, env, "usr/bin/barge2",
		item{Name: "./usr/bin/alias", Kind: '2', Link: "barge2"}, item{Name: "./usr/bin/dash", Text: "#!/bin/sh\n"},
		item{Name: "./usr/share/barge/a.conf", Text: `see "/usr/share/barge/deck", not /usr/share/other`},
		item{Name: "./usr/share/barge/plain", Text: "plain"}, item{Name: "./etc/barge.conf", Text: "old"},
		item{Name: "./usr/share/ca-certificates/sea/one.crt", Text: "ONE\n"},
		item{Name: "./usr/share/ca-certificates/sea/two.crt", Text: "TWO\n"})})
	r.sign(t)
	s := r.supplier(t)
	s.from.Way = supply.ByLoader
	recipe := aBarge
	recipe.Packages.Folder = "usr/share/barge"
	recipe.Packages.Args, recipe.Packages.ArgsOf = []string{"-0"}, "al"
	recipe.Packages.Env = []string{"HULL={tree}/usr/share/bar*/plain"}
	recipe.Packages.EnvUnset = []string{"SAIL=white", "FLAG=red"}
	recipe.Packages.Made = func(tree fs.FS, series string) (map[string][]byte, error) {
		before, err := fs.ReadFile(tree, "etc/barge.conf")
		return map[string][]byte{"etc/barge.conf": append(before, "+new "+series...)}, err
	}
	o, err := s.Find(t.Context(), recipe, supply.Wish{Allowed: anyVersion})
	require.NoError(t, err)
	tree, err := s.Get(t.Context(), o, recipe, func(int64) {})
	require.NoError(t, err)
	files := filepath.Join(tree.Dir, "files")
	assert.Equal(t, supply.ByLoader, tree.Way)
	assert.Contains(t, tree.Version, "env (", "as the program says")
	assert.Equal(t, `see "`+files+`/usr/share/barge/deck", not /usr/share/other`,
		read(t, filepath.Join(files, "usr/share/barge/a.conf")))
	assert.Equal(t, "old+new 2", read(t, filepath.Join(files, "etc/barge.conf")))
	assert.Equal(t, "ONE\nTWO\n", read(t, filepath.Join(files, bundleFile)))
	link, err := os.Readlink(filepath.Join(files, "usr/bin/sh"))
	require.NoError(t, err)
	assert.Equal(t, "dash", link)
	wrong, err := tree.Verify()
	require.NoError(t, err)
	assert.Empty(t, wrong, "the digests are of what was made")

	run := func(name string, args ...string) string {
		cmd := exec.Command(filepath.Join(files, name), args...)
		cmd.Env = []string{"FLAG=blue"}
		out, err := cmd.Output()
		require.NoError(t, err)
		return string(out)
	}
	said := strings.Split(strings.TrimSpace(run("usr/bin/barge2")), "\n")
	assert.Contains(t, said, "HULL="+files+"/usr/share/barge/plain")
	assert.Contains(t, said, "SAIL=white")
	assert.Contains(t, said, "FLAG=blue", "it is set already")
	assert.Contains(t, run("usr/bin/alias"), "SAIL=white\x00", "-0 comes first by this name")
	assert.Equal(t, "moored\n", run("usr/bin/barge2", "sh", "-c", "echo moored"))

	assert.NotEmpty(t, s.from.Available(t.Context(), []kind.Recipe{recipe}))
	assert.True(t, s.from.Keeps(s.Said(s.from.Suites[0].Address, "marsh")))
	assert.False(t, s.from.Keeps(s.Said(s.from.Suites[0].Address, "fen")))
}

// A program that does not run here leaves no tree, and it is said in which ways it was tried.
func TestProgramThatDoesNotRun(t *testing.T) {
	no, err := exec.LookPath("false")
	require.NoError(t, err)
	r := newRepository(t, map[string][]byte{
		"Package: barge2\nVersion: 2.1-1": deb(t, item{Name: "./usr/bin/barge2", Text: read(t, no), Mode: 0o755})})
	r.sign(t)
	s := r.supplier(t)
	_, err = s.fetchBarge(t)
	assert.ErrorContains(t, err, "the packages of barge2 are not whole: usr/bin/barge2 needs ")

	r = newRepository(t, map[string][]byte{
		"Package: barge2\nVersion: 2.1-1": deb(t, item{Name: "./usr/bin/barge2", Text: "#!/bin/sh\nexit 3\n",
			Mode: 0o755})})
	r.sign(t)
	s = r.supplier(t)
	_, err = s.fetchBarge(t)
	assert.ErrorContains(t, err, "barge 2.1 does not run on this machine")
	assert.ErrorContains(t, err, "by "+string(supply.ByLoader))
	trees, err := supply.Trees(s.Home)
	require.NoError(t, err)
	assert.Empty(t, trees)
}

// What another program interprets is started by that one, and is not asked for its version.
func TestInterpretedProgram(t *testing.T) {
	r := newRepository(t, map[string][]byte{"Package: barge2\nVersion: 2.1-1": deb(t,
		item{Name: "./usr/bin/barge2", Text: "echo crew of \"$1\"\n", Mode: 0o755})})
	r.sign(t)
	s := r.supplier(t)
	recipe := aBarge
	recipe.Packages.Interpreter, recipe.Packages.Program = "sh", "usr/bin/barge2"
	o, err := s.Find(t.Context(), recipe, supply.Wish{Allowed: anyVersion})
	require.NoError(t, err)
	tree, err := s.Get(t.Context(), o, recipe, func(int64) {})
	require.NoError(t, err)
	out, err := exec.Command(tree.Program, "two").Output()
	require.NoError(t, err)
	assert.Equal(t, "crew of two\n", string(out))
	assert.Equal(t, "2.1", tree.Version, "as its package says")
}

func TestWhatIsCarried(t *testing.T) {
	some := &Source{Here: supply.Here{OS: "linux"}, Suites: []Suite{{}}}
	assert.True(t, some.Carries(aBarge))
	assert.False(t, some.Carries(kind.Recipe{}), "no package has it")
	assert.False(t, (&Source{Here: some.Here}).Carries(aBarge), "there is no suite")
	assert.False(t, (&Source{Here: supply.Here{OS: "darwin"}, Suites: some.Suites}).Carries(aBarge))
	for arch, name := range map[string]string{"amd64": "amd64", "386": "i386", "arm": "armhf", "ppc64le": "ppc64el"} {
		assert.Equal(t, name, debianArch(arch))
	}
	assert.NotEqual(t, id([]debian.Package{{SHA256: "a"}}), id([]debian.Package{{SHA256: "b"}}))
}
