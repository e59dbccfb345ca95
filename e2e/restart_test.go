package e2e

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// While a stack, or only its runtime, restarts behind the gateway, requests under way finish, and new ones wait.
func TestRestartLosesNoRequest(t *testing.T) {
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		t.Run(server, func(t *testing.T) {
			w := newWorld(t)
			w.write("dravit.toml", fmt.Sprintf("name = \"busy\"\n[part.web]\nkind = %q\n[part.app]\nkind = \"php\"\n"+
				"[part.seats]\nkind = \"redis\"\n[[site]]\nname = \"busy\"\napp = \"app\"\n", server))
			w.write("public/index.php", `<?php usleep((int)($_GET["ms"] ?? 0) * 1000); echo "whole ", getmypid();`)
			w.must("start")
			url := w.status().site("busy")
			type answer struct {
				code int
				body string
			}
			var mu sync.Mutex
			var answers []answer
			var wg sync.WaitGroup
			ask := func(query string) {
				wg.Go(func() {
					code, body, _ := get(t, "GET", url+query, nil)
					mu.Lock()
					answers = append(answers, answer{code, body})
					mu.Unlock()
				})
			}
			for _, restart := range [][]string{{"restart"}, {"restart", "app"}} {
				answers = nil
				before := w.status().pids()
				for range 4 {
					ask("?ms=900")
				}
				time.Sleep(300 * time.Millisecond)
				restarted := make(chan result)
				go func() { restarted <- w.dravit(restart...) }()
				sent := 4
				for done := false; !done && sent < 400; sent++ {
					ask("")
					select {
					case r := <-restarted:
						assert.Equal(t, 0, r.code, r.all())
						done = true
					case <-time.After(20 * time.Millisecond):
					}
				}
				wg.Wait()
				require.Len(t, answers, sent)
				for _, a := range answers {
					assert.Equal(t, 200, a.code, "%s: %s", restart, a.body)
					assert.True(t, strings.HasPrefix(a.body, "whole "), "%s: %s", restart, a.body)
				}
				for name, pid := range w.status().pids() {
					assert.Equal(t, len(restart) > 1 && name != "app", before[name] == pid, "%s: %s", restart, name)
				}
			}
		})
	}
}

// An open WebSocket survives a new keeper, a restart of other parts, and a start that changes nothing. When its own web
// server or application restarts, it ends at once, and a new one works.
func TestWebSocketThroughRestarts(t *testing.T) {
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		t.Run(server, func(t *testing.T) {
			w := newWorld(t)
			w.write("dravit.toml", fmt.Sprintf("name = \"sockets\"\n[part.web]\nkind = %q\n[part.api]\n"+
				"kind = \"node\"\ncommand = \"exec node api.js\"\nuses = []\n[part.seats]\nkind = \"dravit-cache\"\n"+
				"[[site]]\nname = \"api\"\napp = \"api\"\n", server))
			w.write("api.js", api)
			w.must("start")
			url := w.status().site("api")
			line := openSocket(t, url)
			line.say("one")
			kill(t, w.keeperPID())
			line.say("two")
			w.must("start")
			w.must("restart", "seats")
			line.say("three")
			for _, name := range []string{"web", "api"} {
				line := openSocket(t, url)
				line.say("four")
				ended := make(chan error, 1)
				go func() {
					_, err := line.in.ReadByte()
					ended <- err
				}()
				w.must("restart", name)
				select {
				case err := <-ended:
					assert.Error(t, err)
				case <-time.After(10 * time.Second):
					t.Error("the visitor is not told that the connection is gone")
				}
				again := openSocket(t, url)
				again.say("five")
				again.conn.Close()
			}
			code, _, _ := get(t, http.MethodGet, url, nil)
			assert.Equal(t, 200, code)
		})
	}
}

