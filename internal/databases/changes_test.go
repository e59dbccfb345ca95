package databases

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/data"
	"dravit/internal/kind"
	"dravit/internal/trouble"
)

// names returns the names of marks.
func names(marks []data.Mark) []string {
	out := []string{}
	for _, m := range marks {
		out = append(out, m.Name)
	}
	return out
}

func (s *Stack) marks(t *testing.T, of Target) []string {
	t.Helper()
	_, all, err := s.Marks(of)
	require.NoError(t, err)
	return names(all)
}

// A load takes the place of what was there, which becomes a mark; a load that fails changes nothing.
func TestLoad(t *testing.T) {
	for _, part := range []string{"db", "office"} {
		s, q := pier(t, part)
		out, err := s.loadText(t, Target{}, boats)
		require.NoError(t, err)
		assert.Empty(t, out.Mark, "nothing was there")
		assert.Positive(t, out.Bytes)
		assert.Equal(t, []string{part}, q.loaded)
		out, err = s.loadText(t, Target{}, "CREATE TABLE boats (name TEXT);\nINSERT INTO boats VALUES ('Heron');\n")
		require.NoError(t, err)
		assert.Equal(t, "before-load", out.Mark)
		assert.Equal(t, []string{"Heron"}, s.rows(t, Target{}))
		_, err = s.loadText(t, Target{}, "CREATE TABLE boats (name TEXT);\nfog;\n")
		assert.Equal(t, trouble.LoadFailed, trouble.CodeOf(err))
		require.ErrorContains(t, err, "is as it was")
		assert.Equal(t, []string{"Heron"}, s.rows(t, Target{}))
		assert.Len(t, q.loaded, 2)
		assert.False(t, data.Torn(s.Parts[0].Data))
		_, _, err = s.Rewind(t.Context(), Target{}, "before-load", false)
		require.NoError(t, err)
	}
	s, _ := pier(t, "db")
	for text, code := range map[string]trouble.Code{"": trouble.LoadFailed,
		"-- MariaDB dump 10.19\nCREATE TABLE `boats` (`name` int) ENGINE=InnoDB;\n": trouble.WrongKind} {
		_, err := s.loadText(t, Target{}, text)
		assert.Equal(t, code, trouble.CodeOf(err), text)
	}
}

// One command at a time changes data.
func TestBusy(t *testing.T) {
	s, q := pier(t, "db")
	done, err := s.TakeData(s.Parts[0].Data, "the seed")
	require.NoError(t, err)
	_, _, err = s.Mark(t.Context(), Target{}, "")
	assert.Equal(t, trouble.Busy, trouble.CodeOf(err))
	require.ErrorContains(t, err, "the database db")
	_, _, err = s.Mark(t.Context(), Target{All: true}, "")
	assert.Equal(t, trouble.Busy, trouble.CodeOf(err))
	q.runs = false // no keeper sweeps
	gone := s.Parts[0].Data + ".gone-1"
	require.NoError(t, os.MkdirAll(gone, 0o700))
	done()
	assert.NoDirExists(t, gone)
	_, _, err = s.Mark(t.Context(), Target{All: true}, "")
	require.NoError(t, err, "what was taken is given back")
	of, _, err := s.of(Target{All: true})
	require.NoError(t, err)
	done, err = of.change("a mark")
	require.NoError(t, err)
	defer done()
	_, _, err = s.Mark(t.Context(), Target{All: true}, "")
	require.ErrorContains(t, err, "the whole stack")
}

func TestMarks(t *testing.T) {
	for _, part := range []string{"db", "office"} {
		s, q := pier(t, part)
		s.exec(t, Target{}, boats)
		m, left, err := s.Mark(t.Context(), Target{}, "quiet day")
		require.NoError(t, err)
		assert.Equal(t, "quiet day", m.Name)
		assert.Positive(t, m.Bytes)
		assert.Empty(t, left)
		assert.Equal(t, part == "office", len(q.rested) == 1, "only a server has to rest")
		_, _, err = s.Mark(t.Context(), Target{}, "quiet day")
		require.ErrorContains(t, err, "there is a mark quiet day already")
		_, _, err = s.Mark(t.Context(), Target{}, "a\nb")
		assert.Equal(t, trouble.BadName, trouble.CodeOf(err))
		s.exec(t, Target{}, "INSERT INTO boats VALUES ('Heron')")
		m, _, err = s.Rewind(t.Context(), Target{}, "", false)
		require.NoError(t, err)
		assert.Equal(t, "quiet day", m.Name)
		assert.Equal(t, []string{"Cormorant"}, s.rows(t, Target{}))
		assert.ElementsMatch(t, []string{"quiet day", "before-rewind"}, s.marks(t, Target{}))
		m, _, err = s.Rewind(t.Context(), Target{}, "before-rewind", false)
		require.NoError(t, err)
		assert.Equal(t, []string{"Cormorant", "Heron"}, s.rows(t, Target{}), "it is undone")
		require.NoError(t, s.DeleteMark(Target{}, "before-rewind"))
		_, _, err = s.Rewind(t.Context(), Target{}, "quiet day", true)
		require.NoError(t, err)
		assert.Equal(t, []string{"quiet day"}, s.marks(t, Target{}), "what was before is forgotten")
		_, _, err = s.Rewind(t.Context(), Target{}, "storm", false)
		assert.Equal(t, trouble.NoMark, trouble.CodeOf(err))
		require.ErrorContains(t, err, "quiet day")
		require.ErrorContains(t, s.DeleteMark(Target{}, "storm"), "there is no mark storm")
		require.NoError(t, s.DeleteMark(Target{}, "quiet day"))
		_, _, err = s.Rewind(t.Context(), Target{}, "", false)
		require.ErrorContains(t, err, "no mark to go back to")
	}
}

