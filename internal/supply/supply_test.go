package supply

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/trouble"
)

// chest is a made-up format: its programs are in memory, by version.
type chest struct {
	Here
	format   string
	programs map[string]string
	laying   func(t *Laid) error // nil: nothing more happens
	folder   string              // it is an exported one
}

func (c *chest) Format() string           { return c.format }
func (c *chest) Carries(kind.Recipe) bool { return true }
func (c *chest) Keeps(folder string) bool { return folder == c.Said(c.format, "") }

func (c *chest) Find(ctx context.Context, r kind.Recipe, w Wish) (Offer, error) {
	series := map[string]bool{}
	for _, o := range (Supplier{Sources: []Source{c}}).Available(ctx, []kind.Recipe{r}) {
		series[o.Version] = true
		if w.Allows(o.Version, o.Release) {
			return o, nil
		}
	}
	return Offer{}, NoneFits(r.Name, series, "the chest has", "look under the boat")
}

func (c *chest) Available(_ context.Context, all []kind.Recipe) (found []Offer) {
	for _, r := range all {
		for version, text := range c.programs {
			sum := sha256.Sum256([]byte(text))
			id := hex.EncodeToString(sum[:])
			found = append(found, Offer{Kind: r.Name, Version: version, Package: r.Name, Release: version + "-1",
				Source: c.format, Bytes: int64(len(text)), Integrity: id, Name: id[:8],
				With: map[string]Pin{"oars": {Version: "2"}}})
		}
	}
	return found
}

func (c *chest) Lay(_ context.Context, o Offer, r kind.Recipe, t *Laid, progress func(done int64)) error {
	text := c.programs[o.Version]
	progress(o.Bytes)
	t.Sums[r.Name], t.Program = o.Integrity, filepath.Join(t.Dir, "files", r.Name)
	err := os.WriteFile(filepath.Join(t.Files(), r.Name), []byte(text), 0o755)
	if c.laying != nil {
		err = errors.Join(err, c.laying(t))
	}
	return err
}

func (c *chest) Export(_ context.Context, trees []Tree, dir string, out *Exported, progress func(int64)) error {
	for _, t := range trees {
		out.Bytes += t.Bytes
		progress(t.Bytes)
		if err := os.WriteFile(filepath.Join(dir, t.Version), []byte(c.programs[t.Version]), 0o600); err != nil {
			return err
		}
	}
	return out.Put(c.format, len(trees))
}

func (c *chest) From(dir string, x Exported, _ bool) (Source, error) {
	programs := map[string]string{}
	for _, l := range x.Trees {
		text, err := os.ReadFile(filepath.Join(dir, l.Version))
		if err != nil {
			return nil, err
		}
		programs[l.Version] = string(text)
	}
	var count int
	ok, err := x.Read(c.format, &count)
	if !ok || count == 0 {
		return nil, err
	}
	return &chest{Here: c.Here, format: c.format, programs: programs, folder: dir}, err
}

var raft = kind.Recipe{Name: "raft", Inspect: func(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	out, err := run(path)
	return strings.TrimSpace(out), nil, err
}}

func afloat(version string) string { return "#!/bin/sh\necho " + version + "\n" }

// beach returns a supplier of two chests: an old one, and one with newer programs.
func beach(t *testing.T) (s Supplier, old, newer *chest) {
	t.Helper()
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	here := New(h, "dravit")
	old = &chest{Here: here, format: "oak", programs: map[string]string{"1.9": afloat("1.9"), "1.2": afloat("1.2")}}
	newer = &chest{Here: here, format: "tin", programs: map[string]string{"1.10": afloat("1.10"),
		"1.9": "#!/bin/sh\nexit 3\n"}}
	return Supplier{Here: here, Sources: []Source{old, newer}}, old, newer
}

func allowed(versions ...string) Wish {
	return Wish{Allowed: func(v string) bool { return slices.Contains(versions, v) }}
}

func (s Supplier) raft(t *testing.T, w Wish) (Tree, error) {
	t.Helper()
	o, err := s.Find(t.Context(), raft, w)
	require.NoError(t, err)
	return s.Get(t.Context(), o, raft, func(int64) {})
}

