package sqlite

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/health"
	"dravit/internal/kind"
)

func TestLadder(t *testing.T) {
	p := kind.Part{Data: filepath.Join(t.TempDir(), "a folder?#%"), Database: "ferry"}
	require.NoError(t, os.Mkdir(p.Data, 0o700))
	k := sqlite{}
	assert.False(t, health.Holds(health.Climb(t.Context(), k.Ladder(p))), "no file yet")
	require.NoError(t, k.Fill(t.Context(), p, p.Data))
	assert.True(t, health.Holds(health.Climb(t.Context(), k.Ladder(p))))
	db, err := open(path(p), "rw")
	require.NoError(t, err)
	defer db.Close()
	var tables int
	require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM sqlite_master").Scan(&tables))
	assert.Zero(t, tables, "a check leaves no trace")
	e := k.Exports(p)
	assert.Equal(t, path(p), e.Database)
	assert.Contains(t, e.URL, "sqlite:///")

	require.NoError(t, db.Close())
	require.NoError(t,
		os.WriteFile(path(p), []byte("this is a tide table, not a database, and long enough to tell so"), 0o600))
	got := health.Climb(t.Context(), k.Ladder(p))
	require.NotNil(t, health.FirstMiss(got))
	assert.Equal(t, kind.Greets, health.FirstMiss(got).Rung)
	require.NoError(t, os.Chmod(path(p), 0))
	if os.Geteuid() != 0 {
		assert.Equal(t, kind.Open, health.FirstMiss(health.Climb(t.Context(), k.Ladder(p))).Rung)
	}
}