// A server does not get data that another kind wrote, nor such as its release does not read; a stopped part does.
func TestMarksOfOtherReleases(t *testing.T) {
	s, _ := pier(t, "office")
	_, _, err := s.Mark(t.Context(), Target{}, "old")
	require.NoError(t, err)
	s.Parts[0].Version = "4.1"
	_, _, err = s.Rewind(t.Context(), Target{}, "old", false)
	require.ErrorContains(t, err, "ledgers 3.40 wrote the data of office, which runs ledgers 4.1")
	assert.Contains(t, trouble.Of(err).Next, `version = "3"`)
	atQuay["office"] = false
	_, _, err = s.Rewind(t.Context(), Target{}, "old", false)
	require.NoError(t, err)
	s.Parts[0].Kind = "sqlite"
	_, _, err = s.Rewind(t.Context(), Target{}, "old", false)
	assert.Contains(t, trouble.Of(err).Next, `kind = "ledgers" for the part`)
}

// A mark of the whole stack is of every part and of the writable folders, at one moment.
func TestWholeStack(t *testing.T) {
	s, q := pier(t, "office", "db", "far")
	s.Parts[0].Want.Writable = []string{"uploads", "uploads", "../out"}
	upload := filepath.Join(s.Dir, "uploads", "chart.png")
	require.NoError(t, os.MkdirAll(filepath.Dir(upload), 0o700))
	require.NoError(t, os.WriteFile(upload, []byte("old"), 0o600))
	all, db, office := Target{All: true}, Target{Part: "db"}, Target{Part: "office"}
	s.exec(t, db, boats)
	s.exec(t, office, boats)
	m, left, err := s.Mark(t.Context(), all, "quiet")
	require.NoError(t, err)
	assert.Equal(t, []string{"uploads"}, m.Folders)
	require.Len(t, left, 2)
	assert.Contains(t, left[0], "../out")
	assert.Equal(t, "the data of far, whose server runs outside of Dravit", left[1])
	assert.Equal(t, [][]string{{"db", "office"}}, q.rested, "in the order of their names")

	s.exec(t, db, "DELETE FROM boats")
	s.exec(t, office, "DELETE FROM boats")
	require.NoError(t, os.WriteFile(upload, []byte("new"), 0o600))
	_, _, err = s.Rewind(t.Context(), all, "", false)
	require.NoError(t, err)
	assert.Equal(t, []string{"Cormorant"}, s.rows(t, db))
	assert.Equal(t, []string{"Cormorant"}, s.rows(t, office))
	text, err := os.ReadFile(upload)
	require.NoError(t, err)
	assert.Equal(t, "old", string(text))
	part, marks, err := s.Marks(all)
	require.NoError(t, err)
	assert.Empty(t, part)
	assert.ElementsMatch(t, []string{"quiet", "before-rewind"}, names(marks))

	// A part that came later stays as it is, and so does a folder that is no longer named.
	later, _ := pier(t, "store")
	p := later.Parts[0]
	p.Data = s.Home.Stack("abc", "data", "store")
	_, err = data.Ensure(t.Context(), s.Home, p, s.Kinds.Of(p.Kind))
	require.NoError(t, err)
	s.Parts = append(s.Parts, p)
	s.Parts[0].Want.Writable = nil
	_, stays, err := s.Rewind(t.Context(), all, "quiet", true)
	require.NoError(t, err)
	assert.Contains(t, stays, "the data of store, which the mark has not")
	assert.Contains(t, stays, "the folder uploads, which no part names as writable any more")
	s.Parts = []kind.Part{p}
	_, _, err = s.Rewind(t.Context(), all, "quiet", true)
	require.ErrorContains(t, err, "the mark has no part that the stack has")
	require.NoError(t, s.DeleteMark(all, "quiet"))
	_, _, err = s.Rewind(t.Context(), all, "quiet", true)
	assert.Contains(t, trouble.Of(err).Next, "db marks --all")
}

