package memcached

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// Without a pinned port, a socket that only its owner can open; with one, that port.
func TestWhereItListens(t *testing.T) {
	assert.Equal(t, kind.Needs{Socket: true}, New().Needs(stackfile.PartConfig{}))
	assert.Equal(t, kind.Needs{}, New().Needs(stackfile.PartConfig{Port: 21211}))
	p := kind.Part{Program: "/usr/bin/memcached", Socket: "/tmp/d/seats.sock"}
	assert.Equal(t, []string{"-s", "/tmp/d/seats.sock", "-a", "0600", "-m", "64"}, New().Command(p).Args)
	e := New().Exports(p)
	assert.True(t, e.NoLogin)
	assert.Equal(t, map[string]string{"MEMCACHED_SOCKET": "/tmp/d/seats.sock"}, e.Common)
	p = kind.Part{Port: 21211}
	assert.Equal(t, []string{"-l", "127.0.0.1", "-p", "21211", "-U", "0", "-m", "64"},
		New().Command(p).Args, "loopback only, and no UDP")
	assert.Equal(t, map[string]string{"MEMCACHED_HOST": "127.0.0.1", "MEMCACHED_PORT": "21211"},
		New().Exports(p).Common)
}

func TestLastWords(t *testing.T) {
	because := memcached{}.LastWords("failed to listen on TCP port 21211: Address already in use\n")
	assert.Equal(t, "failed to listen on TCP port 21211: Address already in use", because)
	because = memcached{}.LastWords("well")
	assert.Empty(t, because)
}
