package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/ledger"
	"dravit/internal/stack"
)

// Another process takes each port that a plan has chosen before its server starts, three times in a row. The start uses
// other ports, succeeds, and everything that contains a port follows.
func TestStartMovesFromTakenPort(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"taken\"\n[part.db]\nkind = \"mariadb\"\n[part.app]\nkind = \"php\"\n"+
		"extensions = [\"mysqli\"]\n[[site]]\nname = \"day\"\napp = \"app\"\n[env]\nDSN = \"{db.host}:{db.port}\"\n")
	w.write("public/index.php", `<?php echo getenv("DSN"), " ", getenv("DB_PORT");`)
	ctx, cancel := context.WithCancel(t.Context())
	var loot []net.Listener
	var stolen []int
	var wg sync.WaitGroup
	wg.Go(func() {
		for len(stolen) < 3 && ctx.Err() == nil {
			time.Sleep(200 * time.Microsecond)
			text, err := os.ReadFile(filepath.Join(w.home, "ledger.json"))
			var book ledger.Ledger
			if err != nil || json.Unmarshal(text, &book) != nil {
				continue
			}
			for _, s := range book.Stacks {
				if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", s.Ports["db"])); err == nil {
					loot = append(loot, l)
					stolen = append(stolen, s.Ports["db"])
				}
			}
		}
	})
	r := w.dravit("start")
	cancel()
	wg.Wait()
	defer func() {
		for _, l := range loot {
			l.Close()
		}
	}()
	require.Equal(t, 0, r.code, r.all())
	require.Len(t, stolen, 3)
	db := w.status().part(t, "db")
	assert.NotContains(t, stolen, db.Port)
	_, body, _ := get(t, "GET", w.status().Sites[0].URL, nil)
	assert.Equal(t, fmt.Sprintf("127.0.0.1:%d %d", db.Port, db.Port), body)
	w.must("check")
	assert.Contains(t, w.must("run", "--", "sh", "-c", "echo $DSN").stdout, fmt.Sprint(db.Port))

	// The port of the ledger is taken while the stack is stopped: the holder is named, and the part gets another port.
	w.must("stop")
	other := w.listen("127.0.0.1", db.Port)
	r = w.must("ports")
	assert.Contains(t, r.stdout, "taken")
	assert.Contains(t, r.stdout, fmt.Sprintf("pid %d", other))
	var all struct{ Ports []stack.PortEntry }
	w.json(&all, "ports")
	for _, e := range all.Ports {
		if e.Part == "db" {
			assert.Equal(t, stack.PortTaken, e.State)
			assert.Equal(t, other, e.Holder.PID)
			assert.WithinDuration(t, time.Now(), e.Holder.Since, time.Hour)
		}
	}
	var one stack.PortAnswer
	w.json(&one, "ports", fmt.Sprint(db.Port))
	assert.False(t, one.Free)
	assert.Equal(t, "taken", one.Stack)
	assert.Greater(t, one.Instead, db.Port)
	r = w.must("why", "db.port")
	assert.Contains(t, r.stdout, fmt.Sprintf("held by python3 (pid %d, user %s", other, tester.Username))
	assert.Contains(t, w.must("start").stdout, fmt.Sprintf("part.db.port was %d", db.Port))
	moved := w.status().part(t, "db").Port
	assert.NotEqual(t, db.Port, moved)
	assert.Contains(t, w.must("ports", fmt.Sprint(moved)).stdout, "of the stack taken")
}

// The other process has gone by the time the keeper checks: the server's own log says that it did not get its port.
func TestStartMovesFromPortThatIsFreeAgain(t *testing.T) {
	w := newWorld(t)
	w.write("tide.js", `const fs = require("fs"), port = process.env.PORT
if (!fs.existsSync("came")) { // the other's time
	fs.writeFileSync("came", "")
	throw new Error("listen EADDRINUSE: address already in use 127.0.0.1:" + port)
}
require("http").createServer((_, a) => a.end("high tide")).listen(port, "127.0.0.1")`)
	w.write("dravit.toml", "name = \"taken\"\n[part.app]\nkind = \"node\"\ncommand = \"node tide.js\"\n[[site]]\n"+
		"name = \"day\"\napp = \"app\"\n")
	w.must("start")
	assert.FileExists(t, filepath.Join(w.dir, "came"))
	_, body, _ := get(t, "GET", w.status().Sites[0].URL, nil)
	assert.Equal(t, "high tide", body)
}

// The gateway also uses another port, and its sites' addresses follow.
func TestGatewayMovesFromTakenPort(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	ctx, cancel := context.WithCancel(t.Context())
	stolen := make(chan net.Listener, 1)
	var wg sync.WaitGroup
	wg.Go(func() {
		for ctx.Err() == nil {
			time.Sleep(100 * time.Microsecond)
			text, err := os.ReadFile(filepath.Join(w.home, "ledger.json"))
			var book ledger.Ledger
			if err != nil || json.Unmarshal(text, &book) != nil {
				continue
			}
			if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", book.HTTPPort)); err == nil {
				stolen <- l
			}
			return
		}
	})
	r := w.dravit("start")
	cancel()
	wg.Wait()
	require.Equal(t, 0, r.code, r.all())
	require.Len(t, stolen, 1, "the gateway was faster than the other")
	other := <-stolen
	defer other.Close()
	url := w.status().Sites[0].URL
	assert.NotContains(t, url, fmt.Sprint(other.Addr().(*net.TCPAddr).Port))
	code, body, _ := get(t, "GET", url, nil)
	assert.Equal(t, 200, code)
	assert.Contains(t, body, "Night boat")
	w.must("check")
}

