package home

import (
	"net"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPeers(t *testing.T) {
	l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
	require.NoError(t, err)
	own := OwnPeers(l)
	defer own.Close()
	accepted := make(chan error, 1)
	go func() {
		conn, err := own.Accept()
		if err == nil {
			conn.Close()
		}
		accepted <- err
	}()
	conn, err := net.Dial("unix", l.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	assert.NoError(t, CheckPeer(conn))
	assert.NoError(t, <-accepted)
	tcp, other := net.Pipe()
	defer tcp.Close()
	defer other.Close()
	assert.ErrorIs(t, CheckPeer(tcp), ErrPeer, "what is no Unix socket tells nobody's name")
}
