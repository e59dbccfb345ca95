package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const damageStack = "name = \"ledger\"\n[part.db]\nkind = \"mariadb\"\n[part.seats]\n" +
	"kind = \"dravit-cache\"\n[[site]]\nname = \"day\"\n"

func (w *world) damageStack() {
	w.write("dravit.toml", damageStack)
	w.write("public/index.html", "<h1>Day</h1>")
	w.must("start")
	w.must(
		"run",
		"--",
		"mariadb",
		"-e",
		"CREATE TABLE IF NOT EXISTS boats (name TEXT); INSERT INTO boats VALUES ('Kelp')",
	)
}

// running returns how many processes of a program run that have the world's folder among their arguments.
func (w *world) running(program string) int {
	w.t.Helper()
	out, _ := exec.Command("pgrep", "-u", tester.Uid, "-x", program).Output() // none: code 1
	n := 0
	for _, field := range strings.Fields(string(out)) {
		arguments, _ := os.ReadFile("/proc/" + field + "/cmdline") // a zombie has none
		if bytes.Contains(arguments, []byte(w.home)) {
			n++
		}
	}
	return n
}

// A damaged file of Dravit's stops no command with a parser's message. Dravit reads the file's copy, or recreates the
// file. A stack can always be stopped.
func TestDamagedState(t *testing.T) {
	files := []string{
		"ledger.json",
		"survey.json",
		"routes.json",
		"bin/index.json",
		"stacks/ID/spec.json",
		"stacks/ID/secrets.json",
		"stacks/ID/state/wish.json",
		"stacks/ID/state/seen.json",
		"stacks/ID/state/good.json",
		"stacks/ID/state/starts.json",
		"stacks/ID/data/db.json",
		"stacks/ID/ledger.json",
		"stacks/gateway/spec.json",
	}
	w := newWorld(t)
	w.damageStack()
	id := w.book().ByName("ledger")
	for _, damage := range []string{"half", "empty", "binary", "gone"} {
		for _, name := range files {
			path := filepath.Join(w.home, strings.Replace(name, "ID", id, 1))
			old, err := os.ReadFile(path)
			require.NoError(t, err, name)
			switch damage {
			case "half":
				err = os.WriteFile(path, old[:len(old)/2], 0o600)
			case "empty":
				err = os.WriteFile(path, nil, 0o600)
			case "binary":
				err = os.WriteFile(path, []byte("\x00\xff\x1b]0;x\x07"), 0o600)
			case "gone":
				err = os.Remove(path)
			}
			require.NoError(t, err)
			for _, args := range [][]string{
				{"status"},
				{"check"},
				{"plan"},
				{"ports"},
				{"names"},
				{"logs"},
				{"diagnose"},
			} {
				r := w.dravit(args...)
				assert.Equal(t, 0, r.code, "%s %s: dravit %v: %s", damage, name, args, r.all())
				for _, words := range []string{"invalid character", "unexpected end of JSON", "cannot unmarshal"} {
					assert.NotContains(t, r.all(), words, "%s %s: dravit %v", damage, name, args)
				}
			}
		}
		for _, name := range files { // all at once, as the next start would find them
			path := filepath.Join(w.home, strings.Replace(name, "ID", id, 1))
			_ = os.WriteFile(path, []byte("{"), 0o600)
		}
		r := w.dravit("stop")
		assert.Equal(t, 0, r.code, r.all())
		assert.Contains(t, r.stdout, "db")
		assert.Zero(t, w.running("mariadbd"), damage)
		w.must("start")
		assert.Equal(t, "Kelp", strings.Fields(w.boats())[0], "the data are there, and the password fits")
	}
}

// If the ledger and its copy are damaged, Dravit rebuilds the ledger from the stacks' folders.
func TestLedgerIsMadeAgain(t *testing.T) {
	w := newWorld(t)
	w.damageStack()
	before := w.book()
	for _, name := range []string{"ledger.json", "ledger.json.last"} {
		require.NoError(t, os.WriteFile(filepath.Join(w.home, name), []byte("{"), 0o600))
	}
	r := w.must("status")
	assert.Contains(t, r.stderr, "what each stack keeps of it")
	w.must("start")
	assert.Equal(t, before, w.book())
}

