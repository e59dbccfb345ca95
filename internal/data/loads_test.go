package data

import (
	"context"
	"errors"
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/trouble"
)

// shelf is a store whose databases are texts.
type shelf struct {
	kind.Database
	texts map[string]string
	tidy  int
	fails error // of every load

	noClient bool // no program can dump
}

func (s *shelf) Dump(_ context.Context, p kind.Part, to io.Writer) error {
	if s.noClient {
		return &trouble.Trouble{Code: trouble.NoProgram, What: "the client is not installed"}
	}
	_, err := io.WriteString(to, s.texts[p.Database])
	return err
}
func (s *shelf) Tables(_ context.Context, p kind.Part, _ bool) (tables []kind.Table, err error) {
	if s.texts[p.Database] != "" {
		tables = []kind.Table{{Name: "boats"}}
	}
	return tables, nil
}
func (s *shelf) Drop(_ context.Context, p kind.Part) error   { delete(s.texts, p.Database); return nil }
func (s *shelf) Create(_ context.Context, p kind.Part) error { s.texts[p.Database] = ""; return nil }
func (s *shelf) Tidy(context.Context, kind.Part) error       { s.tidy++; return nil }
func (s *shelf) Load(_ context.Context, p kind.Part, from io.Reader) ([]string, error) {
	text, err := io.ReadAll(from)
	s.texts[p.Database] += string(text)
	return nil, errors.Join(err, s.fails)
}

// A load that fails, or dies, gives its database back what was in it. Its neighbours keep what they got meanwhile.
func TestLoadOver(t *testing.T) {
	p := kind.Part{Data: folder(t, "x"), Database: "quay"}
	s := &shelf{texts: map[string]string{"quay": "old", "tides": "1"}}
	wrong := errors.New("wrong")
	half := func(to kind.Part) error {
		assert.Empty(t, s.texts["quay"])
		s.texts[to.Database] = "half"
		s.texts["tides"] += "2"
		return wrong
	}
	done, err := Change(p.Data)
	require.NoError(t, err)
	require.NoError(t, BeginLoad(p.Data, p.Database))
	assert.ErrorIs(t, LoadOver(t.Context(), p, s, half), wrong)
	require.NoError(t, EndLoad(p.Data))
	assert.Equal(t, map[string]string{"quay": "old", "tides": "12"}, s.texts)

	// It dies in the middle.
	require.NoError(t, BeginLoad(p.Data, p.Database))
	func() {
		defer func() { _ = recover() }()
		_ = LoadOver(t.Context(), p, s, func(to kind.Part) error { _ = half(to); panic("killed") })
	}()
	assert.Equal(t, "half", s.texts["quay"])
	assert.False(t, LoadDied(p.Data), "the lock says that it is under way")
	require.NoError(t, PutRightAlone(t.Context(), p, s))
	assert.Equal(t, "half", s.texts["quay"])
	done()
	assert.True(t, LoadDied(p.Data))
	s.fails = wrong // the server dies, too
	require.ErrorIs(t, PutRightAlone(t.Context(), p, s), wrong)
	assert.True(t, LoadDied(p.Data))
	s.fails = nil
	main := p
	main.Database = "main" // the part's own database is another one
	require.NoError(t, PutRightAlone(t.Context(), main, s))
	assert.Equal(t, map[string]string{"quay": "old", "tides": "122"}, s.texts)
	assert.Equal(t, 2, s.tidy)
	assert.False(t, Torn(p.Data))
	assert.NoFileExists(t, before(p.Data))

	// It dies before it changes anything, and what it kept cannot be read.
	require.NoError(t, BeginLoad(p.Data, p.Database))
	require.NoError(t, PutRightAlone(t.Context(), p, s))
	assert.Equal(t, "old", s.texts["quay"])
	require.NoError(t, os.Mkdir(before(p.Data), 0o700))
	require.ErrorContains(t, LoadOver(t.Context(), p, s, half), "keeping what was in the database")
	assert.Equal(t, "old", s.texts["quay"])
}

// Without a client, what is in a database cannot be kept, so nothing is loaded over it; an empty one needs none.
func TestLoadOverWithoutClient(t *testing.T) {
	p := kind.Part{Data: folder(t, "x"), Database: "quay"}
	s := &shelf{texts: map[string]string{"quay": "old"}, noClient: true}
	wrong := errors.New("wrong")
	half := func(to kind.Part) error { s.texts[to.Database] = "half"; return wrong }
	done, err := Change(p.Data)
	require.NoError(t, err)
	defer done()
	require.ErrorIs(t, LoadOver(t.Context(), p, s, half), trouble.NoProgram)
	assert.Equal(t, "old", s.texts["quay"])
	s.texts["quay"] = ""
	require.ErrorIs(t, LoadOver(t.Context(), p, s, half), wrong)
	assert.NotContains(t, s.texts["quay"], "half", "it is empty again")
}
