package keeper

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
)

// What writes goes on; what rests does not.
func TestActivity(t *testing.T) {
	log := filepath.Join(t.TempDir(), "app.log")
	a := activity{part: kind.Part{Log: log, Lock: log + ".lock"}}
	now := time.Now()
	assert.True(t, a.goesOn(now), "nothing is known yet")
	assert.True(t, a.goesOn(now.Add(4*time.Second)))
	assert.False(t, a.goesOn(now.Add(6*time.Second)))
	assert.False(t, a.goesOn(now.Add(6*time.Second+glanceEvery/2)))
	require.NoError(t, os.WriteFile(log, []byte("compiling\n"), 0o600))
	assert.True(t, a.goesOn(now.Add(7*time.Second)))
	assert.False(t, a.goesOn(now.Add(13*time.Second)))
}