// When a runtime dies while a site is used, requests wait for its restart, and no client sees an error.
func TestCrashLosesNoRequest(t *testing.T) {
	for _, c := range []struct{ server, kind, page string }{
		{"nginx", "php", ""},
		{"dravit-web", "php", ""},
		{"apache", "php", ""},
		{"nginx", "node", "exec node server.js"},
		{"dravit-web", "node", "exec node server.js"},
	} {
		t.Run(c.server+" "+c.kind, func(t *testing.T) {
			w := newWorld(t)
			w.write("server.js", serverJS)
			w.write("pids", "")
			w.write("public/index.php", `<?php echo "Harbour ", getmypid();`)
			file := fmt.Sprintf("name = \"busy\"\n[part.web]\nkind = %q\n[part.app]\nkind = %q\n", c.server, c.kind)
			if c.page != "" {
				file += fmt.Sprintf("command = %q\n", c.page)
			}
			w.write("dravit.toml", file+"[[site]]\nname = \"busy\"\napp = \"app\"\n")
			w.must("start")
			s := w.status()
			url := s.site("busy")
			var wg sync.WaitGroup
			var mu sync.Mutex
			bad := map[string]int{}
			crashed := make(chan struct{})
			for range 4 {
				wg.Go(func() {
					for asked := 0; asked < 400; asked++ {
						select {
						case <-crashed:
							return
						default:
						}
						// A page under way may be cut off: nginx passes it on as if it were complete.
						if code, _, _ := get(t, "GET", url, nil); code != 200 {
							mu.Lock()
							bad[fmt.Sprint(code)]++
							mu.Unlock()
						}
						time.Sleep(5 * time.Millisecond)
					}
				})
			}
			for range 2 {
				time.Sleep(200 * time.Millisecond)
				before := w.status()
				kill(t, before.part(t, "app").PID)
				w.eventually("the part is back", func() bool {
					now := w.status().part(t, "app")
					return now.State == "answers" && now.Restarts > before.part(t, "app").Restarts
				})
			}
			close(crashed)
			wg.Wait()
			assert.Empty(t, bad, "answers that were no page")
		})
	}
}

// Slow uploads to one site occupy no worker of the runtime until they are complete.
func TestSlowUploadsStopNoOtherSite(t *testing.T) {
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		t.Run(server, func(t *testing.T) {
			w := newWorld(t)
			w.write("dravit.toml", fmt.Sprintf("name = \"busy\"\n[part.web]\nkind = %q\n[part.app]\nkind = \"php\"\n"+
				"[[site]]\nname = \"one\"\napp = \"app\"\n[[site]]\nname = \"two\"\napp = \"app\"\n", server))
			w.write("public/index.php", `<?php echo strlen(file_get_contents("php://input")), " bytes";`)
			w.must("start")
			s := w.status()
			address := "127.0.0.1:" + strings.Split(strings.TrimSuffix(s.site("one"), "/"), ":")[2]
			conns := make([]net.Conn, 200)
			for i := range conns {
				conn, err := net.Dial("tcp", address)
				require.NoError(t, err)
				defer conn.Close()
				_, err = io.WriteString(conn,
					"POST / HTTP/1.1\r\nHost: one.localhost\r\nContent-Length: 100000\r\n\r\nslow")
				require.NoError(t, err)
				conns[i] = conn
			}
			time.Sleep(300 * time.Millisecond) // until they would do harm
			code, body, _ := get(t, "GET", s.site("two"), nil)
			assert.Equal(t, 200, code)
			assert.Equal(t, "0 bytes", body)
			_, err := conns[0].Write(make([]byte, 100000-4))
			require.NoError(t, err)
			resp, err := http.ReadResponse(bufio.NewReader(conns[0]), nil)
			require.NoError(t, err)
			text, err := io.ReadAll(resp.Body)
			require.NoError(t, err)
			assert.Equal(t, "100000 bytes", string(text), "a slow upload arrives whole")
		})
	}
}

// A site that was proved is left alone until something happens: what Dravit asks of an application leaves no trace in
// its log, and costs nothing.
func TestProvedSitesAreLeftAlone(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("app.js", `require("http").createServer((q, r) => {
  require("fs").appendFileSync("asked.log", q.method + " " + q.url + "\n")
  r.statusCode = q.url === "/broken" ? 500 : 200
  r.end("tide")
}).listen(process.env.PORT)`)
	w.write("dravit.toml", "name = \"quiet\"\n[part.app]\nkind = \"node\"\ncommand = \"exec node app.js\"\n[[site]]\n"+
		"name = \"quiet\"\napp = \"app\"\nexpect = { text = \"tide\" }\n")
	w.write("asked.log", "")
	require.NoError(t, os.Chmod(filepath.Join(w.dir, "asked.log"), 0o666))
	w.must("start")
	asked := func() int {
		text, err := os.ReadFile(filepath.Join(w.dir, "asked.log"))
		require.NoError(t, err)
		return strings.Count(string(text), "\n")
	}
	time.Sleep(4 * time.Second) // the part is asked once more soon after a start
	before := asked()
	time.Sleep(25 * time.Second)
	assert.Equal(t, before, asked(), "two looks later")
	assert.Equal(t, "answers", w.status().State)
	w.write("app.js.txt", "an edit")
	w.eventually("it is asked after an edit", func() bool { return asked() > before })
	before = asked()
	_, _, _ = get(t, "GET", w.status().Sites[0].URL+"broken", nil)
	w.eventually("it is asked after a request that failed", func() bool { return asked() > before+1 })
}
