package gateway

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
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
	"golang.org/x/net/dns/dnsmessage"

	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
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
	require.NoError(t, WriteTable(h, Table{Routes: routes}))
	return &table{file: tableFile(h), key: "kelp", port: 8080, own: func(*http.Request) bool { return true }}, h
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
		_ = json.NewEncoder(w).Encode(map[string]string{"host": r.Host,
			"for": strings.Join(r.Header["X-Forwarded-For"], "|"), "proto": r.Header.Get("X-Forwarded-Proto"),
			"port": r.Header.Get("X-Forwarded-Port"), "forwarded": r.Header.Get("Forwarded"), "uri": r.RequestURI,
			"forwarded-host": r.Header.Get("X-Forwarded-Host")})
	})
	table, _ := newTable(t,
		Route{Host: "ferry.localhost", StackID: "abc", Site: "ferry", Network: "unix", Address: socket})
	got := ask(table, "http://Ferry.LOCALHOST.:8080/a%2Fb/../c?x=%20y", func(r *http.Request) {
		r.Header.Set("X-Forwarded-For", "6.6.6.6")
		r.Header.Set("X-Forwarded-Proto", "https")
		r.Header.Set("X-Forwarded-Port", "666")
		r.Header.Set("X-Forwarded-Host", "evil.example")
		r.Header.Set("Forwarded", "for=6.6.6.6")
	})
	var seen map[string]string
	require.NoError(t, json.Unmarshal(got.Body.Bytes(), &seen))
	assert.Equal(t, map[string]string{"host": "ferry.localhost:8080", "for": "127.0.0.1", "proto": "http",
		"port": "8080", "forwarded": "", "uri": "/a%2Fb/../c?x=%20y", "forwarded-host": "Ferry.LOCALHOST.:8080"}, seen)
}

func TestRouteAnswerIsSealed(t *testing.T) {
	table, _ := newTable(t,
		Route{Host: "ferry.localhost", StackID: "abc", Site: "ferry", Network: "unix", Address: "/nowhere"})
	got := ask(table, "http://ferry.localhost"+health.RoutePath, func(r *http.Request) {
		r.Header.Set(health.AskHeader, "n1")
	})
	var routed health.Routed
	require.NoError(t, json.Unmarshal(got.Body.Bytes(), &routed))
	assert.Equal(t,
		health.Routed{StackID: "abc", Site: "ferry", Seal: health.Seal("kelp", "n1", "abc", "ferry")}, routed)
	assert.NotEqual(t, health.Seal("kelp", "n2", "abc", "ferry"), routed.Seal, "an old answer does not serve again")
}

// A change of the table counts from the next request on; requests under way finish.
func TestTableChanges(t *testing.T) {
	release := make(chan bool)
	slow := behind(t, func(w http.ResponseWriter, _ *http.Request) {
		<-release
		_, _ = io.WriteString(w, "slow but whole")
	})
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
	require.NoError(t,
		WriteTable(h, Table{Routes: []Route{{Host: "ferry.localhost", Network: "unix", Address: quick}}}))
	assert.Equal(t, "quick", get())
	close(release)
	assert.Equal(t, "slow but whole", <-first)
	require.NoError(t, WriteTable(h, Table{}))
	assert.Contains(t, get(), "No site is named ferry.localhost")
	require.NoError(t,
		WriteTable(h, Table{Routes: []Route{{Host: "ferry.localhost", Network: "unix", Address: quick}}}))
	assert.Equal(t, "quick", get())
	for _, damage := range []func() error{
		func() error { return os.WriteFile(tableFile(h), []byte("{"), 0o600) },
		func() error { return os.Remove(tableFile(h)) },
	} {
		require.NoError(t, damage())
		assert.Equal(t, "quick", get(), "the routes that were read last serve until the keeper writes them again")
	}
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
	table, _ := newTable(t,
		Route{Host: "ferry.localhost", Stack: "ferry <b>", Network: "unix", Address: "/nowhere", Halted: true})
	got := ask(table, "http://ferry.localhost/")
	assert.Equal(t, 502, got.Code)
	assert.Contains(t, got.Body.String(), "dravit start --stack ferry &lt;b&gt;")
	for host, lists := range map[string]bool{"other.localhost": true, "localhost:8080": true, "127.0.0.1": true,
		"rebound.example": false, "localhost.example": false} {
		got := ask(table, "http://"+host+"/")
		assert.Equal(t, 404, got.Code)
		assert.Equal(t, lists, strings.Contains(got.Body.String(), "http://ferry.localhost:8080/"), host)
		assert.Equal(t, "no-store", got.Header().Get("Cache-Control"))
	}
}