// A format of sources that nothing outside this test knows is found, laid, locked, exported, verified and forgotten as
// the others are.
func TestAnyFormat(t *testing.T) {
	s, old, _ := beach(t)
	var all []string
	for _, o := range s.Available(t.Context(), []kind.Recipe{raft}) {
		all = append(all, o.Source+" "+o.Version)
	}
	assert.Equal(t, []string{"tin 1.10", "oak 1.9", "tin 1.9", "oak 1.2"}, all)
	newest, err := s.raft(t, allowed("1.2", "1.9", "1.10"))
	require.NoError(t, err)
	assert.Equal(t, "1.10 of tin", newest.Version+" of "+newest.Format)
	tree, err := s.raft(t, allowed("1.2"))
	require.NoError(t, err)
	again, err := s.raft(t, allowed("1.2"))
	require.NoError(t, err)
	assert.Equal(t, tree.Dir, again.Dir)
	assert.Equal(t, map[string]Pin{"oars": {Version: "2"}}, again.With)
	trees, err := Trees(s.Home)
	require.NoError(t, err)
	require.Len(t, trees, 2)
	assert.Equal(t, 1, trees[1].Count)
	assert.EqualValues(t, len(afloat("1.2")), trees[1].Bytes)
	_, err = s.Find(t.Context(), raft, allowed("3"))
	require.ErrorContains(t, err, "no release of raft fits")
	assert.ErrorContains(t, err, "the chest has releases of 1.2, 1.9", "the first source's word counts")

	dir := t.TempDir()
	done := int64(0)
	out, err := s.Export(t.Context(), trees, dir, func(n int64) { done = n })
	require.NoError(t, err)
	assert.Equal(t, out.Bytes, done)
	text, err := os.ReadFile(filepath.Join(dir, exportFile))
	require.NoError(t, err)
	assert.Contains(t, string(text), `"oak": 1`)
	from, err := s.From(dir, false)
	require.NoError(t, err)
	require.Len(t, from.Sources, 2)
	require.NoError(t, Discard(t.Context(), s.Home, trees...))
	_, err = from.raft(t, allowed("1.2"))
	require.NoError(t, err)
	stray := tree
	stray.Format = "elm"
	_, err = s.Export(t.Context(), []Tree{stray}, dir, func(int64) {})
	assert.ErrorContains(t, err, "no source has raft 1.2-1")

	kept, left := old.Said("oak", ""), old.Said("elm", "")
	require.NoError(t, errors.Join(os.MkdirAll(kept, 0o700), os.MkdirAll(left, 0o700)))
	require.NoError(t, s.Forget())
	assert.DirExists(t, kept)
	assert.NoDirExists(t, left)
}

// A locked program is taken from whichever source has just that, and nothing else is.
func TestLocked(t *testing.T) {
	s, old, newer := beach(t)
	tree, err := s.raft(t, allowed("1.9"))
	require.ErrorContains(t, err, "raft 1.9-1 does not run on this machine")
	assert.Empty(t, tree)
	newer.programs["1.9"] = afloat("1.9") + "# of tin\n"
	tree, err = s.raft(t, allowed("1.9"))
	require.NoError(t, err)
	assert.Equal(t, "tin", tree.Format, "of two with the same version the later source counts")
	lock := tree.Locked("linux/amd64")
	assert.True(t, lock.Is(tree))

	old.programs["1.9"], newer.programs["1.9"] = newer.programs["1.9"], old.programs["1.9"]
	o, err := s.Find(t.Context(), raft, Wish{Exact: &lock})
	require.NoError(t, err)
	assert.Equal(t, "oak", o.Source, "the one that the lock names")
	lock.With = map[string]Pin{"oars": {Version: "3"}}
	assert.False(t, lock.Is(tree))
	_, err = s.Find(t.Context(), raft, Wish{Exact: &lock})
	require.ErrorContains(t, err, "the source's raft 1.9 is not the one in dravit.lock")
	assert.ErrorContains(t, err, "it has no oars 3 as it was locked")
	lock.Integrity = "kelp"
	_, err = s.Find(t.Context(), raft, Wish{Exact: &lock})
	assert.ErrorContains(t, err, "raft 1.9-1 is not the raft 1.9-1 that was locked")
	_, err = Supplier{}.Find(t.Context(), raft, allowed("1"))
	assert.ErrorIs(t, err, ErrNotCarried)
}

