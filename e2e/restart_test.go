package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// While a stack, or only what makes its pages, restarts behind the gateway, requests in flight finish, and new ones wait instead of failing.
func TestRestartLosesNoRequest(t *testing.T) {
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		t.Run(server, func(t *testing.T) {
			w := newWorld(t)
			w.write("dravit.toml", fmt.Sprintf("name = \"busy\"\n[part.web]\nkind = %q\n[part.app]\nkind = \"php\"\n[part.seats]\nkind = \"redis\"\n[[site]]\nname = \"busy\"\napp = \"app\"\n", server))
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

// An open WebSocket outlives a keeper, a restart of other parts, and a start that changes nothing; when its own web server or
// application restarts it ends, at once, and a new one finds its way.
func TestWebSocketThroughRestarts(t *testing.T) {
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		t.Run(server, func(t *testing.T) {
			w := newWorld(t)
			w.write("dravit.toml", fmt.Sprintf("name = \"sockets\"\n[part.web]\nkind = %q\n[part.api]\nkind = \"node\"\ncommand = \"exec node api.js\"\nuses = []\n[part.seats]\nkind = \"dravit-cache\"\n[[site]]\nname = \"api\"\napp = \"api\"\n", server))
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
