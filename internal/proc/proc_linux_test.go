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
		for name, list := range map[string]func() ([]Listener, error){"netlink": Listeners, "proc": procListeners} {
			all, err := list()
			require.NoError(t, err, name)
			i := slices.IndexFunc(all, func(x Listener) bool { return x.Port == want.Port })
			require.GreaterOrEqual(t, i, 0, "%s does not list %s", name, want)
			assert.Equal(t, want.IP.String(), all[i].Address, name)
			assert.Equal(t, os.Getuid(), all[i].UID, name)
			assert.Equal(t, os.Getpid(), ListenerHolder(all[i]).PID, name)
		}
	}
}

// Of UDP sockets those that take what comes from anybody are listed; of TCP's, those that other machines can reach are
// told apart.
func TestDatagramsAndOutside(t *testing.T) {
	udp, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer udp.Close()
	all, err := UDPListeners()
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(all, func(l Listener) bool {
		return l.Port == udp.LocalAddr().(*net.UDPAddr).Port && l.Address == "127.0.0.1"
	}))
	inside, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer inside.Close()
	world, err := net.Listen("tcp", ":0")
	require.NoError(t, err)
	defer world.Close()
	outside, err := NetworkListeners()
	require.NoError(t, err)
	ports := map[int]int{}
	for l, pid := range outside {
		ports[l.Port] = pid
	}
	assert.Equal(t, os.Getpid(), ports[world.Addr().(*net.TCPAddr).Port])
	assert.NotContains(t, ports, inside.Addr().(*net.TCPAddr).Port)
}

func TestServiceIn(t *testing.T) {
	for cgroups, want := range map[string]struct {
		unit string
		user bool
	}{
		"0::/system.slice/redis-server.service\n":                                    {"redis-server.service", false},
		"0::/user.slice/user-1000.slice/user@1000.service/app.slice/redis.service\n": {"redis.service", true},
		"0::/user.slice/user-1000.slice/session-3.scope\n":                           {"", false},
		"12:pids:/user.slice/user@1000.service\n0::/system.slice/db.service\n":       {"db.service", false},
		"": {"", false},
	} {
		unit, user := serviceIn(cgroups)
		assert.Equal(t, want.unit, unit, cgroups)
		assert.Equal(t, want.user, user, cgroups)
	}
}