// What fails on the way to a tree leaves none, and what a killed supply left is replaced.
func TestWholeOrNotAtAll(t *testing.T) {
	s, old, _ := beach(t)
	sunk := errors.New("it sank")
	for name, laying := range map[string]func(*Laid) error{
		"while it is laid": func(*Laid) error { return sunk },
		"when it settles": func(l *Laid) error {
			l.Settle = func(context.Context) error {
				assert.FileExists(t, filepath.Join(l.Dir, "files", "raft"), "it stands at its place")
				assert.NoFileExists(t, filepath.Join(l.Dir, treeFile))
				return sunk
			}
			return nil
		},
	} {
		old.laying = laying
		_, err := s.raft(t, allowed("1.2"))
		require.ErrorIs(t, err, sunk, name)
		left, err := os.ReadDir(s.Path("trees"))
		require.NoError(t, err)
		assert.Empty(t, left, name)
	}
	o, err := s.Find(t.Context(), raft, allowed("1.2"))
	require.NoError(t, err)
	for _, dir := range []string{s.folder(o), s.folder(o) + NewSuffix} { // a supply was killed
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "files", "drift"), 0o700))
	}
	old.laying = func(l *Laid) error {
		l.Settle = func(context.Context) error { l.Version, l.Way = "1.2.7", ByLoader; return nil }
		return nil
	}
	tree, err := s.raft(t, allowed("1.2"))
	require.NoError(t, err)
	assert.Equal(t, "1.2.7", tree.Version, "what it said as it settled")
	assert.NoDirExists(t, filepath.Join(tree.Dir, "files", "drift"))
	wrong, err := tree.Verify()
	require.NoError(t, err)
	assert.Empty(t, wrong)
	require.NoError(t, os.WriteFile(filepath.Join(tree.Dir, "files", "raft"), nil, 0o700))
	wrong, err = tree.Verify()
	require.NoError(t, err)
	assert.Equal(t, []string{"raft"}, wrong)
}

// A tree that was made before trees named their format still has one.
func TestOlderTrees(t *testing.T) {
	s, _, _ := beach(t)
	for name, text := range map[string]string{"npm": `{"kind": "raft", "version": "1"}`,
		"debian": `{"kind": "raft", "version": "2", "packages": [{"name": "hull"}]}`} {
		dir := s.Path("trees", name)
		require.NoError(t, os.MkdirAll(dir, 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, treeFile), []byte(text), 0o600))
		tree, err := readTree(dir)
		require.NoError(t, err)
		assert.Equal(t, name, tree.Format)
	}
}

func TestLockFile(t *testing.T) {
	dir := t.TempDir()
	l, err := ReadLock(dir)
	require.NoError(t, err)
	assert.Empty(t, l.Parts, "there is none")
	l.Parts = map[string]Locked{"db": {Kind: "raft", Version: "1.9", Packages: map[string]Pin{"oars": {Version: "2"}}}}
	require.NoError(t, l.Write(dir))
	again, err := ReadLock(dir)
	require.NoError(t, err)
	assert.Equal(t, l, again)
	file := filepath.Join(dir, LockFile)
	for text, words := range map[string]string{`{"format": 2}`: "this Dravit knows 1", `{"form`: "unexpected end"} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := ReadLock(dir)
		assert.Equal(t, trouble.BadStackFile, trouble.CodeOf(err))
		assert.ErrorContains(t, err, words)
	}
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Mkdir(file, 0o700))
	_, err = ReadLock(dir)
	require.Error(t, err)
	assert.Error(t, l.Write(dir))
}

// What a source said that is no longer named is deleted; nothing else is.
func TestForget(t *testing.T) {
	s, old, _ := beach(t)
	require.NoError(t, s.Forget(), "nothing was asked yet")
	kept, gone := old.Said(old.format, ""), old.Said("elm", "")
	for _, dir := range []string{kept, gone} {
		require.NoError(t, os.MkdirAll(dir, 0o700))
	}
	note := s.Path("sources", "note")
	require.NoError(t, os.WriteFile(note, nil, 0o600))
	require.NoError(t, s.Forget())
	assert.DirExists(t, kept)
	assert.NoDirExists(t, gone)
	assert.FileExists(t, note)
	require.NoError(t, os.RemoveAll(s.Path("sources")))
	require.NoError(t, os.WriteFile(s.Path("sources"), nil, 0o600))
	assert.Error(t, s.Forget())
}