// Each of ten thousand names is found, and a look-up allocates no more than one among ten.
func TestManyNames(t *testing.T) {
	cost := func(n int) float64 {
		var routes []Route
		for i := range n {
			routes = append(routes,
				Route{Host: fmt.Sprintf("boat-%d.localhost", i), Network: "unix", Address: fmt.Sprintf("/s/%d", i)})
		}
		table, _ := newTable(t, routes...)
		for i := range n {
			to, err := table.find(fmt.Sprintf("boat-%d.localhost", i))
			require.NoError(t, err)
			require.NotNil(t, to)
			require.Equal(t, fmt.Sprintf("/s/%d", i), to.Address)
		}
		none, err := table.find("no-boat.localhost")
		require.NoError(t, err)
		require.Nil(t, none)
		return testing.AllocsPerRun(100, func() { _, _ = table.find("boat-7.localhost") })
	}
	assert.Equal(t, cost(10), cost(10_000))
}

// A name whose stack does not run leads to a page that says so, with the command.
func TestStoppedStack(t *testing.T) {
	table, h := newTable(t)
	require.NoError(t, ledger.Change(t.Context(), h, func(l *ledger.Ledger) error {
		l.Stacks["abc"] = ledger.Stack{Dir: "/p", Name: "night-boat",
			Hosts: map[string]string{"night": "night.localhost", "*.quay.localhost": "*.quay.localhost"}}
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

// A request waits while its web server starts.
func TestRequestsWaitForARestart(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "web.sock")
	table, _ := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: socket})
	var listener net.Listener
	later := time.AfterFunc(200*time.Millisecond, func() {
		listener, _ = net.Listen("unix", socket)
		_ = http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, "back")
		}))
	})
	defer later.Stop()
	got := ask(table, "http://ferry.localhost/")
	assert.Equal(t, 200, got.Code)
	assert.Equal(t, "back", got.Body.String())
	listener.Close()
}

// Clients on a network port get the one site, whatever name they use. The web server gets the site's name, and the
// application theirs. The gateway's own pages are not served there.
func TestSiteForOtherMachines(t *testing.T) {
	socket := behind(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Location", "http://"+r.Host+"/deep/")
		_ = json.NewEncoder(w).Encode([]string{r.Host, r.Header.Get(kind.VisitedHeader),
			r.Header.Get("X-Forwarded-Port"), r.Header.Get("X-Forwarded-Host")})
	})
	table, _ := newTable(t,
		Route{Host: "ferry.localhost", StackID: "abc", Site: "ferry", Network: "unix", Address: socket})
	network := table.siteFor(NetworkListener{Port: 8600, Host: "ferry.localhost"})
	for _, host := range []string{"192.168.7.2:8600", "saltmarsh:8600", "ferry.localhost"} {
		got := ask(network, "http://"+host+"/", func(r *http.Request) {
			r.Header.Set(kind.VisitedHeader, "evil.example")
		})
		var seen []string
		require.NoError(t, json.Unmarshal(got.Body.Bytes(), &seen))
		assert.Equal(t, []string{"ferry.localhost", host, "8600", host}, seen)
		assert.Equal(t, "http://"+host+"/deep/", got.Header().Get("Location"))
		assert.Equal(t, 404, ask(network, "http://"+host+health.RoutePath).Code)
		assert.Equal(t, 404, ask(network, "http://"+host+kind.ProbePath).Code)
	}
	got := ask(table, "http://ferry.localhost/", func(r *http.Request) {
		r.Header.Set(kind.VisitedHeader, "evil.example")
	})
	assert.NotContains(t, got.Body.String(), "evil", "only the gateway says what a visitor called us")
}

// freePort returns a port that is free for TCP and UDP, and that the system does not use for outgoing connections
// (those begin at 32768).
func freePort(t *testing.T) int {
	t.Helper()
	for range 100 {
		port := 20000 + rand.IntN(12000)
		l, err := net.Listen("tcp", fmt.Sprintf(":%d", port))
		if err != nil {
			continue
		}
		u, err := net.ListenPacket("udp", fmt.Sprintf(":%d", port))
		l.Close()
		if err == nil {
			u.Close()
			return port
		}
	}
	require.Fail(t, "no port is free")
	return 0
}

