package proc

import (
	"bufio"
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

	"dravit/internal/home"
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

// locked starts a shell script whose processes inherit a lock, as parts do.
func locked(t *testing.T, path, script string) *exec.Cmd {
	t.Helper()
	lock, err := home.TryLock(path)
	require.NoError(t, err)
	cmd := exec.Command("/bin/sh", "-c", script)
	cmd.ExtraFiles = []*os.File{lock}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	require.NoError(t, NoteLeader(lock, cmd.Process.Pid))
	require.NoError(t, lock.Close())
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err, "the script says when it is ready")
	require.Equal(t, "ready\n", line)
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	return cmd
}

// The lock outlives the leader as long as a child lives, even one that left its group and session.
func TestHoldersAndOrphans(t *testing.T) {
	path := filepath.Join(t.TempDir(), "part.lock")
	cmd := locked(t, path, `setsid sh -c 'trap "" TERM; echo ready; sleep 60' & wait`)
	pids, err := HoldersOf(path)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(pids), 2)
	assert.Contains(t, pids, cmd.Process.Pid)
	assert.True(t, Holds(cmd.Process.Pid, path))
	assert.False(t, Holds(os.Getpid(), path))

	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	assert.True(t, home.Locked(path), "the orphan holds it")
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	require.NoError(t, EndHolders(ctx, path, func() bool { return home.Locked(path) }, 100*time.Millisecond))
	assert.False(t, home.Locked(path))
	pids, err = HoldersOf(path)
	require.NoError(t, err)
	assert.Empty(t, pids)
}

// One who only looks whether a lock is held is no holder, and is not ended.
func TestLookersAreNoHolders(t *testing.T) {
	path := filepath.Join(t.TempDir(), "part.lock")
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, home.Share(f))
	pids, err := HoldersOf(path)
	require.NoError(t, err)
	assert.Empty(t, pids)
	pids, err = HoldersOf(path + " that is not there")
	require.NoError(t, err)
	assert.Empty(t, pids)
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
		{"unix", socket, me, true}, {"unix", socket + "x", me, false}, {"unix", strings.TrimSuffix(socket, "t"), me, false}, {"unix", socket, []int{1 << 29}, false},
		{"tcp", tcp.Addr().String(), me, true}, {"tcp", tcp.Addr().String(), nil, false}, {"tcp", "127.0.0.1:1", me, false},
	} {
		got, err := Owns(c.pids, c.network, c.address)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%+v", c)
	}
	_, err = Owns(me, "tcp", "nonsense")
	assert.Error(t, err)
}

func TestHolderOwns(t *testing.T) {
	path := filepath.Join(t.TempDir(), "part.lock")
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer tcp.Close()
	locked(t, path, "echo ready; sleep 60")
	owns, err := HolderOwns(path, "tcp", tcp.Addr().String())
	require.NoError(t, err)
	assert.False(t, owns, "the socket is this process's, the lock another's")
	mine, err := home.TryLock(path + "2")
	require.NoError(t, err)
	defer mine.Close()
	owns, err = HolderOwns(path+"2", "tcp", tcp.Addr().String())
	require.NoError(t, err)
	assert.True(t, owns, "found without a noted leader")
	require.NoError(t, NoteLeader(mine, os.Getpid()))
	owns, err = HolderOwns(path+"2", "tcp", tcp.Addr().String())
	require.NoError(t, err)
	assert.True(t, owns)
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
