package proc

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
)

func find(t *testing.T, pid int) (Process, bool) {
	t.Helper()
	all, err := Processes("DRAVIT_TEST_MARK")
	require.NoError(t, err)
	i := slices.IndexFunc(all, func(p Process) bool { return p.PID == pid })
	if i < 0 {
		return Process{}, false
	}
	return all[i], true
}

func TestProcessesTellWhatMarksAProcess(t *testing.T) {
	path := filepath.Join(t.TempDir(), "part.lock")
	lock, err := home.TryLock(path)
	require.NoError(t, err)
	cmd := exec.Command("sleep", "60")
	cmd.Env = []string{"OTHER=DRAVIT_TEST_MARK=wrong", "DRAVIT_TEST_MARK=the mark"}
	cmd.ExtraFiles = []*os.File{lock}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	require.NoError(t, lock.Close())
	require.Eventually(t, func() bool { // until the shell's own environment is replaced by exec
		p, ok := find(t, cmd.Process.Pid)
		return ok && p.Mark == "the mark"
	}, 5*time.Second, time.Millisecond)

	p, _ := find(t, cmd.Process.Pid)
	assert.Equal(t, os.Getpid(), p.Parent)
	assert.Equal(t, cmd.Process.Pid, p.Session)
	assert.Equal(t, []string{RealPath(path)}, p.Locks)
	assert.True(t, p.Alive())
	assert.True(t, p.Pinned())
	assert.Contains(t, Children(os.Getpid()), cmd.Process.Pid)
	require.NoError(t, os.Remove(path))
	p, _ = find(t, cmd.Process.Pid)
	assert.Equal(t, []string{RealPath(path)}, p.Locks, "also where the file was deleted")

	require.NoError(t, cmd.Process.Kill())
	require.Eventually(
		t,
		func() bool { _, ok := find(t, cmd.Process.Pid); return !ok },
		5*time.Second,
		time.Millisecond,
		"a zombie is no running process",
	)
	assert.False(t, p.Alive())
	assert.True(t, p.Pinned(), "nobody waited for it: its number is still its own")
	_ = cmd.Wait()
	assert.False(t, p.Pinned())
}

func TestDescendantsFollowParents(t *testing.T) {
	at := func(pid, parent int) Process { return Process{Identity: Identity{PID: pid}, Parent: parent} }
	all := []Process{at(9, 7), at(5, 1), at(6, 5), at(7, 6), at(8, 1), at(3, 4), at(4, 3)}
	pids := func(roots ...int) (out []int) {
		set := map[int]bool{}
		for _, r := range roots {
			set[r] = true
		}
		for _, p := range Descendants(all, set) {
			out = append(out, p.PID)
		}
		return out
	}
	assert.Equal(t, []int{5, 6, 7, 9}, pids(5))
	assert.Equal(t, []int{7, 8, 9}, pids(7, 8))
	assert.Equal(t, []int{3, 4}, pids(3), "a loop, which numbers used again could make, ends")
	assert.Empty(t, pids(2))
	assert.Empty(t, pids())
}

func TestRealPath(t *testing.T) {
	dir := RealPath(t.TempDir())
	require.NoError(t, os.Symlink(dir, filepath.Join(dir, "link")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), nil, 0o600))
	assert.Equal(t, filepath.Join(dir, "a"), RealPath(filepath.Join(dir, "link", "a")))
	assert.Equal(t, filepath.Join(dir, "gone"), RealPath(filepath.Join(dir, "link", "gone")))
	assert.Equal(t, "/no/such/file", RealPath("/no/such/../such/file"))
}
