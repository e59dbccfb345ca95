package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type taskList struct {
	Tasks []struct {
		Name, When, Log string
		Last            *struct {
			Code int
			How  string
		}
	}
}

func (w *world) tasks() taskList {
	w.t.Helper()
	var l taskList
	w.json(&l, "task")
	return l
}

// noted returns the lines that the tasks of a project wrote to the file notes.
func (w *world) noted() []string {
	text, err := os.ReadFile(filepath.Join(w.dir, "notes"))
	if os.IsNotExist(err) {
		return nil
	}
	require.NoError(w.t, err)
	return strings.Fields(string(text))
}

// A store that uses an application starts after the task that this needs, and the start ends.
func TestTasksBesideAStoreThatUsesAnApplication(t *testing.T) {
	w := newWorld(t)
	w.write("server.py", "import http.server, os\n"+
		"assert os.path.exists('ready'), 'the task has not run'\n"+
		"http.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])), "+
		"http.server.SimpleHTTPRequestHandler).serve_forever()\n")
	w.write("dravit.toml", `name = "quay"
[part.lookout]
kind = "python"
command = "exec python3 server.py"
uses = []
[part.seats]
kind = "dravit-cache"
uses = ["lookout"]
[part.log]
kind = "sqlite"
[[task]]
name = "ready"
command = "touch ready"
when = "first-start"
`)
	r := w.must("start", "--timeout", "60s")
	assert.NotContains(t, r.stderr, "failed")
	for _, name := range []string{"lookout", "seats", "log"} {
		assert.Equal(t, "answers", w.status().part(t, name).State)
	}
	w.must("stop")
	w.must("start")
}

// A start creates the tables of an application with its tasks, once for the data, and the page shows their rows.
func TestTasks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("dravit.toml", `name = "quay"
[part.db]
kind = "mariadb"
[part.app]
kind = "php"
extensions = ["mysqli"]
[[site]]
name = "quay"
root = "public"
app = "app"
expect = { text = "heron" }
[[task]]
name = "rows"
part = "app"
after = ["tables"]
command = "echo rows >> notes; mariadb -e \"REPLACE INTO boats VALUES (1, '$BOAT')\""
when = "every-start"
env = { BOAT = "heron of {db.database}" }
[[task]]
name = "tables"
part = "app"
folder = "schema"
command = "echo tables >> ../notes; php -r 'echo PHP_VERSION, PHP_EOL;'; mariadb < tables.sql"
when = "first-start"
if_changed = ["schema/*.sql"]
[[task]]
name = "leave"
command = "echo leave >> notes"
when = "before-stop"
[[task]]
name = "count"
command = "mariadb -Ne 'SELECT COUNT(*) FROM boats'"
`)
	w.write("schema/tables.sql", "CREATE TABLE IF NOT EXISTS boats (id INT PRIMARY KEY, name VARCHAR(40));")
	w.write("public/index.php", `<?php $d = new mysqli(getenv("DB_HOST"), getenv("DB_USER"), getenv("DB_PASSWORD"),
		getenv("DB_DATABASE"), (int)getenv("DB_PORT"));
		echo $d->query("SELECT name FROM boats")->fetch_row()[0];`)
	assert.Equal(t, 1, w.dravit("task", "count").code, "the stack does not run")
	assert.Contains(t, w.must("task").stdout, "never")
	w.must("start")
	assert.Equal(t, []string{"tables", "rows"}, w.noted())
	assert.Equal(t, "1\n", w.must("task", "count").stdout)
	assert.Equal(t, 2, w.dravit("task", "cuont").code)
	w.must("start")
	assert.Len(t, w.noted(), 2, "the stack runs already, and nothing has changed")
	w.must("stop")
	w.must("start")
	assert.Equal(t, []string{"tables", "rows", "leave", "rows"}, w.noted())
	w.write("schema/more.sql", "-- more")
	w.must("start")
	assert.Equal(t, []string{"tables", "rows", "leave", "rows", "tables"}, w.noted())
	for _, x := range w.tasks().Tasks {
		require.NotNil(t, x.Last, x.Name)
		assert.Zero(t, x.Last.Code, x.Name)
		if x.Name == "tables" {
			log, err := os.ReadFile(x.Log)
			require.NoError(t, err)
			assert.Regexp(t, `^8\.\d+\.\d+\n$`, string(log), "its output is in its log")
		}
	}
	w.must("remove", "db", "--data", "--yes")
	w.eventually("the page misses its database", func() bool { return w.status().part(t, "app").State != "answers" })
	w.must("start")
	assert.Equal(t, "tables", w.noted()[5], "new data have no tables")
	w.must("stop", "--skip-tasks")
	assert.Equal(t, 1, strings.Count(strings.Join(w.noted(), " "), "leave"))
}

