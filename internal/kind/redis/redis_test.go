package redis

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
)

// A server is what it says it is, whatever its program is called.
func TestInspect(t *testing.T) {
	says := func(text string) func(string, ...string) (string, error) {
		return func(string, ...string) (string, error) { return text, nil }
	}
	version, _, err := redis{}.Inspect(context.Background(), "/usr/bin/redis-server",
		says("Redis server v=7.0.15 sha=00000000:0 malloc=jemalloc-5.3.0 bits=64 build=x\n"))
	require.NoError(t, err)
	assert.Equal(t, "7.0.15", version)
	_, _, err = redis{}.Inspect(context.Background(), "/usr/bin/redis-server",
		says("Valkey server v=8.1.1 sha=00000000:0 malloc=jemalloc-5.3.0 bits=64 build=x\n"))
	assert.ErrorContains(t, err, "it says that it is Valkey 8.1.1, and not Redis")
}

// Data of a newer server are not damaged.
func TestDataOfANewerServer(t *testing.T) {
	because, next := kind.Explain(symptoms(), "1:M 01 Dec 2026 # Can't handle RDB format version 12\n"+
		"1:M 01 Dec 2026 # Error reading the RDB preamble of the AOF file db/appendonly.aof, AOF loading aborted\n",
		"seats")
	assert.Contains(t, because, "a newer server wrote the data: Can't handle RDB format version 12")
	assert.Contains(t, next, "dravit db marks --part seats")
}
