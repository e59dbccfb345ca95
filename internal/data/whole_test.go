package data

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind"
)

// tree returns what is in a folder: the content of each file, the target of each link, "/" for a folder.
func tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		rel, err := filepath.Rel(dir, path)
		require.NoError(t, err)
		switch {
		case e.IsDir():
			all[rel] = "/"
		case e.Type() == fs.ModeSymlink:
			link, err := os.Readlink(path)
			require.NoError(t, err)
			all[rel] = "-> " + link
		default:
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			all[rel] = string(text)
		}
		return nil
	}))
	return all
}

// uploads makes a project with a writable folder that holds a link out of the project.
func uploads(t *testing.T) (project, folder string) {
	t.Helper()
	project = t.TempDir()
	folder = filepath.Join(project, "uploads")
	put(t, folder, "tide table")
	require.NoError(t, os.Symlink("/etc", filepath.Join(folder, "away")))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "empty"), 0o700))
	return project, folder
}

func TestMirror(t *testing.T) {
	project, folder := uploads(t)
	file := filepath.Join(folder, "sub", "file")
	old := time.Now().Add(-time.Hour).Truncate(time.Second)
	require.NoError(t, os.Chtimes(file, old, old))
	want, content := tree(t, folder), t.TempDir()
	require.NoError(t, SaveFolders(t.Context(), content, project, []string{"uploads"}))
	assert.Equal(t, want, tree(t, contentOfFolder(content, 0)))

	put(t, folder, "other text")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "new"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, rewindPrefix+"X"), nil, 0o600)) // of one that died
	require.NoError(t, os.Remove(filepath.Join(folder, "away")))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "away"), 0o700))
	put(t, filepath.Join(folder, "more"), "x")
	require.NoError(t, os.Remove(filepath.Join(folder, "empty")))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "empty"), nil, 0o600))
	for range 2 {
		require.NoError(t, putFolder(t.Context(), project, "uploads", contentOfFolder(content, 0)))
		assert.Equal(t, want, tree(t, folder))
	}
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.True(t, info.ModTime().Equal(old), "files keep their times")

	require.NoError(t, os.Symlink("/etc", filepath.Join(project, "out")))
	assert.NoError(t, InProject(project, "uploads"))
	for _, bad := range []string{"out", ".", "../x", "nowhere"} {
		assert.Error(t, InProject(project, bad), bad)
	}
}

// A rewind of a whole stack that dies after it was decided is finished part by part, as they start.
func TestRewindOfWholeStack(t *testing.T) {
	h, p := world(t)
	n := 0
	q := p
	q.Name, q.Data = "second", filepath.Join(filepath.Dir(p.Data), "second")
	for _, x := range []kind.Part{p, q} {
		_, err := Ensure(t.Context(), h, x, hold{filled: &n})
		require.NoError(t, err)
		put(t, x.Data, "one")
	}
	p.Name = filepath.Base(p.Data)
	project, folder := uploads(t)
	all := All(filepath.Dir(p.Data))
	m := Mark{Name: "before", Folders: []string{"uploads"}}
	require.NoError(t, SaveMark(t.Context(), all, m, func(ctx context.Context, content string) error {
		for _, x := range []kind.Part{p, q} {
			require.NoError(t, os.MkdirAll(ContentOf(content, x.Name), 0o700))
			require.NoError(t, Copy(ctx, x.Data, ContentOf(content, x.Name)))
		}
		return SaveFolders(ctx, content, project, m.Folders)
	}))
	put(t, p.Data, "two")
	put(t, q.Data, "two")
	put(t, folder, "other")

	r := Rewinding{Project: project, Folders: []Rewound{{Name: "uploads"}}}
	require.NoError(t, PrepareFolders(t.Context(), all, Content(all, "before")))
	for _, x := range []kind.Part{p, q} {
		require.NoError(t, PrepareRewind(t.Context(), x.Data, ContentOf(Content(all, "before"), x.Name)))
		r.Parts = append(r.Parts, MarkedPart{Name: x.Name, Meta: Meta{Kind: p.Kind, Version: p.Version}})
	}
	assert.False(t, Unfinished(p.Data))
	require.NoError(t, Decide(all, r))
	assert.True(t, Unfinished(p.Data))
	require.NoError(t, RemoveMark(all, "before"), "from now on the mark is not needed")
	require.NoError(t, os.Rename(q.Data, was(q.Data))) // it died in the midst of a swap

	_, err := Ensure(t.Context(), h, p, hold{filled: &n})
	require.NoError(t, err)
	assert.Equal(t, "one", content(t, p.Data))
	assert.Equal(t, "tide table", content(t, folder))
	assert.False(t, Unfinished(p.Data))
	assert.True(t, Unfinished(q.Data), "each part does its own share")
	put(t, folder, "newer")
	put(t, p.Data, "newer")
	_, err = Ensure(t.Context(), h, q, hold{filled: &n})
	require.NoError(t, err)
	assert.Equal(t, "one", content(t, q.Data))
	assert.Equal(t, "newer", content(t, p.Data))
	assert.Equal(t, "newer", content(t, folder), "nothing is done twice")
	assert.False(t, Decided(all))
	assert.NoDirExists(t, Prepared(all))
	var none Rewinding
	require.NoError(t, home.ReadJSON(rewindFile(all), &none))
	assert.Empty(t, none.Parts)
}
