package proc

import (
	"net"
	"net/netip"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPeerUserIsWhoConnected(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "[::1]:0"} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			t.Logf("no %s here: %v", address, err)
			continue
		}
		defer l.Close()
		client, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		defer client.Close()
		conn, err := l.Accept()
		require.NoError(t, err)
		defer conn.Close()
		uid, err := PeerUser(conn.LocalAddr(), conn.RemoteAddr())
		require.NoError(t, err)
		assert.Equal(t, os.Geteuid(), uid)
		assert.True(t, SameUser(conn.LocalAddr(), conn.RemoteAddr()))
		remote, err := netip.ParseAddrPort(conn.RemoteAddr().String())
		require.NoError(t, err)
		local, err := netip.ParseAddrPort(conn.LocalAddr().String())
		require.NoError(t, err)
		for name, ask := range map[string]func(a, b netip.AddrPort) (int,
			error){"netlink": diagOwner, "proc": procOwner} {
			uid, err := ask(remote, local)
			require.NoError(t, err, name)
			assert.Equal(t, os.Geteuid(), uid, name)
			_, err = ask(netip.AddrPortFrom(remote.Addr(), 1), local)
			assert.Error(t, err, name)
		}
	}
	_, err := PeerUser(nil, nil)
	assert.ErrorIs(t, err, ErrPeerUnknown)
	elsewhere := &net.TCPAddr{IP: net.IPv4(10, 1, 2, 3), Port: 5}
	_, err = PeerUser(elsewhere, elsewhere)
	assert.ErrorIs(t, err, ErrPeerUnknown, "another machine has no process here")
}

// Who sends and hangs up at once is nobody, and above all not root, whose number the kernel gives.
func TestPeerThatHungUpIsUnknown(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	for range 20 {
		client, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		_, err = client.Write([]byte("MAIL FROM:<gull@quay.example>\r\n"))
		require.NoError(t, err)
		require.NoError(t, client.Close())
		conn, err := l.Accept()
		require.NoError(t, err)
		assert.False(t, SameUser(conn.LocalAddr(), conn.RemoteAddr()))
		remote, local := netip.MustParseAddrPort(conn.RemoteAddr().String()), netip.MustParseAddrPort(l.Addr().String())
		for name, ask := range map[string]func(a, b netip.AddrPort) (int, error){"netlink": diagOwner,
			"proc": procOwner} {
			_, err = ask(remote, local)
			assert.ErrorIs(t, err, ErrPeerUnknown, name)
		}
		conn.Close()
	}
}
