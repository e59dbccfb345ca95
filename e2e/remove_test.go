package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const ledgerOffice = "name = \"office\"\n[part.db]\nkind = \"mariadb\"\n[[site]]\nname = \"office\"\n"

func (w *world) ledgerOffice() {
	w.write("dravit.toml", ledgerOffice)
	w.write("public/index.html", "<h1>Office</h1>")
	w.must("start")
	w.must("run", "--", "mariadb", "-e", "CREATE TABLE boats (name TEXT); INSERT INTO boats VALUES ('Kelp')")
}

func (w *world) boats() string {
	w.t.Helper()
	return strings.TrimSpace(w.dravit("run", "--", "mariadb", "-NBe", "SELECT name FROM boats").stdout)
}

// move renames the project's folder.
func (w *world) move(to string) {
	w.t.Helper()
	require.NoError(w.t, os.Rename(w.dir, to))
	w.dir = to
}

// A renamed folder keeps its stack: other commands find it, and a start uses its data after a yes. What ran from the
// old place then runs from the new one.
func TestMovedFolderKeepsItsData(t *testing.T) {
	w := newWorld(t)
	w.ledgerOffice()
	before := w.status()
	w.move(filepath.Join(filepath.Dir(w.dir), "new office"))
	assert.Equal(t, "Kelp", w.boats(), "commands find the stack that runs")
	r := w.must("status")
	assert.Contains(t, r.all(), "ferry office")
	r = w.dravit("start")
	assert.Equal(t, 4, r.code, "nobody is asked: nothing happens")
	assert.Contains(t, r.stderr, "ferry office")
	assert.Contains(t, r.stderr, "--as-new")
	assert.Equal(t, before.pids(), w.status().pids(), "and nothing is touched")

	w.must("start", "--yes")
	assert.Equal(t, "Kelp", w.boats())
	assert.Equal(t, before.part(t, "db").Port, w.status().part(t, "db").Port)
	assert.Len(t, w.book().Stacks, 1)
	_, page, _ := get(t, "GET", w.status().Sites[0].URL, nil)
	assert.Contains(t, page, "Office", "the page comes from the new place")
	w.must("check")

	w.must("stop") // stopped, and moved again
	w.move(filepath.Join(filepath.Dir(w.dir), "third office"))
	w.must("start", "--yes")
	assert.Equal(t, "Kelp", w.boats())
}

// A copy of a folder is a new stack, and so is a moved one if the user says so.
func TestCopiedFolderIsANewStack(t *testing.T) {
	w := newWorld(t)
	w.ledgerOffice()
	old := w.dir
	copied := filepath.Join(filepath.Dir(w.dir), "copy")
	out, err := exec.Command("cp", "-r", w.dir, copied).CombinedOutput()
	require.NoError(t, err, string(out))
	w.dir = copied
	w.own(copied)
	w.must("start")
	assert.Empty(t, w.boats())
	assert.Len(t, w.book().Stacks, 2)
	w.must("stop")

	w.dir = old
	w.move(filepath.Join(filepath.Dir(w.dir), "elsewhere"))
	w.must("start", "--as-new")
	assert.Empty(t, w.boats())
	assert.Len(t, w.book().Stacks, 3)
}

// A folder that moved to another file system has another inode: its stack file identifies it, if the old folder is
// gone.
func TestFolderOnAnotherFileSystem(t *testing.T) {
	w := newWorld(t)
	w.ledgerOffice()
	w.must("stop")
	old := w.dir
	w.dir = filepath.Join(filepath.Dir(old), "elsewhere")
	out, err := exec.Command("cp", "-r", old, w.dir).CombinedOutput() // what mv does there
	require.NoError(t, err, string(out))
	removeAll(t, old)
	w.own(w.dir)
	r := w.dravit("start")
	assert.Equal(t, 4, r.code, r.all())
	assert.Contains(t, r.stderr, "looks like")
	w.must("start", "--yes")
	assert.Equal(t, "Kelp", w.boats())
}

// remove releases ports and names and keeps the data; with --data it leaves nothing, even if the folder is gone.
func TestRemove(t *testing.T) {
	w := newWorld(t)
	w.ledgerOffice()
	r := w.dravit("remove")
	assert.Equal(t, 4, r.code, "nobody agreed")
	assert.Equal(t, "answers", w.status().State)

	var removed struct {
		Removed bool
		Ports   []int
		Names   []string
		Data    []struct {
			Part, Kind string
			Bytes      int64
		}
		Stays bool `json:"data_stays"`
	}
	r = w.json(&removed, "remove", "--yes")
	require.Equal(t, 0, r.code, r.all())
	assert.True(t, removed.Removed)
	assert.True(t, removed.Stays)
	assert.Equal(t, []string{"office.localhost"}, removed.Names)
	require.Len(t, removed.Data, 1)
	assert.Greater(t, removed.Data[0].Bytes, int64(1<<20))
	for _, s := range w.book().Stacks {
		assert.Empty(t, s.Ports)
		assert.Empty(t, s.Hosts)
	}
	assert.Empty(t, w.living())
	w.must("start")
	assert.Equal(t, "Kelp", w.boats(), "the data stayed, and their password")

	removeAll(t, w.dir)
	cmd := w.command(t.Context(), "remove", "--stack", "office", "--data", "--yes")
	cmd.Dir, w.dir = "/", filepath.Dir(w.home)
	result := finish(t, cmd)
	require.Equal(t, 0, result.code, result.all())
	assert.Contains(t, result.stdout, "of data deleted")
	assert.Empty(t, w.book().Stacks)
	left, _ := filepath.Glob(filepath.Join(w.home, "stacks", "*"))
	for _, dir := range left {
		assert.Equal(t, "gateway", filepath.Base(dir), "nothing of the stack is left")
	}
}

// If the stack file asks for another kind, the message says how to delete the data, and that works.
func TestDataMakesRoomForAnotherKind(t *testing.T) {
	w := newWorld(t)
	w.ledgerOffice()
	w.write("dravit.toml", strings.Replace(ledgerOffice, "mariadb", "postgres", 1))
	r := w.dravit("start")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, "dravit remove db --data")
	r = w.dravit("remove", "db")
	assert.Equal(t, 2, r.code, "not without --data")
	r = w.dravit("remove", "store", "--data", "--yes")
	assert.Equal(t, 2, r.code, r.all())
	w.must("remove", "db", "--data", "--yes")
	w.must("start")
	var plan struct{ Parts []struct{ Name, Kind string } }
	require.NoError(t, json.Unmarshal([]byte(w.must("plan", "--json").stdout), &plan))
	assert.Equal(t, "postgres", plan.Parts[0].Kind)
	w.must("check")
}
