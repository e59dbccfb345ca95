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

func TestTables(t *testing.T) {
	p := kind.Part{Data: t.TempDir(), Database: "ferry"}
	k := sqlite{}
	require.NoError(t, k.Fill(t.Context(), p, p.Data))
	require.NoError(t, k.Query(t.Context(), p, `CREATE TABLE cargo (n INTEGER PRIMARY KEY, what TEXT);
		INSERT INTO cargo WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < 2000)
			SELECT n, hex(randomblob(50)) FROM c; CREATE VIEW few AS SELECT n FROM cargo`, kind.Rows{}))
	sizes := []int64{0}
	for _, statement := range []string{"", "CREATE INDEX by_what ON cargo (what)"} {
		require.NoError(t, k.Query(t.Context(), p, statement, kind.Rows{}))
		all, err := k.Tables(t.Context(), p, true)
		require.NoError(t, err)
		require.Len(t, all, 2)
		assert.Equal(t, int64(2000), *all[0].Rows)
		sizes = append(sizes, *all[0].Bytes)
		assert.True(t, all[1].View)
		assert.Nil(t, all[1].Bytes)
	}
	assert.Greater(t, sizes[1], int64(200_000))
	assert.Greater(t, sizes[2], sizes[1]+200_000, "with its indexes")
	all, err := k.Tables(t.Context(), p, false)
	require.NoError(t, err)
	assert.Nil(t, all[0].Rows)
}