// A rewind of the whole stack that died is finished before the next command changes a part.
func TestUnfinishedRewind(t *testing.T) {
	s, q := pier(t, "db", "office")
	all, db := Target{All: true}, Target{Part: "db"}
	s.exec(t, db, boats)
	_, _, err := s.Mark(t.Context(), all, "quiet")
	require.NoError(t, err)
	s.exec(t, db, "DELETE FROM boats")
	w, _, err := s.whole()
	require.NoError(t, err)
	m, err := findMark(w, "quiet")
	require.NoError(t, err)
	plan, _, err := w.rewinding(m)
	require.NoError(t, err)
	for _, p := range s.Parts {
		require.NoError(t, data.PrepareRewind(t.Context(), p.Data,
			data.ContentOf(data.Content(w.folder, "quiet"), p.Name)))
	}
	require.NoError(t, data.PrepareFolders(t.Context(), w.folder, data.Content(w.folder, "quiet")))
	require.NoError(t, data.Decide(w.folder, plan)) // and here it died
	w.dropPrepared()
	assert.DirExists(t, data.Prepared(s.Parts[0].Data), "it was decided")
	_, _, err = s.Mark(t.Context(), db, "next")
	require.NoError(t, err)
	assert.Equal(t, []string{"Cormorant"}, s.rows(t, db))
	assert.Contains(t, q.rested, []string{"db"})
	_, _, err = s.Mark(t.Context(), all, "last")
	require.NoError(t, err)
	assert.False(t, data.Decided(w.folder))
}

func TestDatabasesAndUsers(t *testing.T) {
	s, _ := pier(t, "office")
	require.NoError(t, s.AddDatabase(t.Context(), "", "archive"))
	require.ErrorContains(t, s.AddDatabase(t.Context(), "", "archive"), "there is a database archive already")
	require.ErrorContains(t, s.AddDatabase(t.Context(), "", "ferry"), "the part's own database")
	require.Error(t, s.AddDatabase(t.Context(), "x", "archive"))
	assert.Equal(t, []string{"archive"}, s.Others(t.Context()))
	a, err := s.Access(t.Context(), Target{}, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"archive"}, a.Others)
	s.exec(t, Target{Name: "archive"}, boats)
	require.ErrorContains(t, s.DropDatabase(t.Context(), "", "fog"), "there is no database fog")
	require.NoError(t, s.DropDatabase(t.Context(), "", "archive"))
	assert.Empty(t, s.Others(t.Context()))

	made, err := s.AddUser(t.Context(), Target{}, "clerk", true)
	require.NoError(t, err)
	assert.True(t, made.ReadOnly)
	assert.NotEmpty(t, made.Password)
	for name, says := range map[string]string{"clerk": "the users that were added to office are clerk",
		"ferry": "the application's own user", "root": "keeps that name", "a b": "32 letters"} {
		_, err := s.AddUser(t.Context(), Target{}, name, false)
		assert.Equal(t, trouble.BadName, trouble.CodeOf(err), name)
		assert.ErrorContains(t, err, says)
	}
	a, err = s.Access(t.Context(), Target{}, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"clerk"}, a.Users)
	require.NoError(t, s.DropUser(t.Context(), Target{}, "clerk"))
	require.ErrorContains(t, s.DropUser(t.Context(), Target{}, "clerk"), "no user was added to office")
	file, _ := pier(t, "db")
	_, err = file.AddUser(t.Context(), Target{}, "clerk", false)
	assert.Equal(t, trouble.WrongKind, trouble.CodeOf(err))
}

// A database of another stack is copied by its dump.
func TestCopyFrom(t *testing.T) {
	from, _ := pier(t, "db", "office")
	to, _ := pier(t, "db")
	from.exec(t, Target{Part: "db"}, boats)
	out, err := to.CopyFrom(t.Context(), Target{}, from, Target{Part: "db"}, func(Bytes) {})
	require.NoError(t, err)
	assert.Equal(t, "db", out.Part)
	assert.Equal(t, []string{"Cormorant"}, to.rows(t, Target{}))
	_, err = to.CopyFrom(t.Context(), Target{}, from, Target{}, func(Bytes) {})
	assert.Equal(t, trouble.Undecided, trouble.CodeOf(err))
}

// A seed fills a new database. One that fails leaves it empty, and is loaded anew.
func TestSeed(t *testing.T) {
	s, _ := pier(t, "db")
	p := s.Parts[0]
	seed := filepath.Join(s.Dir, "seed.sql")
	p.Want.Seed = "seed.sql"
	require.NoError(t, os.WriteFile(seed, []byte(boats+"fog;\n"), 0o600))
	_, err := s.Seed(t.Context(), p, false, nil, func(Bytes) {})
	require.ErrorContains(t, err, "fog")
	_, tables, err := s.Tables(t.Context(), Target{})
	require.NoError(t, err)
	assert.Empty(t, tables)
	s.exec(t, Target{}, "CREATE TABLE boats (name TEXT)") // what a load left that died
	require.NoError(t, os.WriteFile(seed, []byte(boats), 0o600))
	_, err = s.Seed(t.Context(), p, true, nil, func(Bytes) {})
	require.NoError(t, err)
	assert.Equal(t, []string{"Cormorant"}, s.rows(t, Target{}))
	assert.False(t, data.Torn(p.Data))
	p.Kind = "crates"
	_, err = s.Seed(t.Context(), p, false, nil, func(Bytes) {})
	require.Error(t, err)
}
