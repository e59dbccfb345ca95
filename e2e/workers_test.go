package e2e

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/proc"
)

// consumerPy takes jobs from a list of the cache, and writes each to the file done with its process id.
const consumerPy = `import os, socket, sys, time
def ask(*words):
    s = socket.create_connection(("127.0.0.1", int(os.environ["REDIS_PORT"])))
    for command in (("AUTH", os.environ["REDIS_PASSWORD"]), words):
        s.sendall(b"*%d\\r\\n" % len(command) + b"".join(b"$%d\\r\\n%s\\r\\n" % (len(w), w.encode()) for w in command))
        answer = s.recv(1000).decode()
    s.close()
    return answer
if sys.argv[1:]:
    print(ask(*sys.argv[1:]))
    sys.exit()
while True:
    open("alive", "w").close()
    answer = ask("LPOP", "jobs")
    if not answer.startswith("$-1"):
        open("done", "a").write("%s %d\\n" % (answer.split()[1], os.getpid()))
    if os.path.exists("hang"):
        time.sleep(600)
    time.sleep(0.05)
`

// Workers take jobs beside the application: several processes of one command, watched, restarted and stopped as any
// part.
func TestWorkers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("consumer.py", strings.ReplaceAll(consumerPy, "\\\\", "\\"))
	for _, name := range []string{"alive", "done"} {
		w.write(name, "")
	}
	w.write("dravit.toml", `name = "quay"
[part.seats]
kind = "redis"
[part.consumer]
kind = "python"
command = "exec python3 consumer.py"
listens = false
processes = 3
proof = { file = "alive", within = "2s" }
`)
	done := func() []string {
		text, err := os.ReadFile(filepath.Join(w.dir, "done"))
		require.NoError(t, err)
		return strings.Fields(string(text))
	}
	w.must("start")
	s := w.status()
	p := s.part(t, "consumer")
	assert.Zero(t, p.Port)
	assert.Contains(t, w.must("check").stdout, "●●", "alive, and its proof")
	for _, job := range []string{"heron", "owl", "tern"} {
		w.must("run", "--", "python3", "consumer.py", "RPUSH", "jobs", job)
	}
	w.eventually("the jobs are done", func() bool { return len(done()) == 6 })
	consumers := func() []int { // without their supervisor
		return slices.DeleteFunc(w.project(), func(pid int) bool { return len(proc.Children(pid)) > 0 })
	}
	first := consumers()
	require.Len(t, first, 3)
	require.Contains(t, first, p.PID)

	kill(t, first[0])
	w.eventually("it is restarted, with all its processes", func() bool {
		return w.status().part(t, "consumer").State == "answers" && len(consumers()) == 3 &&
			!slices.ContainsFunc(consumers(), func(pid int) bool { return slices.Contains(first, pid) })
	})
	w.write("hang", "")
	w.eventually("its proof does not hold", func() bool { return w.status().part(t, "consumer").State == "unwell" })
	assert.Contains(t, flat(w.dravit("check").stdout), "expected alive written within 2s, got written")
	assert.Contains(t, w.dravit("diagnose", "--json").stdout, `"proof-failed"`)
	require.NoError(t, os.Remove(filepath.Join(w.dir, "hang")))
	w.must("restart", "consumer")
	w.must("check")
	w.must("stop")
	assert.Empty(t, w.living())
}

// A worker that exits at once, or whose proof fails, is named with its cause; a site cannot have one as its app.
func TestBadWorkers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	worker := "name = \"quay\"\n[part.tide]\nkind = \"custom\"\nlistens = false\n"
	for name, c := range map[string]struct{ file, says string }{
		"exits at once": {"command = \"echo low tide\"\n",
			"the worker exited without an error, but should keep running"},
		"exits": {"command = \"echo low tide; exit 3\"\n", "low tide"},
		"proof that fails": {"command = \"exec sleep 300\"\nproof = { command = \"echo ebb; exit 4\" }\n",
			"expected exit code 0 of echo ebb; exit 4, got exit code 4: ebb"},
		"proof that hangs": {"command = \"exec sleep 300\"\nproof = { command = \"sleep 300\" }\n", "works"},
	} {
		t.Run(name, func(t *testing.T) {
			w.write("dravit.toml", worker+c.file)
			began := time.Now()
			r := w.dravit("start", "--timeout", "4s")
			assert.Equal(t, 1, r.code, r.all())
			assert.Contains(t, flat(r.all()+w.dravit("check").stdout), c.says)
			assert.Less(t, time.Since(began), time.Minute)
			w.must("stop")
		})
	}
	w.write("dravit.toml", worker+"command = \"exec sleep 300\"\n[[site]]\nname = \"day\"\napp = \"tide\"\n")
	r := w.dravit("plan")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, flat(r.stderr), "it is a worker, which has no port")
}

// A command that runs at intervals: its last run, and its next one, are shown; a run that fails makes the part unwell.
func TestCommandAtIntervals(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("runs", "")
	w.write("dravit.toml", `name = "quay"
[part.tides]
kind = "custom"
command = "echo $TIDE >> runs; sleep 300 & test ! -e ebb || { echo no water; exit 3; }"
listens = false
every = "1s"
[env]
TIDE = "high"
`)
	w.must("start")
	var s struct {
		State string
		Runs  map[string]struct {
			At, Next time.Time
			Code     int
			How      string
		}
	}
	runs := func() int { return strings.Count(content(t, filepath.Join(w.dir, "runs")), "high\n") }
	w.eventually("it runs again and again", func() bool { return runs() >= 3 })
	w.json(&s, "status")
	assert.Equal(t, "answers", s.State)
	assert.Equal(t, time.Second, s.Runs["tides"].Next.Sub(s.Runs["tides"].At))
	assert.Contains(t, w.must("status").stdout, ": done; runs ")
	assert.Less(t, len(w.living()), 6, "what a run leaves behind is ended")

	w.write("ebb", "")
	w.eventually("a run fails", func() bool { return w.status().part(t, "tides").State == "unwell" })
	w.json(&s, "status")
	assert.Equal(t, 3, s.Runs["tides"].Code)
	assert.Contains(t, flat(w.dravit("check").stdout), "expected a run that exits with 0, got exit code 3 at ")
	assert.Contains(t, w.must("logs", "tides").stdout, "no water")
	assert.Contains(t, w.dravit("diagnose", "--json").stdout, `"run-failed"`)
	assert.Zero(t, w.status().part(t, "tides").Restarts)
	require.NoError(t, os.Remove(filepath.Join(w.dir, "ebb")))
	w.eventually("a run ends well", func() bool { return w.status().part(t, "tides").State == "answers" })

	// A run is stopped with the part, however long it takes.
	w.write("dravit.toml", "name = \"quay\"\n[part.tides]\nkind = \"custom\"\n"+
		"command = \"echo long >> runs; sleep 300\"\nlistens = false\nevery = \"1h\"\n")
	w.must("start")
	w.eventually("the long run goes on", func() bool {
		return strings.Contains(content(t, filepath.Join(w.dir, "runs")), "long")
	})
	s.Runs = nil
	w.json(&s, "status")
	assert.Empty(t, s.Runs, "no run has ended")
	w.must("check")
	w.must("stop")
	assert.Empty(t, w.living())
}
