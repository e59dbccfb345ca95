package proc

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestIdentity(t *testing.T) {
	me, err := Identify(os.Getpid())
	require.NoError(t, err)
	assert.True(t, me.Alive())
	assert.NotEmpty(t, me.Boot)
	other := me
	other.Start++
	assert.False(t, other.Alive(), "the same number, started at another time, is another process")
	assert.ErrorIs(t, other.Signal(syscall.SIGKILL), os.ErrProcessDone, "and is not hit")
	other = me
	other.Boot = "an earlier one"
	assert.False(t, other.Alive())
	_, err = Identify(1 << 30)
	assert.Error(t, err)

	cmd := exec.Command("sleep", "60")
	require.NoError(t, cmd.Start())
	child, err := Identify(cmd.Process.Pid)
	require.NoError(t, err)
	require.NoError(t, child.Signal(syscall.SIGKILL))
	for deadline := time.Now().Add(5 * time.Second); child.Alive() && time.Now().Before(deadline); {
		time.Sleep(time.Millisecond)
	}
	assert.False(t, child.Alive(), "a zombie does not live")
	_ = cmd.Wait()
}

func TestOwns(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "a socket")
	unix, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer unix.Close()
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer tcp.Close()
	me := []int{os.Getpid()}
	for _, c := range []struct {
		network, address string
		pids             []int
		want             bool
	}{
		{"unix", socket, me, true},
		{"unix", socket + "x", me, false},
		{"unix", strings.TrimSuffix(socket, "t"), me, false},
		{"unix", socket, []int{1 << 29}, false},
		{"tcp", tcp.Addr().String(), me, true},
		{"tcp", tcp.Addr().String(), nil, false},
		{"tcp", "127.0.0.1:1", me, false},
	} {
		got, err := Owns(c.pids, c.network, c.address)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%+v", c)
	}
	_, err = Owns(me, "tcp", "nonsense")
	assert.Error(t, err)
}

func TestMemoryAndRange(t *testing.T) {
	assert.Greater(t, Memory([]int{os.Getpid()}), int64(1<<20))
	assert.Zero(t, Memory(nil))
	low, high := EphemeralPorts()
	assert.Less(t, low, high)
}

func TestSleep(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	require.NoError(t, Sleep(ctx, time.Millisecond))
	cancel()
	assert.ErrorIs(t, Sleep(ctx, time.Hour), context.Canceled)
}

func ExampleIdentity() {
	me, _ := Identify(os.Getpid())
	fmt.Println(me.Alive())
	// Output: true
}
