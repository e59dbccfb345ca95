package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serverPy listens on PORT, and writes its process id to the file pids in the project's folder.
const serverPy = `import http.server, os, sys
folder = os.path.dirname(os.path.abspath(__file__))
with open(os.path.join(folder, "pids"), "a") as f: f.write("%d\n" % os.getpid())
class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200); self.end_headers(); self.wfile.write(b"Harbour %d" % os.getpid())
    def log_message(self, *a): pass
http.server.HTTPServer.allow_reuse_address = True
http.server.HTTPServer(("127.0.0.1", int(os.environ.get("PORT") or sys.argv[1])), Page).serve_forever()
`

// serverJS does the same in Node.js.
const serverJS = `const fs = require("fs"), path = require("path");
fs.appendFileSync(path.join(__dirname, "pids"), process.pid + "\n");
require("http").createServer((q, s) => s.end("Harbour " + process.pid)).listen(process.env.PORT, "127.0.0.1");
`

// daemonPy loses every mark that a process can lose, and runs serverPy: a second fork, a new session, no inherited
// descriptor.
const daemonPy = `import os, sys
if os.fork(): sys.exit(0)
os.setsid()
if os.fork(): os._exit(0)
os.closerange(0, 100)
os.open(os.devnull, os.O_RDWR); os.dup(0); os.dup(0)
server = os.path.join(os.path.dirname(os.path.abspath(__file__)), "server.py")
os.execve(sys.executable, [sys.executable, server, sys.argv[1]], {})
`

// managerPy is a process manager: three workers, each in a session of its own, share one listener.
const managerPy = `import os, signal, socket, subprocess, sys, time
folder = os.path.dirname(os.path.abspath(__file__))
worker = '''
import os, socket, sys
with open("pids", "a") as f: f.write("%d\\n" % os.getpid())
s = socket.socket(fileno=int(sys.argv[1]))
while True:
    c, _ = s.accept(); c.recv(4096)
    c.sendall(b"HTTP/1.0 200 OK\\r\\n\\r\\nHarbour %d" % os.getpid()); c.close()
'''
s = socket.socket(); s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
s.bind(("127.0.0.1", int(os.environ["PORT"]))); s.listen()
with open("pids", "a") as f: f.write("%d\n" % os.getpid())
for _ in range(3):
    subprocess.Popen([sys.executable, "-c", worker, str(s.fileno())], pass_fds=[s.fileno()], start_new_session=True)
while True: time.sleep(60)
`

// launchers are ways to start a server through other programs.
var launchers = []struct{ name, kind, command string }{
	{"npmstart", "node", "npm start"},
	{"npx", "node", "npx harbour"},
	{"watch", "node", "node --watch server.js"},
	{"vite", "node", "npm run dev -- --port {port}"},
	{"next", "node", "npx next dev -H 127.0.0.1 -p {port} site"},
	{"subprocess", "custom", `python3 -c 'import subprocess; subprocess.run(["python3", "server.py"])'`},
	{"manager", "custom", "python3 manager.py"},
	{"nohup", "custom", "nohup python3 server.py & wait"},
	{"setsid", "custom", "setsid python3 server.py & wait"},
	{"bare", "custom", "env -i python3 server.py {port}"},
	{"daemon", "custom", "python3 daemon.py {port}; sleep 1000"},
}

// launching writes a stack with one part for each launcher.
func (w *world) launching() {
	w.write("server.py", serverPy)
	w.write("server.js", serverJS)
	w.write("daemon.py", daemonPy)
	w.write("manager.py", managerPy)
	w.write(
		"package.json",
		`{"name": "harbour", "private": true, "scripts": {"start": "node server.js", "dev": "vite `+
			`--strictPort --host 127.0.0.1"}}`,
	)
	w.write("index.html", "<h1>Harbour</h1>")
	w.write("site/pages/index.js", "export default function Page() { return <h1>Harbour</h1> }\n")
	w.write("pids", "")
	w.write("node_modules/.bin/harbour", "#!/usr/bin/env node\nrequire('../../server.js')\n")
	packages, err := filepath.Glob(filepath.Join(beside(w.t), "npm/node_modules/[a-z@]*"))
	require.NoError(w.t, err)
	for _, p := range packages {
		require.NoError(w.t, os.Symlink(p, filepath.Join(w.dir, "node_modules", filepath.Base(p))))
	}
	require.NoError(w.t, os.Symlink("../vite/bin/vite.js", filepath.Join(w.dir, "node_modules/.bin/vite")))
	require.NoError(w.t, os.Symlink("../next/dist/bin/next", filepath.Join(w.dir, "node_modules/.bin/next")))
	require.NoError(w.t, os.Chmod(filepath.Join(w.dir, "node_modules/.bin/harbour"), 0o755))
	var file strings.Builder
	file.WriteString("name = \"harbour\"\n")
	// use ports that no other test uses: some of these servers ask for theirs late
	for i, l := range launchers {
		fmt.Fprintf(&file, "[part.%s]\nkind = %q\ncommand = %q\nport = %d\n", l.name, l.kind, l.command, 19100+i)
	}
	w.write("dravit.toml", file.String())
	w.own(w.dir)
}

// servers returns the process ids that servers of the project noted.
func (w *world) servers() []int {
	text, err := os.ReadFile(filepath.Join(w.dir, "pids"))
	require.NoError(w.t, err)
	var pids []int
	for _, line := range strings.Fields(string(text)) {
		pid, err := strconv.Atoi(line)
		require.NoError(w.t, err)
		pids = append(pids, pid)
	}
	return pids
}