// If state is deleted while a stack runs, no second server is started, and no command says that a running part is
// stopped.
func TestStateDeletedWhileRunning(t *testing.T) {
	for _, c := range []struct {
		name   string
		lose   func(w *world, id string)
		keeper bool // the keeper is killed, too
		ends   bool // what ran is stopped
	}{
		{"the wish", func(w *world, id string) { w.lose("stacks/" + id + "/state/wish.json*") }, true, false},
		{"what was seen", func(w *world, id string) { w.lose("stacks/" + id + "/state/seen.json*") }, true, false},
		{"the whole state", func(w *world, id string) { w.lose("stacks/" + id + "/state") }, true, false},
		{"the ledger", func(w *world, id string) { w.lose("ledger.json*") }, false, false},
		{"the ledger, and the keeper", func(w *world, id string) { w.lose("ledger.json*") }, true, false},
		{"the keeper's lock", func(w *world, id string) { w.lose("keeper.lock") }, false, false},
		{"the run folder", func(w *world, id string) {
			run, err := os.ReadFile(filepath.Join(w.home, "run"))
			require.NoError(w.t, err)
			removeAll(w.t, strings.TrimSpace(string(run)))
		}, false, false},
		{"the stack's folder", func(w *world, id string) { w.lose("stacks/" + id) }, false, true},
		{"the home folder", func(w *world, id string) { removeAll(w.t, w.home) }, false, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t)
			w.damageStack()
			before := w.status().pids()
			id := w.book().ByName("ledger")
			c.lose(w, id)
			if c.keeper {
				kill(t, w.keeperPID())
			}
			if c.ends {
				w.eventually(
					"what ran of it is ended",
					func() bool { return !alive(before["db"]) && !alive(before["seats"]) },
				)
				require.NoError(t, os.MkdirAll(w.home, 0o700))
				w.own(w.home)
				w.settings("http = 8080\nhttps = 8443\n")
				w.must("start")
				return
			}
			w.eventually("status and check see it run", func() bool {
				r := w.dravit("check")
				return r.code == 0
			})
			w.eventually("the keeper sees it", func() bool { return w.status().State == "answers" })
			assert.Equal(t, 1, w.running("mariadbd"))
			r := w.must("start")
			assert.Equal(t, 1, w.running("mariadbd"), r.all())
			assert.Equal(t, "Kelp", w.boats())
			r = w.must("stop")
			assert.NotContains(t, r.stdout, "nothing was running")
			assert.Zero(t, w.running("mariadbd"))
			for name, pid := range before {
				assert.False(t, alive(pid), name)
			}
		})
	}
}

// lose removes files of Dravit's folder.
func (w *world) lose(shape string) {
	w.t.Helper()
	files, err := filepath.Glob(filepath.Join(w.home, shape))
	require.NoError(w.t, err)
	require.NotEmpty(w.t, files, shape)
	for _, f := range files {
		removeAll(w.t, f)
	}
}

// A command names a keeper whose process is stopped (SIGSTOP) within seconds, with what to do.
func TestKeeperThatHangs(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	w.must("start")
	pid := w.keeperPID()
	require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	defer func() { _ = syscall.Kill(pid, syscall.SIGCONT) }()
	for _, args := range [][]string{{"status"}, {"check"}, {"start"}, {"stop"}} {
		began := time.Now()
		r := w.dravit(args...)
		assert.Equal(t, 1, r.code, "dravit %v: %s", args, r.all())
		assert.Less(t, time.Since(began), 30*time.Second, "dravit %v", args)
		assert.Contains(t, flat(r.stderr), fmt.Sprintf("kill -CONT %d", pid), "dravit %v", args)
	}
	require.NoError(t, syscall.Kill(pid, syscall.SIGCONT))
	w.must("check")
}

