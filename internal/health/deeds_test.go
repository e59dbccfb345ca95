package health

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // a database to prove

	"dravit/internal/kind"
)

// A proof leaves no table behind, also where somebody stops waiting for it half-way.
func TestInterruptedProofLeavesNothing(t *testing.T) {
	file := filepath.Join(t.TempDir(), "ferry.db")
	ctx, interrupt := context.WithCancel(t.Context())
	opened := 0
	deeds := SQLDeeds(func(ctx context.Context) (*sql.DB, error) {
		if opened++; opened == 2 {
			interrupt()
		}
		return sql.Open("sqlite", file)
	})
	results := Prove(ctx, []string{"part.db"}, deeds)
	require.Equal(t, 2, opened)
	require.Len(t, results, 1)
	assert.True(t, *results[0].Holds, "%+v", results[0])
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	defer db.Close()
	var tables int
	require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM sqlite_master").Scan(&tables))
	assert.Zero(t, tables)
}

// A deed has more time than a rung.
func TestDeedsHaveTheirTime(t *testing.T) {
	var left time.Duration
	Prove(t.Context(), []string{"part.db"}, []kind.DeepCheck{{Name: "stores", Ask: func(ctx context.Context) error {
		end, ok := ctx.Deadline()
		left = time.Until(end)
		if !ok {
			return errors.New("no end")
		}
		return nil
	}}})
	assert.Greater(t, left, 2*Deadline)
}
