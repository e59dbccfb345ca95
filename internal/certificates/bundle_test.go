package certificates

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The bundle follows what the system trusts, and is left alone as long as that stays the same.
func TestBundle(t *testing.T) {
	h, _ := open(t)
	was := systemBundles
	t.Cleanup(func() { systemBundles = was })
	system := filepath.Join(t.TempDir(), "system.pem")
	systemBundles = []string{filepath.Join(t.TempDir(), "none"), system}
	path, err := Bundle(h)
	require.NoError(t, err)
	assert.Empty(t, path, "the system has none")

	own, err := os.ReadFile(File(h))
	require.NoError(t, err)
	trusts := func(text string, at time.Time) {
		t.Helper()
		require.NoError(t, os.WriteFile(system, []byte(text), 0o600))
		require.NoError(t, os.Chtimes(system, at, at))
		path, err := Bundle(h)
		require.NoError(t, err)
		now, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, text+"\n"+string(own), string(now))
	}
	old := time.Now().Add(-time.Hour)
	trusts("quay", old)
	path, err = Bundle(h)
	require.NoError(t, err)
	before, err := os.Stat(path)
	require.NoError(t, err)
	_, err = Bundle(h)
	require.NoError(t, err)
	after, err := os.Stat(path)
	require.NoError(t, err)
	assert.True(t, os.SameFile(before, after), "nothing to write")
	trusts("harbour", old)
	trusts("anchors", time.Now().Add(time.Minute))
}
