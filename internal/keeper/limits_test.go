package keeper

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a keeper starts gets the hard limit, whatever the shell's was from which the keeper was started. This test runs
// itself again under a low soft limit.
func TestRaiseFileLimit(t *testing.T) {
	if os.Getenv("DRAVIT_TEST_LIMIT") == "" {
		script := `ulimit -Sn 256; DRAVIT_TEST_LIMIT=1 exec "$0" -test.run '^TestRaiseFileLimit$' -test.v`
		out, err := exec.Command("/bin/sh", "-c", script, os.Args[0]).CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Contains(t, string(out), "before 256")
		assert.NotContains(t, string(out), "after 256")
		return
	}
	limit := func() string {
		out, err := exec.Command("/bin/sh", "-c", "ulimit -Sn").Output()
		require.NoError(t, err)
		return strings.TrimSpace(string(out))
	}
	t.Log("before", limit())
	raiseFileLimit()
	t.Log("after", limit())
}

func TestFreshen(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "f1", "db.sock")
	require.NoError(t, os.Mkdir(filepath.Dir(file), 0o700))
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	old := time.Now().Add(-240 * time.Hour)
	require.NoError(t, os.Chtimes(file, old, old))
	freshen(dir)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Less(t, time.Since(info.ModTime()), time.Minute)
}
