package home

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/trouble"
)

func open(t *testing.T, dir string) *Home {
	t.Helper()
	h, err := Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	return h
}

func TestLocate(t *testing.T) {
	for _, c := range []struct{ dravit, data, home, want string }{
		{"/x/y", "/data", "/home/ada", "/x/y"},
		{"", "/data", "/home/ada", "/data/dravit"},
		{"", "relative", "/home/ada", "/home/ada/.local/share/dravit"}, // XDG: relative paths are to be ignored
		{"", "", "/home/ada", "/home/ada/.local/share/dravit"},
	} {
		t.Setenv("DRAVIT_HOME", c.dravit)
		t.Setenv("XDG_DATA_HOME", c.data)
		t.Setenv("HOME", c.home)
		got, err := Locate()
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
	}
	t.Setenv("HOME", "")
	t.Setenv("DRAVIT_HOME", "")
	got, err := Locate()
	require.NoError(t, err)
	assert.True(t, filepath.IsAbs(got), "an empty environment falls back on the user database: %s", got)
}

// The run folder is chosen once, and stays the same whatever the environment says later.
func TestRunFolder(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "a folder", "home")
	h := open(t, dir)
	info, err := os.Lstat(h.Run)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	t.Setenv("TMPDIR", t.TempDir())
	t.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	assert.Equal(t, h.Run, open(t, dir).Run)

	// One whose mode was changed is closed again; a folder that others could have put there is not trusted.
	require.NoError(t, os.Chmod(h.Run, 0o777))
	assert.Equal(t, h.Run, open(t, dir).Run)
	info, err = os.Lstat(h.Run)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	require.NoError(t, os.RemoveAll(h.Run))
	require.NoError(t, os.Symlink(t.TempDir(), h.Run))
	keeper, err := TryLock(h.Path(KeeperLock))
	require.NoError(t, err)
	_, err = Open(dir)
	require.ErrorContains(t, err, "run folder cannot be used", "while a keeper lives, there is no second one")
	require.NoError(t, keeper.Close())
	other := open(t, dir)
	assert.NotEqual(t, h.Run, other.Run)
	require.NoError(t, os.Remove(h.Run))
	require.NoError(t, os.RemoveAll(other.Run))

	if os.Geteuid() == 0 { // what another user put there meanwhile is named
		require.NoError(t, os.Mkdir(other.Run, 0o777))
		require.NoError(t, os.Chmod(other.Run, 0o777))
		planted := filepath.Join(other.Run, "db.sock")
		require.NoError(t, os.WriteFile(planted, nil, 0o666))
		require.NoError(t, os.Chown(planted, 65534, 65534))
		assert.ErrorContains(t, HoldRun(other.Run), planted)
		require.NoError(t, os.RemoveAll(other.Run))
	}
}

func TestOpenAtOnce(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "home")
	runs := make([]string, 8)
	var wg sync.WaitGroup
	for i := range runs {
		wg.Go(func() {
			if h, err := Open(dir); assert.NoError(t, err) {
				runs[i] = h.Run
			}
		})
	}
	wg.Wait()
	for _, r := range runs {
		assert.Equal(t, runs[0], r)
	}
	require.NoError(t, os.RemoveAll(runs[0]))
}

func TestOpenRefusesWhatConfigurationsCannotCarry(t *testing.T) {
	for _, bad := range []string{`a"b`, "a\nb", "a$b", "a`b", `a\b`, "a;b"} {
		_, err := Open(filepath.Join(t.TempDir(), bad))
		assert.ErrorContains(t, err, "cannot be Dravit's", bad)
	}
}

func TestLocks(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.lock")
	assert.False(t, Locked(path), "a missing file is not locked")
	f, err := Lock(t.Context(), path, "nobody")
	require.NoError(t, err)
	assert.True(t, Locked(path))
	_, err = TryLock(path)
	assert.ErrorIs(t, err, ErrLocked)
	require.NoError(t, f.Close())
	assert.False(t, Locked(path))
	f, err = TryLock(path)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = Lock(t.Context(), filepath.Join(t.TempDir(), "no", "folder"), "nobody")
	assert.Error(t, err)
}

