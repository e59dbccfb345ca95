package gateway

import (
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/ledger"
)

// behind serves a stack's web server on a socket.
func behind(t *testing.T, h http.HandlerFunc) string {
	t.Helper()
	socket := filepath.Join(t.TempDir(), "web.sock")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	s := &http.Server{Handler: h}
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { s.Close() })
	return socket
}

func newTable(t *testing.T, routes ...Route) (*table, *home.Home) {
	t.Helper()
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	require.NoError(t, WriteRoutes(h, routes))
	return &table{file: routesFile(h), key: "kelp", port: 8080}, h
}

func ask(h http.Handler, url string, edit ...func(*http.Request)) *httptest.ResponseRecorder {
	r := httptest.NewRequest("GET", url, nil)
	r.RemoteAddr = "127.0.0.1:5555"
	for _, e := range edit {
		e(r)
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	return w
}

func TestForwarding(t *testing.T) {
	socket := behind(t, func(w http.ResponseWriter, r *http.Request) {
		_ = json.NewEncoder(w).Encode(map[string]string{"host": r.Host, "for": strings.Join(r.Header["X-Forwarded-For"], "|"), "proto": r.Header.Get("X-Forwarded-Proto"),
			"port": r.Header.Get("X-Forwarded-Port"), "forwarded": r.Header.Get("Forwarded"), "uri": r.RequestURI, "forwarded-host": r.Header.Get("X-Forwarded-Host")})
	})
	table, _ := newTable(t, Route{Host: "ferry.localhost", StackID: "abc", Site: "ferry", Network: "unix", Address: socket})
	got := ask(table, "http://Ferry.LOCALHOST.:8080/a%2Fb/../c?x=%20y", func(r *http.Request) {
		r.Header.Set("X-Forwarded-For", "6.6.6.6")
		r.Header.Set("X-Forwarded-Proto", "https")
		r.Header.Set("X-Forwarded-Port", "666")
		r.Header.Set("X-Forwarded-Host", "evil.example")
		r.Header.Set("Forwarded", "for=6.6.6.6")
	})
	var seen map[string]string
	require.NoError(t, json.Unmarshal(got.Body.Bytes(), &seen))
	assert.Equal(t, map[string]string{"host": "ferry.localhost:8080", "for": "127.0.0.1", "proto": "http", "port": "8080", "forwarded": "", "uri": "/a%2Fb/../c?x=%20y", "forwarded-host": "Ferry.LOCALHOST.:8080"}, seen)
}

func TestRouteAnswerIsSealed(t *testing.T) {
	table, _ := newTable(t, Route{Host: "ferry.localhost", StackID: "abc", Site: "ferry", Network: "unix", Address: "/nowhere"})
	got := ask(table, "http://ferry.localhost"+health.RoutePath, func(r *http.Request) { r.Header.Set(health.AskHeader, "n1") })
	var routed health.Routed
	require.NoError(t, json.Unmarshal(got.Body.Bytes(), &routed))
	assert.Equal(t, health.Routed{StackID: "abc", Site: "ferry", Seal: health.Seal("kelp", "n1", "abc", "ferry")}, routed)
	assert.NotEqual(t, health.Seal("kelp", "n2", "abc", "ferry"), routed.Seal, "an old answer does not serve again")
}

// A change of the table holds from the next request on, and requests in flight finish.
func TestTableChanges(t *testing.T) {
	release := make(chan bool)
	slow := behind(t, func(w http.ResponseWriter, _ *http.Request) { <-release; _, _ = io.WriteString(w, "slow but whole") })
	quick := behind(t, func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "quick") })
	table, h := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: slow})
	server := httptest.NewServer(table)
	defer server.Close()
	get := func() string {
		req, _ := http.NewRequest("GET", server.URL, nil)
		req.Host = "ferry.localhost"
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return err.Error()
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return string(text)
	}
	first := make(chan string)
	go func() { first <- get() }()
	time.Sleep(20 * time.Millisecond)
	require.NoError(t, WriteRoutes(h, []Route{{Host: "ferry.localhost", Network: "unix", Address: quick}}))
	assert.Equal(t, "quick", get())
	close(release)
	assert.Equal(t, "slow but whole", <-first)
	require.NoError(t, WriteRoutes(h, nil))
	assert.Contains(t, get(), "No site is named ferry.localhost")
	require.NoError(t, os.Remove(routesFile(h)))
	assert.Contains(t, get(), "cannot be read")
}

// Event streams come as they are sent, not bunched.
func TestStreams(t *testing.T) {
	more := make(chan bool)
	socket := behind(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		_, _ = io.WriteString(w, "one")
		w.(http.Flusher).Flush()
		<-more
	})
	table, _ := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: socket})
	server := httptest.NewServer(table)
	defer server.Close()
	defer close(more)
	req, _ := http.NewRequest("GET", server.URL, nil)
	req.Host = "ferry.localhost"
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	buf := make([]byte, 3)
	_, err = io.ReadFull(resp.Body, buf)
	require.NoError(t, err)
	assert.Equal(t, "one", string(buf))
}

func TestPages(t *testing.T) {
	table, _ := newTable(t, Route{Host: "ferry.localhost", Stack: "ferry <b>", Network: "unix", Address: "/nowhere"})
	got := ask(table, "http://ferry.localhost/")
	assert.Equal(t, 502, got.Code)
	assert.Contains(t, got.Body.String(), "dravit status --stack ferry &lt;b&gt;")
	for host, lists := range map[string]bool{"other.localhost": true, "localhost:8080": true, "127.0.0.1": true, "rebound.example": false, "localhost.example": false} {
		got := ask(table, "http://"+host+"/")
		assert.Equal(t, 404, got.Code)
		assert.Equal(t, lists, strings.Contains(got.Body.String(), "http://ferry.localhost:8080/"), host)
		assert.Equal(t, "no-store", got.Header().Get("Cache-Control"))
	}
}

// Ten thousand names cost a look-up no more than one does: it is a map, read once.
func TestManyNames(t *testing.T) {
	var routes []Route
	for i := range 10_000 {
		routes = append(routes, Route{Host: strings.Repeat("x", i%40) + string(rune('a'+i%26)) + ".localhost", Network: "unix", Address: "/s"})
	}
	table, _ := newTable(t, routes...)
	for range 1000 {
		to, err := table.find("a.localhost")
		require.NoError(t, err)
		require.NotNil(t, to)
	}
}

// A name whose stack does not run leads to a page that says so, with the command.
func TestStoppedStack(t *testing.T) {
	table, h := newTable(t)
	require.NoError(t, ledger.Change(h, func(l *ledger.Ledger) error {
		l.Stacks["abc"] = ledger.Stack{Dir: "/p", Name: "night-boat", Hosts: map[string]string{"night": "night.localhost", "*.quay.localhost": "*.quay.localhost"}}
		return nil
	}))
	table.book = func() (*ledger.Ledger, error) { return ledger.Read(h) }
	for _, host := range []string{"night.localhost", "east.quay.localhost"} {
		w := ask(table, "http://"+host+":8080/")
		assert.Equal(t, 503, w.Code)
		assert.Contains(t, w.Body.String(), "dravit start --stack night-boat")
	}
	assert.Equal(t, 404, ask(table, "http://quay.localhost:8080/").Code)
}
