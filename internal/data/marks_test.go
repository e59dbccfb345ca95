package data

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
)

// folder makes a data folder with one file.
func folder(t *testing.T, text string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "db")
	put(t, dir, text)
	require.NoError(t, home.WriteJSON(dir+".json", Meta{Kind: "boat", Version: "1.2", ID: "x"}))
	return dir
}

func put(t *testing.T, dir, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sub"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "sub", "file"), []byte(text), 0o600))
}

func content(t *testing.T, dir string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, "sub", "file"))
	require.NoError(t, err)
	return string(text)
}

// putBack rewinds to a mark.
func putBack(ctx context.Context, dataDir, name string) error {
	m, err := ReadMark(dataDir, name)
	if err != nil {
		return err
	}
	if err := PrepareRewind(ctx, dataDir, Content(dataDir, name)); err != nil {
		return err
	}
	return Swap(dataDir, m)
}

func TestMarks(t *testing.T) {
	dir := folder(t, "one")
	began := time.Now()
	require.NoError(t, SaveMark(t.Context(), dir, Mark{Name: "a/../b", At: began}, nil))
	put(t, dir, "two")
	second := Mark{Name: "second", At: began.Add(time.Second), Before: "load"}
	require.NoError(t, SaveMark(t.Context(), dir, second, nil))
	all, err := Marks(dir)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "second", all[0].Name, "the newest first")
	assert.Equal(t, "boat", all[1].Kind)
	assert.Equal(t, "1.2", all[1].Version)
	assert.Positive(t, all[1].Bytes)

	require.NoError(t, putBack(t.Context(), dir, "a/../b"))
	assert.Equal(t, "one", content(t, dir))
	assert.Equal(t, "two", content(t, was(dir)))
	require.NoError(t, KeepWas(dir, Mark{Name: "kept", At: began.Add(time.Minute)}, Meta{Kind: "boat", Version: "1.3"}))
	m, err := ReadMark(dir, "kept")
	require.NoError(t, err)
	assert.Equal(t, "1.3", m.Version)
	require.NoError(t, putBack(t.Context(), dir, "kept"))
	assert.Equal(t, "two", content(t, dir))
	meta, err := Read(dir)
	require.NoError(t, err)
	assert.Equal(t, "1.3", meta.Version, "the note about the data goes with them")

	require.NoError(t, RemoveMark(dir, "kept"))
	_, err = ReadMark(dir, "kept")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.ErrorIs(t, putBack(t.Context(), dir, "kept"), fs.ErrNotExist)

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, SaveMark(ctx, dir, Mark{Name: "late"}, nil), context.Canceled)
	failed := errors.New("full")
	fill := func(context.Context, string) error { return failed }
	assert.ErrorIs(t, SaveMark(t.Context(), dir, Mark{Name: "late"}, fill), failed)
	entries, err := os.ReadDir(marksDir(dir))
	require.NoError(t, err)
	assert.Len(t, entries, 2, "a mark that failed leaves nothing")
}

func TestCheckName(t *testing.T) {
	for _, good := range []string{"x", "before the import", "../..", "Ärger;$(x)", strings.Repeat("ä", 60)} {
		assert.NoError(t, CheckName(good), good)
	}
	for _, bad := range []string{"", " x", "x\n", "a\x1bb", "\xff", strings.Repeat("x", 61)} {
		assert.Error(t, CheckName(bad), "%q", bad)
	}
}

// Whenever a swap dies, the next start finds the data whole; what killed commands left is gone.
func TestMend(t *testing.T) {
	dir := folder(t, "old")
	require.NoError(t, SaveMark(t.Context(), dir, Mark{Name: "before"}, nil))
	require.NoError(t, Mend(dir))
	assert.Equal(t, "old", content(t, dir), "there is nothing to mend")

	// A swap died between its two steps.
	require.NoError(t, PrepareRewind(t.Context(), dir, Content(dir, "before")))
	require.NoError(t, os.Rename(dir, was(dir)))
	require.NoError(t, Mend(dir))
	assert.Equal(t, "old", content(t, dir))

	left := []string{Prepared(dir), filepath.Join(marksDir(dir), "new-1"), was(dir)}
	for _, folder := range left {
		require.NoError(t, os.MkdirAll(folder, 0o700))
	}
	done, err := Change(dir)
	require.NoError(t, err)
	_, err = Change(dir)
	assert.ErrorIs(t, err, ErrBusy)
	require.NoError(t, Litter(dir))
	assert.DirExists(t, left[0], "a command still works with them")
	done()
	require.NoError(t, Litter(dir))
	for _, folder := range left {
		assert.NoDirExists(t, folder)
	}
	_, err = ReadMark(dir, "before")
	assert.NoError(t, err)
	assert.Equal(t, "old", content(t, dir))
}

func TestHoldWaits(t *testing.T) {
	dir := folder(t, "x")
	release, err := Hold(t.Context(), dir)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err = Hold(ctx, dir)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	release()
	release, err = Hold(t.Context(), dir)
	require.NoError(t, err)
	release()
}

// Holes stay holes, zeros become holes, and everything else is the same. A large file is copied by the kernel.
func TestCopySparse(t *testing.T) {
	for _, size := range []int64{20 << 20, large + 12345} {
		testCopySparse(t, size)
	}
}

func testCopySparse(t *testing.T, size int64) {
	t.Helper()
	dir := t.TempDir()
	from, to := filepath.Join(dir, "from"), filepath.Join(dir, "to")
	f, err := os.Create(from)
	require.NoError(t, err)
	for at, text := range map[int64]string{0: "begin", 3<<20 + 7: "middle", 9 << 20: strings.Repeat("\x00", 2<<20)} {
		_, err := f.WriteAt([]byte(text), at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Truncate(size))
	require.NoError(t, f.Close())
	f, err = os.Open(from)
	require.NoError(t, err)
	require.NoError(t, copyFile(t.Context(), f, to, 0o600))
	a, err := os.ReadFile(from)
	require.NoError(t, err)
	b, err := os.ReadFile(to)
	require.NoError(t, err)
	assert.True(t, string(a) == string(b), "the copy differs")
	assert.Less(t, used(to), int64(4<<20))
}