// A task that fails stops what depends on it, is named with its output, and the next start goes on from there.
func TestTaskFails(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	stack := `name = "quay"
[part.seats]
kind = "dravit-cache"
[part.app]
kind = "custom"
command = "exec python3 -m http.server --bind 127.0.0.1 {port}"
[[task]]
name = "first"
command = "echo first >> notes"
when = "first-start"
[[task]]
name = "second"
command = "echo second >> notes; echo low tide; COMMAND"
when = "first-start"
[[task]]
name = "third"
command = "echo third >> notes"
when = "every-start"
[[task]]
name = "leave"
command = "exit 3"
when = "before-stop"
`
	w.write("dravit.toml", strings.Replace(stack, "COMMAND", "exit 7", 1))
	for range 2 {
		r := w.dravit("start")
		assert.Equal(t, 1, r.code, r.all())
		for _, want := range []string{"the task second failed", "it exited with code 7",
			"low tide", "dravit task second"} {
			assert.Contains(t, flat(r.stderr), want)
		}
	}
	assert.Equal(t, []string{"first", "second", "second"}, w.noted())
	s := w.status()
	assert.Equal(t, "answers", s.part(t, "seats").State)
	// What may depend on the task waits for it, whatever restarts, and status says why.
	kill(t, w.keeperPID())
	for range 2 {
		s = w.status()
		assert.Equal(t, "waiting", s.part(t, "app").State)
		assert.Equal(t, "failed", s.State)
		assert.Contains(t, s.part(t, "app").Because, "the task second failed")
		assert.Contains(t, w.must("status").stdout, "task second  failed")
		w.eventually("the store answers", func() bool { return w.status().part(t, "seats").State == "answers" })
	}
	var failure struct{ Error struct{ Code string } }
	w.json(&failure, "start")
	assert.Equal(t, "task-failed", failure.Error.Code)
	w.write("dravit.toml", strings.Replace(stack, "COMMAND", "true", 1))
	w.must("start")
	assert.Equal(t, []string{"first", "second", "second", "second", "second", "third"}, w.noted())
	r := w.dravit("stop")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "the task leave failed")
	assert.Equal(t, "answers", w.status().part(t, "app").State, "nothing was stopped")
	w.must("stop", "--skip-tasks")
}

// Tasks that misbehave end, and nothing of them is left.
func TestBadTasks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for name, c := range map[string]struct {
		command, timeout, says string
	}{
		"waits for a terminal": {`read answer; echo "answer: $answer"; exit 4`, "",
			"it exited with code 4 its output ends with answer:"},
		"opens the terminal": {"cat /dev/tty", "", "No such device or address"},
		"floods its output":  {"yes 'low tide' | head -c 30000000; exit 4", "", "low tide"},
		"never ends":         {"sleep 300 & trap '' TERM; sleep 301; sleep 302", "1s", "it took longer than 1s"},
		"is killed":          {"kill -9 $$", "", "it exited with code 137"},
		"is no command":      {"exec lowtide", "", "it exited with code 127"},
	} {
		t.Run(name, func(t *testing.T) {
			stack := "name = \"quay\"\n[part.seats]\nkind = \"dravit-cache\"\n[[task]]\nname = \"tide\"\n" +
				fmt.Sprintf("when = \"every-start\"\ncommand = %q\n", c.command)
			if c.timeout != "" {
				stack += "timeout = \"" + c.timeout + "\"\n"
			}
			w.write("dravit.toml", stack)
			r := w.dravit("start")
			assert.Equal(t, 1, r.code, r.all())
			assert.Contains(t, flat(r.stderr), c.says)
			w.must("stop")
			w.eventually("nothing is left", func() bool { return len(w.living()) == 0 })
		})
	}
	logs, err := filepath.Glob(w.stackPath("tasks", "*.log*"))
	require.NoError(t, err)
	for _, log := range logs {
		info, err := os.Stat(log)
		require.NoError(t, err)
		assert.LessOrEqual(t, info.Size(), int64(9<<20), log)
	}
	// What goes into the background is stopped, and the task is done.
	w.write("dravit.toml", "name = \"quay\"\n[part.seats]\nkind = \"dravit-cache\"\n[[task]]\nname = \"tide\"\n"+
		"when = \"every-start\"\ncommand = \"setsid sleep 303 >/dev/null 2>&1 & true\"\n")
	w.must("start")
	assert.Zero(t, w.tasks().Tasks[0].Last.Code)
	w.must("stop")
	assert.Empty(t, w.living())
}

