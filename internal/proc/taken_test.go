package proc

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTakenFindsAListenerOnAnyAddress(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "0.0.0.0:0", "[::1]:0", "[::]:0"} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			t.Logf("no %s here: %v", address, err)
			continue
		}
		port := l.Addr().(*net.TCPAddr).Port
		assert.True(t, Taken(port), address)
		assert.True(t, Taken(port), "asking leaves it as it was")
		client, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		served, err := l.Accept()
		require.NoError(t, err)
		served.Close() // this end waits (TIME_WAIT) and keeps the port of the connection
		client.Close()
		l.Close()
		assert.False(t, Taken(port), "%s: what has ended does not count", address)
	}
}
