package data

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// hold is a kind that fills its data with one file.
type hold struct {
	kind.Store
	filled *int
	fails  error
}

func (hold) Template(kind.Part) string { return "salt" }
func (h hold) Fill(_ context.Context, _ kind.Part, dir string) error {
	*h.filled++
	if err := os.MkdirAll(filepath.Join(dir, "deck"), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "deck", "cargo"), []byte("kelp"), 0o600); err != nil {
		return err
	}
	return h.fails
}

func world(t *testing.T) (*home.Home, kind.Part) {
	t.Helper()
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	require.NoError(t, os.MkdirAll(h.Stack("abc", "data"), 0o700))
	return h, kind.Part{Kind: "hold", Version: "1.0", Data: h.Stack("abc", "data", "db")}
}

func TestEnsure(t *testing.T) {
	h, p := world(t)
	n := 0
	filled, err := Ensure(t.Context(), h, p, hold{filled: &n})
	require.NoError(t, err)
	assert.True(t, filled)
	text, err := os.ReadFile(filepath.Join(p.Data, "deck", "cargo"))
	require.NoError(t, err)
	assert.Equal(t, "kelp", string(text))
	require.NoError(t, os.WriteFile(filepath.Join(p.Data, "deck", "cargo"), []byte("mine"), 0o600))
	filled, err = Ensure(t.Context(), h, p, hold{filled: &n})
	require.NoError(t, err)
	assert.False(t, filled)
	text, _ = os.ReadFile(filepath.Join(p.Data, "deck", "cargo"))
	assert.Equal(t, "mine", string(text), "data that is there is left alone")

	p.Data = h.Stack("abc", "data", "two")
	_, err = Ensure(t.Context(), h, p, hold{filled: &n})
	require.NoError(t, err)
	assert.Equal(t, 1, n, "the second one is a copy of the template")
	text, _ = os.ReadFile(filepath.Join(p.Data, "deck", "cargo"))
	assert.Equal(t, "kelp", string(text))

	p.Data, p.Version = h.Stack("abc", "data", "three"), "2.0"
	_, err = Ensure(t.Context(), h, p, hold{filled: &n})
	require.NoError(t, err)
	assert.Equal(t, 2, n, "another version fills its own")
	require.NoError(t, Sync(p.Data))
}

// A filling that fails or is interrupted leaves nothing that looks like data.
func TestEnsureIsWholeOrNothing(t *testing.T) {
	h, p := world(t)
	n := 0
	failed := errors.New("no salt")
	_, err := Ensure(t.Context(), h, p, hold{filled: &n, fails: failed})
	assert.ErrorIs(t, err, failed)
	assert.NoDirExists(t, p.Data)
	was, err := Read(p.Data)
	require.NoError(t, err)
	assert.Empty(t, was.Kind)
	templates, err := filepath.Glob(h.Path("templates", "hold-*"))
	require.NoError(t, err)
	assert.Len(t, templates, 1, "only the lock: %v", templates)

	require.NoError(t, os.MkdirAll(filepath.Join(p.Data+".new", "rubble"), 0o700)) // of a process that was killed
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Ensure(ctx, h, p, hold{filled: &n})
	assert.ErrorIs(t, err, context.Canceled)
	assert.NoDirExists(t, p.Data)
	_, err = Ensure(t.Context(), h, p, hold{filled: &n})
	require.NoError(t, err)
	assert.NoDirExists(t, filepath.Join(p.Data, "rubble"))
}

func TestMeta(t *testing.T) {
	h, p := world(t)
	n := 0
	_, err := Ensure(t.Context(), h, p, hold{filled: &n})
	require.NoError(t, err)
	was, err := Read(p.Data)
	require.NoError(t, err)
	id := was.ID
	assert.NotEmpty(t, id)
	assert.Equal(t, Meta{Kind: "hold", Version: "1.0", ID: id}, was)
	p.Version = "1.1"
	_, err = Ensure(t.Context(), h, p, hold{filled: &n})
	require.NoError(t, err)
	was, err = Read(p.Data)
	require.NoError(t, err)
	assert.Equal(t, "1.0", was.Version, "the newer one has not read them yet")
	require.NoError(t, Answered(p.Data, "1.1"))
	was, err = Read(p.Data)
	require.NoError(t, err)
	assert.Equal(t, "1.1", was.Version, "the version that writes it now")
	assert.Equal(t, id, was.ID, "the data are the same")
	require.NoError(t, os.RemoveAll(p.Data))
	_, err = Ensure(t.Context(), h, p, hold{filled: &n})
	require.NoError(t, err)
	was, err = Read(p.Data)
	require.NoError(t, err)
	assert.NotEqual(t, id, was.ID, "new data have another id")
}