// listen makes a program of the tester listen on a port until the test ends, and returns its process id.
func (w *world) listen(address string, port int) int {
	w.t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, "/usr/bin/python3", "-c", `import socket, sys, time
s = socket.socket(socket.AF_INET6 if ":" in sys.argv[1] else socket.AF_INET)
s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
s.bind((sys.argv[1], int(sys.argv[2]))); s.listen()
print("listens", flush=True); time.sleep(300)`, address, fmt.Sprint(port))
	cmd.SysProcAttr = w.asTester()
	cmd.Env, cmd.Dir = []string{"PATH=/usr/bin:/bin"}, "/"
	out, err := cmd.StdoutPipe()
	require.NoError(w.t, err)
	require.NoError(w.t, cmd.Start())
	w.t.Cleanup(func() { cancel(); _ = cmd.Wait() })
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(w.t, err)
	require.Equal(w.t, "listens\n", line)
	return cmd.Process.Pid
}

// A pinned port that is taken is rejected, with its holder and what to do, on whatever address it is taken. So is one
// that the user may not open.
func TestPins(t *testing.T) {
	w := newWorld(t)
	port := 16990
	for _, address := range []string{"127.0.0.1", "0.0.0.0", "::", "::1"} {
		port++
		holder := w.listen(address, port)
		w.write("dravit.toml", fmt.Sprintf("[part.seats]\nkind = \"redis\"\nport = %d\n", port))
		r := w.dravit("plan")
		assert.Equal(t, 3, r.code, "%s: %s", address, r.all())
		text := strings.Join(strings.Fields(r.stderr), " ")
		assert.Contains(t, text, fmt.Sprintf("port %d, pinned by part seats, is taken", port))
		assert.Contains(t, text, fmt.Sprintf("python3 (pid %d, user", holder))
		assert.Contains(t, text, fmt.Sprintf("kill %d", holder))
	}
	w.write("dravit.toml", "[part.seats]\nkind = \"redis\"\nport = 7\n")
	r := w.dravit("plan")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, "ip_unprivileged_port_start=7")
	for _, bad := range []string{"0", "65536", "harbour"} {
		assert.Equal(t, 2, w.dravit("ports", bad).code, bad)
	}
	assert.Contains(t, w.must("ports", "6667").stdout, "browsers refuse it")
	assert.Contains(t, w.must("ports", "40000").stdout, "outgoing connections")
}

// Fifty processes start a stack each at the same moment: no port and no name is given twice.
func TestFiftyStacksAtOnce(t *testing.T) {
	w := newWorld(t)
	const stacks = 50
	w.write("dravit.toml", "") // makes the folder the tester's
	var dirs []string
	for i := range stacks {
		dir := fmt.Sprintf("boat-%d", i)
		w.write(dir+"/dravit.toml",
			"name = \"boat\"\n[part.seats]\nkind = \"dravit-cache\"\n[[site]]\nname = \"boat\"\nroot = \".\"\n")
		w.write(dir+"/index.html", dir)
		dirs = append(dirs, filepath.Join(w.dir, dir))
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	results := make([]result, stacks)
	var wg sync.WaitGroup
	for i, dir := range dirs {
		wg.Go(func() { results[i] = finish(t, w.command(ctx, "-C", dir, "start", "--timeout", "150s")) })
	}
	wg.Wait()
	for i, r := range results {
		assert.Equal(t, 0, r.code, "%s: %s", dirs[i], r.all())
	}
	ports, hosts, names := map[int]string{}, map[string]bool{}, map[string]bool{}
	book := w.book()
	require.Len(t, book.Stacks, stacks)
	for id, s := range book.Stacks {
		for _, port := range s.Ports {
			assert.Empty(t, ports[port], "port %d is given twice", port)
			ports[port] = id
		}
		for _, host := range s.Hosts {
			assert.False(t, hosts[host], "%s is given twice", host)
			hosts[host] = true
			_, body, _ := get(t, "GET", fmt.Sprintf("http://%s:%d/", host, book.HTTPPort), nil)
			assert.Equal(t, filepath.Base(s.Dir), body, host)
		}
		assert.False(t, names[s.Name], s.Name)
		names[s.Name] = true
	}
}

// While a store is between two processes, the keeper holds its port: no other program takes it, and a plan keeps it.
func TestPortOfAPausingStoreIsHeld(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"quay\"\n[part.seats]\nkind = \"redis\"\n")
	w.must("start")
	port := w.status().part(t, "seats").Port
	// It crashes again and again: in the pauses the port is nobody else's.
	running := func() bool {
		p := w.status().part(t, "seats")
		return p.State == "answers" && p.PID != 0
	}
	for range 3 {
		w.eventually("it runs", running)
		pid := w.status().part(t, "seats").PID
		kill(t, pid)
		var state string
		w.eventually("it is back or pausing", func() bool {
			p := w.status().part(t, "seats")
			state = p.State
			return state == "pausing" || state == "answers" && p.PID != pid && p.PID != 0
		})
		if state == "pausing" {
			if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
				l.Close()
				assert.NotEqual(t, "pausing", w.status().part(t, "seats").State, "the port was free in a pause")
			}
			var plan struct {
				Parts []struct {
					Name string
					Port int
				}
			}
			w.json(&plan, "plan")
			assert.Equal(t, port, plan.Parts[0].Port)
		}
		w.eventually("it is back", running)
		assert.Equal(t, port, w.status().part(t, "seats").Port)
	}
	w.must("stop")
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err, "a stopped stack holds nothing")
	require.NoError(t, l.Close())
}
