package ledger

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
)

func newHome(t *testing.T) *home.Home {
	t.Helper()
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	return h
}

// Many changes at once lose nothing.
func TestChange(t *testing.T) {
	h := newHome(t)
	var wg sync.WaitGroup
	for i := range 40 {
		wg.Go(func() {
			assert.NoError(t, Change(t.Context(), h, func(l *Ledger) error {
				l.Stacks[l.NewID()] = Stack{Dir: fmt.Sprint("/p/", i), Name: fmt.Sprint("n", i)}
				return nil
			}))
		})
	}
	wg.Wait()
	l, err := Read(h)
	require.NoError(t, err)
	assert.Len(t, l.Stacks, 40)
	id, _ := l.ByDir("/p/7")
	assert.NotEmpty(t, id)
	assert.Equal(t, id, l.ByName("n7"))
	assert.Empty(t, l.ByName("none"))
	id, dir := l.ByDir("/none")
	assert.Empty(t, id)
	assert.Equal(t, "/none", dir)
}

// A folder has one stack, whichever of its paths is used: a link stands here for what a second mount or another
// spelling is elsewhere.
func TestOneFolderByTwoWays(t *testing.T) {
	base := t.TempDir()
	dir, other := filepath.Join(base, "ferry"), filepath.Join(base, "Ferry")
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.Symlink(dir, other))
	require.NoError(t, os.Mkdir(filepath.Join(base, "quay"), 0o755))
	l := &Ledger{Stacks: map[string]Stack{"f1": {Dir: dir, Mark: MarkOf(dir, "")}, "q1": {Dir: "/gone"}}}
	for _, way := range []string{dir, other} {
		id, path := l.ByDir(way)
		assert.Equal(t, "f1", id)
		assert.Equal(t, dir, path)
	}
	id, _ := l.ByDir(filepath.Join(base, "quay"))
	assert.Empty(t, id)
}

func TestChangeThatFailsWritesNothing(t *testing.T) {
	h := newHome(t)
	failed := errors.New("no")
	assert.ErrorIs(t, Change(t.Context(), h, func(l *Ledger) error { l.HTTPPort = 8080; return failed }), failed)
	require.NoError(t, Change(t.Context(), h, func(l *Ledger) error { l.HTTPPort = 8081; return ErrUnchanged }))
	assert.NoFileExists(t, h.Path("ledger.json"))
	require.NoError(t, os.WriteFile(h.Path("ledger.json"), []byte("{half"), 0o600))
	assert.ErrorContains(t, Change(t.Context(), h, func(*Ledger) error {
		return nil
	}), "ledger.json", "a broken ledger is not overwritten")
}

func TestRealDir(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	link := filepath.Join(dir, "link")
	project := filepath.Join(dir, "project")
	require.NoError(t, os.Mkdir(project, 0o755))
	require.NoError(t, os.Symlink(project, link))
	got, err := RealDir(link)
	require.NoError(t, err)
	assert.Equal(t, project, got, "the same folder by every way in")
	_, err = RealDir(filepath.Join(dir, "none"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o644))
	_, err = RealDir(filepath.Join(dir, "file"))
	assert.Error(t, err)
}

func TestEqual(t *testing.T) {
	a := Stack{Dir: "/a", Name: "a", Ports: map[string]int{"db": 1}, Hosts: map[string]string{"s": "s.localhost"}}
	assert.True(t, a.Equal(a))
	for what, change := range map[string]func(*Stack){
		"folder":   func(s *Stack) { s.Dir = "/b" },
		"name":     func(s *Stack) { s.Name = "b" },
		"ports":    func(s *Stack) { s.Ports = map[string]int{"db": 2} },
		"hosts":    func(s *Stack) { s.Hosts = map[string]string{"s": "t.localhost"} },
		"suffixes": func(s *Stack) { s.Suffixes = []string{"test"} },
		"mark":     func(s *Stack) { s.Mark.Inode = "1" },
	} {
		b := a
		change(&b)
		assert.False(t, a.Equal(b), what)
	}
}