// PostgreSQL starts again after the keeper and the postmaster died together, even if process 1 never waits for them. A
// note that names a process of another program does not keep it from starting, either.
func TestPostmasterAndKeeperKilled(t *testing.T) {
	w := newWorld(t)
	w.write(
		"dravit.toml",
		"name = \"ledger\"\n[part.db]\nkind = \"postgres\"\n[part.web]\nkind = \"apache\"\n[[site]]\nname = \"day\"\n",
	)
	w.write("public/index.html", "<h1>Day</h1>")
	w.must("start")
	w.must("run", "--", "psql", "-c", "CREATE TABLE boats (name TEXT)")
	for range 2 {
		s := w.status()
		db, web := s.part(t, "db").PID, s.part(t, "web").PID
		kill(t, w.keeperPID())
		kill(t, db)
		kill(t, web)
		w.must("start")
		assert.Contains(t, w.must("run", "--", "psql", "-Atc", "\\dt").stdout, "boats")
	}
	// A note that names a process of another program does not keep it from starting either.
	w.must("stop")
	file := w.stackPath("data", "db", "postmaster.pid")
	require.NoError(t, os.WriteFile(file, []byte(fmt.Sprintf("%d\n/x\n", os.Getpid())), 0o600))
	w.own(file)
	w.must("start")
}

// A log stays within its limit while a part writes, and keeps what was written last.
func TestLogsAreBounded(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("app.py", `import http.server, os, sys, threading
class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        for i in range(60):
            sys.stderr.write(("%08d " % i) * 60000 + "\\n"); sys.stderr.flush()
        sys.stderr.write("the last line\\n"); sys.stderr.flush()
        self.send_response(200); self.end_headers(); self.wfile.write(b"done")
http.server.HTTPServer(("127.0.0.1", int(os.environ["PORT"])), Page).serve_forever()
`)
	w.write("dravit.toml", "name = \"flood\"\n[part.app]\nkind = \"python\"\ncommand = \"exec python3 app.py\"\n")
	w.must("start")
	for range 4 {
		require.Equal(t, "done", pageAt(w.status().part(t, "app").Port))
	}
	size := func() (sum int64) {
		files, _ := filepath.Glob(w.stackPath("logs", "*"))
		for _, f := range files {
			if info, err := os.Stat(f); err == nil {
				sum += info.Size()
			}
		}
		return sum
	}
	w.eventually("the logs are short again", func() bool { return size() < 20<<20 })
	w.must("check")
	kill(t, w.status().part(t, "app").PID)
	w.eventually("it is restarted", func() bool { return w.status().part(t, "app").State == "answers" })
}

// Only this user's processes get the mail and the gateway's own pages: another user is told so, and gets a site as
// everyone does.
func TestOtherUsersGetNoMail(t *testing.T) {
	if !asRoot {
		t.Skip("only root can be another user")
	}
	w := newWorld(t)
	w.builtin()
	w.must("start")
	url := w.status().Sites[0].URL
	port := strings.Split(strings.TrimSuffix(url, "/"), ":")[2]
	var plan struct {
		Sites []struct{ Name, Host string }
	}
	w.json(&plan, "plan")
	inbox := ""
	for _, s := range plan.Sites {
		if strings.HasPrefix(s.Name, "mail.") {
			inbox = s.Host
		}
	}
	require.NotEmpty(t, inbox, "%+v", plan)
	curl := func(as *syscall.Credential, args ...string) string {
		cmd := exec.Command("curl", append([]string{"-sS", "-m", "10"}, args...)...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
		cmd.Env = []string{"PATH=/usr/bin:/bin"}
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	uid, gid := ids(t)
	own := &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	nobody := &syscall.Credential{Uid: 65534, Gid: 65534}
	at := "http://127.0.0.1:" + port + "/"
	smtp := fmt.Sprintf("telnet://127.0.0.1:%d", w.status().part(t, "mail").Port)

	assert.Contains(t, curl(own, "-H", "Host: night.localhost", at), "Night boat")
	assert.Contains(t, curl(nobody, "-H", "Host: night.localhost", at), "Night boat", "a site is for everybody")
	assert.Contains(t, curl(own, "-H", "Host: "+inbox, at+"messages.json"), "messages")
	assert.Contains(t, curl(nobody, "-H", "Host: "+inbox, at+"messages.json"), "for "+tester.Username+" only")
	assert.Contains(t, curl(own, "-H", "Host: none.localhost", at), "night.localhost")
	assert.NotContains(t, curl(nobody, "-H", "Host: none.localhost", at), "night.localhost")
	assert.Contains(t, curl(own, "-m", "1", smtp), "220")
	refused := curl(nobody, "-m", "1", smtp)
	assert.Contains(t, refused, "554")
	assert.NotContains(t, refused, "220")
}
