package keeper

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An edit of the project's files is seen; what programs write while they run is none.
func TestDigestOfTheProjectsFiles(t *testing.T) {
	dir := t.TempDir()
	write := func(name string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name+time.Now().String()), 0o644))
	}
	for _, name := range []string{"public/index.php", ".env", "src/a/b/c/deep.php", "node_modules/x/index.js",
		"var/cache/y",
		"app.log", "db.sqlite"} {
		write(name)
	}
	was := digestOf(dir, filepath.Join(dir, "public"))
	assert.Equal(t, was, digestOf(dir, filepath.Join(dir, "public")))
	for _, name := range []string{"node_modules/x/index.js", "var/cache/z", "app.log", "db.sqlite", ".git/index"} {
		write(name)
		assert.Equal(t, was, digestOf(dir, filepath.Join(dir, "public")), name)
	}
	for _, name := range []string{"public/index.php", ".env", "src/new.php", "composer.json"} {
		write(name)
		now := digestOf(dir, filepath.Join(dir, "public"))
		assert.NotEqual(t, was, now, name)
		was = now
	}
	require.NoError(t, os.Remove(filepath.Join(dir, "public/index.php")))
	assert.NotEqual(t, was, digestOf(dir))
}