// A start goes on with the stack file that it has read, whatever a task writes into it; the next start reads it again.
func TestTaskChangesTheStackFile(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	file := "name = \"quay\"\n[part.seats]\nkind = \"dravit-cache\"\n[[task]]\nname = \"tide\"\n" +
		"when = \"first-start\"\ncommand = \"echo tide >> notes; cp next dravit.toml\"\n" +
		"[[task]]\nname = \"quay\"\nwhen = \"first-start\"\ncommand = \"echo quay >> notes\"\n"
	w.write("dravit.toml", file)
	w.write("next", strings.ReplaceAll(file, "echo quay", "echo pier")+"[part.more]\nkind = \"dravit-cache\"\n")
	w.must("start")
	assert.Equal(t, []string{"tide", "quay"}, w.noted())
	assert.Len(t, w.status().Parts, 1)
	w.must("start")
	assert.Len(t, w.status().Parts, 2)
	w.write("dravit.toml", file+"[part.")
	assert.Equal(t, 2, w.dravit("start").code)
	assert.Equal(t, "answers", w.status().State, "what runs goes on")
}

// A task that is interrupted has failed: by Ctrl-C, and by the end of the command that runs it. Nothing of it lives on.
func TestTaskInterrupted(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("dravit.toml", `name = "quay"
[part.seats]
kind = "dravit-cache"
[[task]]
name = "tide"
when = "first-start"
command = "echo tide >> notes; [ -e quick ] || sleep 304"
`)
	for i, signal := range []syscall.Signal{syscall.SIGINT, syscall.SIGKILL} {
		cmd := w.command(context.Background(), "start")
		require.NoError(t, cmd.Start())
		w.eventually("the task runs", func() bool { return len(w.noted()) == i+1 })
		require.NoError(t, cmd.Process.Signal(signal))
		_ = cmd.Wait()
		if signal == syscall.SIGINT {
			assert.Equal(t, 130, cmd.ProcessState.ExitCode())
			assert.Empty(t, w.living(), "Ctrl-C stops what the start has started")
		}
		w.eventually("the task is gone", func() bool {
			out, _ := os.ReadFile(w.stackPath("tasks", "tide.lock"))
			return len(w.membersOf("tide")) == 0 && len(out) > 0
		})
		last := w.tasks().Tasks[0].Last
		require.NotNil(t, last)
		assert.Equal(t, "it was interrupted", last.How)
	}
	w.write("quick", "")
	w.must("start")
	assert.Len(t, w.noted(), 3)
	assert.Zero(t, w.tasks().Tasks[0].Last.Code)
}

// Two starts at once run a task once.
func TestTwoStartsWithTasks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("dravit.toml", `name = "quay"
[part.seats]
kind = "dravit-cache"
[[task]]
name = "tide"
when = "first-start"
command = "echo tide >> notes; sleep 1"
`)
	var both sync.WaitGroup
	for range 2 {
		both.Go(func() {
			if r := w.dravit("start"); r.code != 0 {
				t.Error(r.all())
			}
		})
	}
	both.Wait()
	assert.Equal(t, []string{"tide"}, w.noted())
	time.Sleep(10 * time.Millisecond)
	assert.Equal(t, "answers", w.status().State)
}