// The responder answers for names of stacks, denies others below their suffixes, and refuses the rest.
func TestResponder(t *testing.T) {
	port := freePort(t)
	r, err := respond(port, loopbacks, func(host string) known {
		switch {
		case host == "ferry.test":
			return knownName
		case strings.HasSuffix(host, ".test"):
			return knownSuffix
		}
		return knownNothing
	})
	require.NoError(t, err)
	defer r.close()
	for _, network := range []string{"udp", "tcp"} {
		resolver := &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, fmt.Sprintf("127.0.0.1:%d", port))
		}}
		for _, host := range []string{"ferry.test", "FERRY.test"} {
			all, err := resolver.LookupHost(t.Context(), host)
			require.NoError(t, err, network)
			assert.ElementsMatch(t, []string{"127.0.0.1", "::1"}, all)
		}
		_, err := resolver.LookupHost(t.Context(), "crew.test")
		var missing *net.DNSError
		require.ErrorAs(t, err, &missing)
		assert.True(t, missing.IsNotFound)
		_, err = resolver.LookupHost(t.Context(), "example.org")
		assert.Error(t, err)
		txt, err := resolver.LookupTXT(t.Context(), "ferry.test")
		assert.Empty(t, txt)
		assert.Error(t, err)
	}
	// If the gateway has one address only, names resolve to no other.
	other := freePort(t)
	one, err := respond(other, loopbacks[:1], func(string) known { return knownName })
	require.NoError(t, err)
	defer one.close()
	all, err := (&net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, fmt.Sprintf("127.0.0.1:%d", other))
	}}).LookupHost(t.Context(), "ferry.test")
	require.NoError(t, err)
	assert.Equal(t, []string{"127.0.0.1"}, all)
	// A client that keeps a connection open does not keep the responder from ending.
	idle, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	defer idle.Close()
	defer func(began time.Time) {
		r.close()
		assert.Less(t, time.Since(began), lineIdle)
	}(time.Now())
	// A message that is no query gets no answer or an error; the responder keeps serving.
	conn, err := net.Dial("udp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	defer conn.Close()
	for _, bad := range []string{"", "x", strings.Repeat("\xff", 600),
		"\x00\x01\x00\x00\x00\x09\x00\x00\x00\x00\x00\x00"} {
		_, err = conn.Write([]byte(bad))
		require.NoError(t, err)
		r.answer([]byte(bad))
	}
	answer := r.answer([]byte("\x00\x01\x28\x00\x00\x00\x00\x00\x00\x00\x00\x00"))
	require.Len(t, answer, 12)
	assert.EqualValues(t, 1, answer[3]&15, "no question: a format error (RFC 1035)")
}

func FuzzResponder(f *testing.F) {
	r := &responder{known: func(string) known { return knownName }}
	f.Add([]byte("\x00\x01\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x05ferry\x04test\x00\x00\x01\x00\x01"))
	f.Fuzz(func(t *testing.T, query []byte) {
		answer := r.answer(query)
		var asked, answered dnsmessage.Parser
		head, err := asked.Start(query)
		if err != nil || head.Response {
			require.Nil(t, answer, "what is no question gets no answer")
			return
		}
		require.LessOrEqual(t, len(answer), maxDatagram)
		said, err := answered.Start(answer)
		require.NoError(t, err)
		require.True(t, said.Response)
		require.Equal(t, head.ID, said.ID)
		questions, err := answered.AllQuestions()
		require.NoError(t, err)
		if want, err := asked.AllQuestions(); err == nil && len(want) == 1 {
			require.Equal(t, want, questions)
		} else {
			require.Equal(t, dnsmessage.RCodeFormatError, said.RCode)
		}
	})
}

// Network listeners open and close with the table, while everything else keeps running.
func TestListenersFollowTheTable(t *testing.T) {
	socket := behind(t, func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "ferry") })
	route := Route{Host: "ferry.localhost", Network: "unix", Address: socket}
	table, h := newTable(t, route)
	d := &openings{table: table, book: func() (*ledger.Ledger, error) {
		return ledger.Read(h)
	}, open: map[NetworkListener]*servers{}}
	defer d.close()
	port, names := freePort(t), freePort(t)
	reaches := func() bool {
		resp, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/", port))
		if err == nil {
			resp.Body.Close()
		}
		return err == nil && resp.StatusCode == 200
	}
	require.NoError(t, d.follow())
	assert.False(t, reaches())
	require.NoError(t,
		WriteTable(h,
			Table{Routes: []Route{route}, Network: []NetworkListener{{port, "ferry.localhost"}}, DNSPort: names}))
	require.NoError(t, d.follow())
	assert.True(t, reaches())
	assert.NotNil(t, d.resolver)
	require.NoError(t, WriteTable(h, Table{Routes: []Route{route}}))
	require.NoError(t, d.follow())
	http.DefaultClient.CloseIdleConnections()
	assert.False(t, reaches())
	assert.Nil(t, d.resolver)
	require.NoError(t,
		WriteTable(h, Table{Routes: []Route{route}, Network: []NetworkListener{{port, "ferry.localhost"}}}))
	require.NoError(t, d.follow())
	assert.True(t, reaches(), "what was closed opens again")
}

// A server that needs the length of a body first gets the whole body with its length, however it was sent.
func TestBufferedBodies(t *testing.T) {
	socket := behind(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		_, _ = fmt.Fprintf(w, "%d %s", r.ContentLength, body)
	})
	table, _ := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: socket, Buffered: true})
	ask := entrance(t, table)
	body := func(body io.Reader) func(*http.Request) {
		return func(r *http.Request) { r.Body, r.ContentLength = io.NopCloser(body), -1 }
	}
	_, text, err := ask("POST", "/", body(strings.NewReader("two tickets")))
	require.NoError(t, err)
	assert.Equal(t, "11 two tickets", text)
	_, text, err = ask("GET", "/")
	require.NoError(t, err)
	assert.Equal(t, "0 ", text)
}