// project returns the running processes whose working folder is the project's.
func (w *world) project() []int {
	var pids []int
	links, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, link := range links {
		if dir, err := os.Readlink(link); err == nil && (dir == w.dir || strings.HasPrefix(dir, w.dir+"/")) {
			pid, _ := strconv.Atoi(strings.Split(link, "/")[2])
			if alive(pid) {
				pids = append(pids, pid)
			}
		}
	}
	return pids
}

func pageAt(port int) string {
	client := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	resp, err := client.Get(fmt.Sprintf("http://127.0.0.1:%d/", port))
	if err != nil {
		return err.Error()
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	return string(text)
}

// bystander runs the same server as the parts, as the same user, but belongs to no part: it must survive everything.
func (w *world) bystander() int {
	cmd := exec.Command("/usr/bin/python3", filepath.Join(w.dir, "server.py"), "0")
	cmd.Dir = "/"
	cmd.SysProcAttr = w.asTester()
	require.NoError(w.t, cmd.Start())
	w.t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	w.eventually("the bystander runs", func() bool { return len(w.servers()) == 1 })
	return cmd.Process.Pid
}

// In whatever way a part's command starts its server, the part answers, is restarted after a crash, is taken over by a
// new keeper, and leaves nothing behind.
func TestLaunchers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.launching()
	bystander := w.bystander()
	require.Equal(t, 0, w.dravit("start", "--timeout", "110s").code, "start")
	answers := func(when string) {
		w.eventually("every part answers "+when, func() bool { return w.dravit("check").code == 0 })
		s := w.status()
		for _, l := range launchers {
			port := s.part(t, l.name).Port // whoever builds a page when it is asked for has not built it yet
			w.eventually(l.name+" serves its page "+when, func() bool {
				return strings.Contains(pageAt(port), "Harbour")
			})
		}
	}
	answers("after the start")

	before := w.servers()
	r := w.dravit("restart", "--timeout", "110s")
	require.Equal(t, 0, r.code, "restart:\n%s", r.all())
	for _, pid := range before {
		assert.Equal(t, pid == bystander, alive(pid), "process %d was one before the restart", pid)
	}
	answers("after a restart")

	kill(t, w.keeperPID())
	answers("under another keeper")

	old := w.status()
	for _, p := range old.Parts {
		kill(t, p.PID)
	}
	w.eventually("every part was started again", func() bool {
		for _, p := range w.status().Parts {
			if p.State != "answers" || p.PID == old.part(t, p.Name).PID {
				return false
			}
		}
		return true
	})
	answers("after its command was killed")

	for _, p := range w.status().Parts { // not only the command, but its supervisor, and the keeper, too
		kill(t, parent(t, p.PID))
	}
	kill(t, w.keeperPID())
	w.eventually(
		"nothing is in the way of a start",
		func() bool { return w.dravit("start", "--timeout", "60s").code == 0 },
	)
	answers("after everything above it was killed")

	w.must("stop")
	assert.Empty(t, w.project(), "processes that outlived the stop")
	for _, pid := range w.servers() {
		assert.Equal(t, pid == bystander, alive(pid), "process %d after the stop", pid)
	}
}

func parent(t *testing.T, pid int) int {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	_, rest, _ := strings.Cut(string(text), "PPid:")
	ppid, err := strconv.Atoi(strings.Fields(rest)[0])
	require.NoError(t, err)
	return ppid
}

// Dravit says that a command goes into the background, and stops what is left of it.
func TestCommandInBackground(t *testing.T) {
	w := newWorld(t)
	w.write("server.py", serverPy)
	w.write("daemon.py", daemonPy)
	w.write("pids", "")
	w.write(
		"dravit.toml",
		"name = \"harbour\"\n[part.app]\nkind = \"custom\"\ncommand = \"python3 daemon.py {port}\"\n",
	)
	r := w.dravit("start")
	assert.Equal(t, 1, r.code, r.all())
	assert.Contains(t, r.all(), "the command goes into the background")
	assert.Contains(t, w.dravit("diagnose", "--json").stdout, `"ends-at-once"`)
	for _, pid := range w.servers() {
		assert.False(t, alive(pid), "the daemon lives on")
	}
}

// The exit code and signal of a command are those of the part, although a supervisor is between them.
func TestSupervisorPassesExitsAndSignals(t *testing.T) {
	supervise := func(command string) *exec.Cmd {
		dir := t.TempDir()
		lock, err := os.Create(filepath.Join(dir, "part.lock"))
		require.NoError(t, err)
		t.Cleanup(func() { lock.Close() })
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		t.Cleanup(cancel)
		cmd := exec.CommandContext(ctx, program, "internal", "supervise", lock.Name(), "--", "/bin/sh", "-c", command)
		cmd.ExtraFiles = []*os.File{lock}
		return cmd
	}
	for _, c := range []struct {
		command string
		code    int
	}{
		{"exit 0", 0},
		{"exit 41", 41},
		{"kill -KILL $$", 128 + 9},
		{"kill -SEGV $$", 128 + 11},
	} {
		cmd := supervise(c.command)
		_ = cmd.Run()
		assert.Equal(t, c.code, cmd.ProcessState.ExitCode(), c.command)
	}

	cmd := supervise("trap 'echo got the signal; exit 7' TERM; echo ready; while :; do sleep 0.05; done")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	line := make([]byte, 6)
	_, err = io.ReadFull(out, line)
	require.NoError(t, err)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	rest, err := io.ReadAll(out)
	require.NoError(t, err)
	_ = cmd.Wait()
	assert.Equal(t, "ready\n", string(line))
	assert.True(t, bytes.Contains(rest, []byte("got the signal")), string(rest))
	assert.Equal(t, 7, cmd.ProcessState.ExitCode())
}
