package repository

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Libraries in a folder where the loader does not look are linked to where it does; what lacks one is left out, and so
// is what needs that. A real program stands for every file here.
func TestReach(t *testing.T) {
	text, err := os.ReadFile("/bin/ls")
	require.NoError(t, err)
	dir := t.TempDir()
	put := func(name string) {
		file := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, text, 0o755))
	}
	const folder = "usr/lib/quay-linux-gnu"
	put("usr/bin/ls")
	put(folder + "/module.so")
	b, ok := readBinary("/bin/ls")
	require.True(t, ok)
	require.NotEmpty(t, b.needs)
	assert.Contains(t, b.loader, "ld-")
	first := b.needs[0]
	for _, need := range b.needs[1:] {
		put(folder + "/" + need)
	}
	put(folder + "/deep/" + first + ".9")
	require.NoError(t, os.Symlink(first+".9", filepath.Join(dir, folder, "deep", first)))

	check := func() (map[string]string, string) {
		all, err := binaries(dir)
		require.NoError(t, err)
		left, lacking, err := reach(dir, all, libraries(dir), func(path string) bool { return path == "usr/bin/ls" })
		require.NoError(t, err)
		return left, lacking
	}
	left, lacking := check()
	assert.Empty(t, left)
	assert.Empty(t, lacking)
	target, err := os.Readlink(filepath.Join(dir, folder, first))
	require.NoError(t, err)
	assert.Equal(t, "deep/"+first, target)

	require.NoError(t, os.RemoveAll(filepath.Join(dir, folder, "deep")))
	require.NoError(t, os.Remove(filepath.Join(dir, folder, first)))
	left, lacking = check()
	assert.Equal(t, "usr/bin/ls needs "+left["usr/bin/ls"], lacking)
	assert.Equal(t, first, left[folder+"/module.so"])
}