// Who waits for a lock is told after a second for whom, and can end it at once.
func TestLockWaits(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.lock")
	held, err := TryLock(path)
	require.NoError(t, err)
	told := make(chan string, 1)
	Waits = func(holder string) { told <- holder }
	t.Cleanup(func() { Waits = nil })

	ctx, interrupt := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		_, err := Lock(ctx, path, "another start")
		ended <- err
	}()
	assert.Equal(t, "another start", <-told)
	interrupt()
	assert.ErrorIs(t, <-ended, context.Canceled)

	short, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	_, err = Lock(short, path, "another start")
	assert.ErrorIs(t, err, trouble.Busy)
	assert.ErrorContains(t, err, "another start")

	go func() {
		f, err := Lock(t.Context(), path, "another start")
		if err == nil {
			f.Close()
		}
		ended <- err
	}()
	require.NoError(t, held.Close())
	assert.NoError(t, <-ended, "it gets the lock as soon as it is free")
}

// A reader never sees half a file, whoever writes.
func TestWriteFileIsWhole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f.json")
	texts := []string{strings.Repeat("a", 100_000), strings.Repeat("b", 70_000)}
	require.NoError(t, WriteFile(path, []byte(texts[0]), 0o600))
	var wg sync.WaitGroup
	for _, text := range texts {
		wg.Go(func() {
			for range 50 {
				assert.NoError(t, WriteFile(path, []byte(text), 0o600))
			}
		})
	}
	for range 200 {
		got, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Contains(t, texts, string(got))
	}
	wg.Wait()
	entries, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, entries, 1, "no temporary file is left")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestJSON(t *testing.T) {
	path := filepath.Join(t.TempDir(), "v.json")
	v := map[string]int{"kept": 1}
	require.NoError(t, ReadJSON(path, &v))
	assert.Equal(t, map[string]int{"kept": 1}, v, "a missing file changes nothing")
	require.NoError(t, WriteJSON(path, map[string]int{"a": 2}))
	var got map[string]int
	require.NoError(t, ReadJSON(path, &got))
	assert.Equal(t, map[string]int{"a": 2}, got)

	var told []string
	Recovered = func(file, used string, _ error) { told = append(told, filepath.Base(file)+" "+filepath.Base(used)) }
	defer func() { Recovered = nil }()
	for _, damage := range []func() error{
		func() error { return os.WriteFile(path, []byte("{"), 0o600) },
		func() error { return os.WriteFile(path, nil, 0o600) },
		func() error { return os.Remove(path) },
	} {
		require.NoError(t, damage())
		for range 2 {
			got = nil
			require.NoError(t, ReadJSON(path, &got))
			assert.Equal(t, map[string]int{"a": 2}, got, "the last good copy")
		}
	}
	assert.Equal(t, []string{"v.json v.json.last", "v.json v.json.last", "v.json v.json.last"},
		told, "it is said once, and mended")

	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	require.NoError(t, os.WriteFile(path+".last", []byte(`{"a": "x"}`), 0o600))
	got = map[string]int{"kept": 1}
	err := ReadJSON(path, &got)
	assert.ErrorIs(t, err, trouble.Damaged)
	assert.ErrorContains(t, err, path)
	assert.Equal(t, map[string]int{"kept": 1}, got)
	require.NoError(t, ReadDerived(path, &got), "what is made again need not be read")
	assert.Equal(t, map[string]int{"kept": 1}, got)
	require.NoError(t, RemoveJSON(path))
	require.NoError(t, RemoveJSON(path))
	assert.NoFileExists(t, path+".last")
}

func TestWriteDerived(t *testing.T) {
	path := filepath.Join(t.TempDir(), "c.conf")
	for _, c := range []struct {
		text  string
		wrote bool
	}{{"one", true}, {"one", false}, {"two", true}} {
		wrote, err := WriteDerived(path, []byte(c.text), 0o600)
		require.NoError(t, err)
		assert.Equal(t, c.wrote, wrote, c.text)
	}
	_, err := WriteDerived(filepath.Join(path, "below a file"), nil, 0o600)
	assert.Error(t, err)
	assert.False(t, errors.Is(err, ErrLocked))
}
