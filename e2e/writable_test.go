package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const writableStack = `name = "log"
[part.app]
kind = "php"
writable = ["storage/logs", "up loads"]
[[site]]
name = "log"
app = "app"
`

// Start creates the folders that the application writes to, and closes them to other accounts.
func TestWritableFolders(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("dravit.toml", writableStack)
	w.write("public/index.php", `<?php echo file_put_contents("../storage/logs/tide.log", "high") ? "wrote" : "no";`)
	w.write("up loads/boat.txt", "heron")
	open := filepath.Join(w.dir, "up loads")
	require.NoError(t, os.Chmod(open, 0o777))
	w.must("start")
	_, body, _ := get(t, "GET", w.status().site("log"), nil)
	assert.Equal(t, "wrote", body)
	for _, folder := range []string{"storage", "storage/logs"} {
		info, err := os.Stat(filepath.Join(w.dir, folder))
		require.NoError(t, err)
		assert.EqualValues(t, 0o700, info.Mode().Perm(), folder)
	}
	info, err := os.Stat(open)
	require.NoError(t, err)
	assert.EqualValues(t, 0o775, info.Mode().Perm(), "others cannot write any more, and can read")

	// A file where a folder should be.
	w.must("stop")
	require.NoError(t, os.RemoveAll(open))
	w.write("up loads", "no folder")
	r := w.dravit("start")
	assert.NotZero(t, r.code)
	assert.Contains(t, r.stderr, "part app cannot write to the folder up loads")
}

// A file of another account in such a folder is found before the first page fails.
func TestWritableFolderOfAnotherAccount(t *testing.T) {
	if !asRoot {
		t.Skip("only root creates files of another account")
	}
	t.Parallel()
	w := newWorld(t)
	w.write("dravit.toml", writableStack)
	w.write("public/index.php", "<?php")
	w.write("storage/logs/old/tide.log", "high")
	require.NoError(t, os.Chown(filepath.Join(w.dir, "storage/logs/old/tide.log"), 0, 0))
	r := w.dravit("start")
	assert.Equal(t, 4, r.code, r.all())
	assert.Contains(t, r.stderr, "part app cannot write to storage/logs/old/tide.log")
	assert.Contains(t, r.stderr, "it belongs to root, with mode 0")
	assert.Contains(t, r.stderr, "sudo chown -R "+tester.Username+" storage/logs")
	require.NoError(t, os.Chmod(filepath.Join(w.dir, "storage/logs/old/tide.log"), 0o666))
	w.must("start")

	// A folder of another account, with the project's folder above it.
	w.must("stop")
	require.NoError(t, os.Chown(filepath.Join(w.dir, "storage"), 0, 0))
	require.NoError(t, os.Chown(filepath.Join(w.dir, "storage/logs"), 0, 0))
	r = w.dravit("start")
	assert.Equal(t, 4, r.code, r.all())
	assert.Contains(t, r.stderr, "part app cannot write to storage/logs")
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "storage/logs")))
	r = w.dravit("start")
	assert.Equal(t, 4, r.code, r.all())
	assert.Contains(t, r.stderr, "the folder above it belongs to another account")
	uid, _ := ids(t)
	require.NoError(t, os.Chown(filepath.Join(w.dir, "storage"), uid, -1))
	w.must("start")
}
