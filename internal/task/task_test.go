package task

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/confined"
	"dravit/internal/stackfile"
)

func TestDue(t *testing.T) {
	noon := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	ran := Record{At: noon, Data: "db=1 ", Files: "f"}
	failed := Record{At: noon, Data: "db=1 ", Files: "f", Code: 1, How: "it exited with code 1"}
	for name, c := range map[string]struct {
		when  string
		last  Record
		began time.Time
		data  string
		files string
		due   bool
	}{
		"the first start":          {stackfile.FirstStart, Record{}, noon, "", "f", true},
		"done":                     {stackfile.FirstStart, ran, noon.Add(time.Hour), "db=1 ", "f", false},
		"new data":                 {stackfile.FirstStart, ran, noon, "db=2 ", "f", true},
		"no data yet":              {stackfile.FirstStart, ran, noon, "db= ", "f", true},
		"changed files":            {stackfile.FirstStart, ran, time.Time{}, "db=1 ", "g", true},
		"failed":                   {stackfile.FirstStart, failed, time.Time{}, "db=1 ", "f", true},
		"a start":                  {stackfile.EveryStart, ran, noon.Add(time.Second), "db=1 ", "f", true},
		"done in this start":       {stackfile.EveryStart, ran, noon.Add(-time.Second), "db=1 ", "f", false},
		"failed in this start":     {stackfile.EveryStart, failed, noon.Add(-time.Second), "db=1 ", "f", true},
		"no start: the stack runs": {stackfile.EveryStart, ran, time.Time{}, "db=1 ", "f", false},
		"a stop":                   {stackfile.BeforeStop, Record{}, noon, "", "f", false},
		"by hand":                  {"", failed, noon, "", "f", false},
		"no start, but new data":   {stackfile.EveryStart, ran, time.Time{}, "db=2 ", "f", true},
	} {
		t.Run(name, func(t *testing.T) {
			x := Task{TaskConfig: stackfile.TaskConfig{When: c.when}, Data: c.data}
			assert.Equal(t, c.due, x.Due(c.last, c.began, c.files))
		})
	}
}

func TestDigestFollowsFiles(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	x := Task{TaskConfig: stackfile.TaskConfig{IfChanged: []string{"schema/*.sql", "lib"}}, Project: dir}
	seen := map[string]string{}
	for _, step := range []struct {
		name, file, text string
		changes          bool
	}{
		{"nothing", "other.txt", "x", false},
		{"a new file", "schema/a.sql", "one", true},
		{"another text", "schema/a.sql", "two", true},
		{"a file of another name", "schema/a.txt", "x", false},
		{"a file in a folder", "lib/deep/x.php", "x", true},
	} {
		was, err := x.Digest()
		require.NoError(t, err)
		write(step.file, step.text)
		now, err := x.Digest()
		require.NoError(t, err)
		assert.Equal(t, step.changes, was != now, step.name)
		if step.changes {
			assert.Empty(t, seen[now], step.name)
			seen[now] = step.name
		}
	}
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "schema", "b.sql")))
	_, err := x.Digest()
	var outside *confined.OutsideError
	assert.ErrorAs(t, err, &outside)
	none, err := Task{Project: dir}.Digest()
	assert.NoError(t, err)
	assert.Empty(t, none)
}

// A log has at most two files of a bounded size, and ends with what was written last.
func TestLogIsBounded(t *testing.T) {
	path := filepath.Join(t.TempDir(), "tables.log")
	log, err := newLog(path)
	require.NoError(t, err)
	line := strings.Repeat("tide ", 1<<17) + "\n"
	var shown int
	require.NoError(t, copyLines(strings.NewReader(strings.Repeat(line, 30)+"last"), log, func(string) { shown++ }))
	require.NoError(t, log.Close())
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, bytes.HasSuffix(text, []byte("last")))
	assert.LessOrEqual(t, len(text), maxLog)
	old, err := os.Stat(path + ".1")
	require.NoError(t, err)
	assert.LessOrEqual(t, old.Size(), int64(maxLog))
	assert.Greater(t, shown, 30)
}

func TestErrorExplainsItself(t *testing.T) {
	err := &Error{Task: "tables", Record: Record{How: "it exited with code 1"}}
	assert.EqualError(t, err, "the task tables failed: it exited with code 1")
	assert.ErrorContains(t, err.Unwrap(), "the task tables failed")
}

// What explains the failure of an installer stands before what it writes last.
func TestTellingLines(t *testing.T) {
	lines := []string{"npm WARN old lockfile", "npm ERR! code ERESOLVE", "npm ERR! Could not resolve dependency:"}
	for range 300 {
		lines = append(lines, "fetching a boat")
	}
	lines = append(lines, "npm ERR! A complete log of this run is elsewhere")
	assert.Equal(t, []string{"npm ERR! code ERESOLVE", "npm ERR! Could not resolve dependency:",
		"npm ERR! A complete log of this run is elsewhere"}, telling(lines))
	assert.Equal(t, []string{"low", "tide"}, telling([]string{"low", "tide"}))
	many := []string{"the first error"}
	for range 100 {
		many = append(many, "another error")
	}
	got := telling(many)
	assert.Len(t, got, tailLines)
	assert.Equal(t, "the first error", got[0])
}
