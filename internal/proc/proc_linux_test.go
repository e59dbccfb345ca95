package proc

import (
	"net"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Both ways of listing sockets must find the same listener, with its owner.
func TestListenersFindsOwnSocket(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "[::1]:0"} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			t.Logf("no %s here: %v", address, err)
			continue
		}
		defer l.Close()
		want := l.Addr().(*net.TCPAddr)
		for name, list := range map[string]func() ([]Listener, error){"netlink": diagListeners, "proc": procListeners} {
			all, err := list()
			require.NoError(t, err, name)
			i := slices.IndexFunc(all, func(x Listener) bool { return x.Port == want.Port })
			require.GreaterOrEqual(t, i, 0, "%s does not list %s", name, want)
			assert.Equal(t, want.IP.String(), all[i].Address, name)
			assert.Equal(t, os.Getuid(), all[i].UID, name)
			assert.Equal(t, os.Getpid(), HolderOf(all[i]).PID, name)
		}
	}
}