// A kind without a filler gets an empty folder.
func TestEnsureEmpty(t *testing.T) {
	h, p := world(t)
	filled, err := Ensure(t.Context(), h, p, struct{ kind.Kind }{})
	require.NoError(t, err)
	assert.True(t, filled)
	entries, err := os.ReadDir(p.Data)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

// A copy is the same to the byte, even where it has holes.
func TestCopyFile(t *testing.T) {
	dir := t.TempDir()
	whole := make([]byte, 5*block+17)
	for name, content := range map[string][]byte{
		"empty": nil, "short": []byte("kelp"), "zeros": whole[:3*block], "zeros and a bit": whole,
		"a spot":  append(append(make([]byte, block+9), "salt"...), make([]byte, 2*block)...),
		"the end": append(make([]byte, 2*block), 1),
	} {
		from, to := filepath.Join(dir, name), filepath.Join(dir, name+" copy")
		require.NoError(t, os.WriteFile(from, content, 0o640))
		again := func() error {
			in, err := os.Open(from)
			require.NoError(t, err)
			return copyFile(t.Context(), in, to, 0o640)
		}
		require.NoError(t, again())
		got, err := os.ReadFile(to)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(content, got), name)
		assert.Error(t, again(), "nothing is overwritten")
	}
}

// reloads is a kind whose newer programs cannot read older data.
type reloads struct{ hold }

func (reloads) Needs(stackfile.PartConfig) kind.Needs {
	return kind.Needs{Data: true, Older: kind.ReloadsOlder}
}
func (k reloads) Upgrade(_ context.Context, p kind.Part, dir string) error {
	text, err := os.ReadFile(filepath.Join(p.Data, "deck", "cargo"))
	if err != nil {
		return err
	}
	return errors.Join(os.WriteFile(filepath.Join(dir, "cargo"), text, 0o600), k.fails)
}

// converts is a kind whose newer programs change older data.
type converts struct{ hold }

func (converts) Needs(stackfile.PartConfig) kind.Needs {
	return kind.Needs{Data: true, Older: kind.ChangesOlder}
}

// Data are marked before a newer version gets them, and are what they were if that fails.
func TestUpgrade(t *testing.T) {
	h, p := world(t)
	n := 0
	_, err := Ensure(t.Context(), h, p, hold{filled: &n})
	require.NoError(t, err)
	cargo := filepath.Join(p.Data, "deck", "cargo")
	require.NoError(t, os.WriteFile(cargo, []byte("mine"), 0o600))
	p.Version, p.UpgradeFrom = "2.0", "1.0"
	cancelled, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Ensure(cancelled, h, p, converts{})
	require.ErrorIs(t, err, context.Canceled)
	_, err = Ensure(t.Context(), h, p, reloads{hold{fails: errors.New("refused")}})
	require.ErrorContains(t, err, "refused")
	was, err := Read(p.Data)
	require.NoError(t, err)
	assert.Equal(t, "1.0", was.Version, "not changed yet")
	assert.FileExists(t, cargo)
	assert.NoDirExists(t, Prepared(p.Data))

	_, err = Ensure(t.Context(), h, p, converts{})
	require.NoError(t, err)
	now, err := Read(p.Data)
	require.NoError(t, err)
	assert.Equal(t, "1.0", now.Version, "until the newer one answers, the older one may come back")
	assert.Equal(t, was.ID, now.ID)
	require.NoError(t, os.WriteFile(cargo, []byte("changed"), 0o600))
	_, err = Ensure(t.Context(), h, p, converts{})
	require.NoError(t, err)
	require.NoError(t, Answered(p.Data, p.Version))
	now, err = Read(p.Data)
	require.NoError(t, err)
	assert.Equal(t, Meta{Kind: "hold", Version: "2.0", ID: was.ID}, now)
	require.NoError(t, putBack(t.Context(), p.Data, BeforeUpgrade("1.0")))
	text, err := os.ReadFile(cargo)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(text), "the mark is of before")

	_, err = Ensure(t.Context(), h, p, reloads{})
	require.NoError(t, err)
	now, err = Read(p.Data)
	require.NoError(t, err)
	assert.Equal(t, Meta{Kind: "hold", Version: "2.0", ID: was.ID}, now)
	text, err = os.ReadFile(filepath.Join(p.Data, "cargo"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(text))
	assert.NoFileExists(t, cargo)
}
