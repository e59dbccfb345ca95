package confined

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyRegularFilesInside(t *testing.T) {
	outer, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	dir := filepath.Join(outer, "project")
	for _, d := range []string{dir, filepath.Join(dir, "lib"), filepath.Join(outer, "shared")} {
		require.NoError(t, os.MkdirAll(d, 0o755))
	}
	for name, text := range map[string]string{"project/a.json": "{}", "project/lib/b": "b",
		"secret": "secret", "shared/s": "shared"} {
		require.NoError(t, os.WriteFile(filepath.Join(outer, name), []byte(text), 0o600))
	}
	for link, to := range map[string]string{"in": "lib/b", "absolute": filepath.Join(dir, "a.json"),
		"out": "../secret", "up": "..",
		"zero": "/dev/zero", "loop": "loop", "shared": "../shared", "twice": "lib/back"} {
		require.NoError(t, os.Symlink(to, filepath.Join(dir, link)))
	}
	require.NoError(t, os.Symlink("../../secret", filepath.Join(dir, "lib/back")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))

	for name, want := range map[string]string{"a.json": "{}", "in": "b", "absolute": "{}", "lib/../a.json": "{}"} {
		text, err := ReadFile(dir, name, 100)
		require.NoError(t, err, name)
		assert.Equal(t, want, string(text), name)
	}
	var outside *OutsideError
	for _, name := range []string{"out", "../secret", "up/secret", "twice", "zero", "shared/s"} {
		_, err := ReadFile(dir, name, 100)
		assert.ErrorAs(t, err, &outside, name)
	}
	for _, name := range []string{"loop", "pipe", "lib", "none"} {
		_, err := ReadFile(dir, name, 100)
		assert.Error(t, err, name)
	}
	_, err = ReadFile(dir, "pipe", 100)
	assert.ErrorIs(t, err, ErrNotRegular)
	text, err := ReadFile(dir, "shared/s", 100, filepath.Join(outer, "shared"))
	require.NoError(t, err)
	assert.Equal(t, "shared", string(text), "where you agreed")
	_, err = ReadFile(dir, "lib/b", 0)
	assert.ErrorContains(t, err, "larger than")

	entries, err := ReadDir(dir, "lib", 10)
	require.NoError(t, err)
	assert.Len(t, entries, 2)
	_, err = ReadDir(dir, "up", 10)
	assert.ErrorAs(t, err, &outside)
	_, err = ReadDir(dir, "a.json", 10)
	assert.Error(t, err)
	_, err = Stat(dir, "out")
	assert.ErrorAs(t, err, &outside)

	assert.Equal(t, filepath.Join(outer, "new/file"), Outside(dir, "up/new/file"), "also of what is not there yet")
	require.NoError(t, os.Symlink("../new", filepath.Join(dir, "dangling")))
	require.NoError(t, os.Symlink("lib/new", filepath.Join(dir, "dangling inside")))
	assert.Equal(t, filepath.Join(outer, "new"), Outside(dir, "dangling"))
	assert.Empty(t, Outside(dir, "dangling inside"))
	assert.NotPanics(t, func() { Outside(dir, "loop") })
	assert.Empty(t, Outside(dir, "lib/new/file"))
	assert.Empty(t, Outside(dir, "."))
	assert.Empty(t, Outside(dir, "shared/x", filepath.Join(outer, "shared")))
	assert.True(t, Inside("/a", "/a/b"))
	assert.True(t, Inside("/a", "/a"))
	assert.False(t, Inside("/a", "/ab"))
}

func TestPrintable(t *testing.T) {
	assert.True(t, Printable("/home/ada lovelace/Fähre"))
	for _, bad := range []string{"\n", "\x1b", "\x7f", "\u009b", "\x00", "\r"} {
		assert.False(t, Printable("/a"+bad+"b"), strings.ToValidUTF8(bad, "?"))
	}
}
