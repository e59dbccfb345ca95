package command

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
)

// A file proves that a worker works if it is fresh, and this worker's own: not of the one before.
func TestFileAsProof(t *testing.T) {
	dir := t.TempDir()
	p := kind.Part{Project: dir, Lock: filepath.Join(dir, "lock")}
	file := filepath.Join(dir, "alive")
	for _, name := range []string{p.Lock, file} {
		require.NoError(t, os.WriteFile(name, nil, 0o600))
	}
	at := func(name string, ago time.Duration) {
		then := time.Now().Add(-ago)
		require.NoError(t, os.Chtimes(name, then, then))
	}
	at(p.Lock, time.Hour)
	at(file, time.Second)
	assert.NoError(t, freshFile(p, "alive", time.Minute))
	at(file, 2*time.Minute)
	assert.ErrorContains(t, freshFile(p, "alive", time.Minute), "got written 2m0s ago")
	at(file, 30*time.Second)
	at(p.Lock, 10*time.Second)
	assert.ErrorContains(t, freshFile(p, "alive", time.Minute), "before the worker was started")
	assert.ErrorContains(t, freshFile(p, "none", time.Minute), "no such file")
}
