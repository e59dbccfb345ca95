package gateway

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httptrace"
	"net/textproto"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// entrance serves a table as the gateway does, and returns a client for one of its names.
func entrance(t *testing.T,
	h http.Handler) (ask func(method, path string, edit ...func(*http.Request)) (*http.Response, string, error)) {
	t.Helper()
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	return func(method, path string, edit ...func(*http.Request)) (*http.Response, string, error) {
		req, err := http.NewRequest(method, server.URL+path, nil)
		require.NoError(t, err)
		req.Host = "ferry.localhost"
		for _, e := range edit {
			e(req)
		}
		resp, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			return nil, "", err
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		return resp, string(body), err
	}
}

// Direct requests and those through the library are the same to the web server and to the client.
func TestBothWaysAreAlike(t *testing.T) {
	socket := behind(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Keep", "kept")
		w.Header().Set("Connection", "X-Hop")
		w.Header().Set("X-Hop", "hop")
		w.Header().Add("Set-Cookie", "a=1")
		w.Header().Add("Set-Cookie", "b=2")
		switch r.URL.Path {
		case "/moved":
			http.Redirect(w, r, "http://"+r.Host+"/deep/", http.StatusFound)
		case "/same":
			w.WriteHeader(http.StatusNotModified)
		case "/none":
			w.WriteHeader(http.StatusNoContent)
		case "/trailer":
			w.Header().Set("Trailer", "X-Sum")
			_, _ = io.WriteString(w, "summed")
			w.Header().Set("X-Sum", "7")
		case "/large":
			_, _ = io.WriteString(w, strings.Repeat("tide ", 1<<18))
		default:
			var seen []string
			for name, values := range r.Header {
				seen = append(seen, fmt.Sprint(name, values))
			}
			slices.Sort(seen)
			fmt.Fprintln(w, r.Method, r.RequestURI, r.Host, seen)
		}
	})
	table, _ := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: socket})
	short := entrance(t, table)
	long := entrance(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		to, err := table.find("ferry.localhost")
		require.NoError(t, err)
		to.proxy.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), originalKey{}, r)))
	}))
	for _, path := range []string{"/", "/a%2Fb/../c?x=%20y&z", "/a?", "/moved", "/same", "/none",
		"/trailer", "/large", "//double"} {
		for _, method := range []string{"GET", "HEAD"} {
			edit := func(r *http.Request) {
				r.Header.Set("Connection", "X-Own, keep-alive")
				r.Header.Set("X-Own", "between us")
				r.Header.Set("Te", "trailers")
				r.Header.Set("Proxy-Authorization", "secret")
				r.Header.Set("X-Forwarded-For", "6.6.6.6")
				r.Header.Set("Forwarded", "for=6.6.6.6")
				r.Header.Set("Dravit-Visited", "evil.example")
				r.Header["X-Two"] = []string{"one", "two"}
				r.Header.Set("User-Agent", "keel/1")
			}
			a, textA, err := short(method, path, edit)
			require.NoError(t, err, path)
			b, textB, err := long(method, path, edit)
			require.NoError(t, err, path)
			assert.Equal(t, b.StatusCode, a.StatusCode, path)
			assert.Equal(t, textB, textA, "%s %s", method, path)
			for _, h := range []http.Header{a.Header, b.Header} {
				h.Del("Date")
			}
			assert.Equal(t, b.Header, a.Header, "%s %s", method, path)
			assert.Equal(t, b.Trailer, a.Trailer, "%s %s", method, path)
			if method == "GET" {
				assert.Equal(t, b.ContentLength, a.ContentLength, path)
			}
		}
	}
}

// A connection that the web server has closed is replaced; an answer that breaks off does not look complete.
func TestLines(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "web.sock")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer l.Close()
	conns := make(chan net.Conn, 10)
	answer := make(chan string, 10)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			conns <- conn
			go func() {
				in := bufio.NewReader(conn)
				for {
					if _, err := http.ReadRequest(in); err != nil {
						return
					}
					text := <-answer
					_, _ = io.WriteString(conn, text)
					if !strings.HasSuffix(text, "whole") {
						conn.Close()
					}
				}
			}()
		}
	}()
	table, _ := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: socket})
	ask := entrance(t, table)
	const whole = "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nwhole"
	for range 3 {
		answer <- whole
		_, body, err := ask("GET", "/")
		require.NoError(t, err)
		assert.Equal(t, "whole", body)
	}
	require.Len(t, conns, 1, "one connection serves them all")
	(<-conns).Close()
	answer <- whole
	_, body, err := ask("GET", "/")
	require.NoError(t, err)
	assert.Equal(t, "whole", body, "over another connection")
	require.Len(t, conns, 1)

	answer <- "HTTP/1.1 200 OK\r\nContent-Length: 50\r\n\r\nhalf"
	_, body, err = ask("GET", "/")
	assert.Error(t, err, body)
	answer <- "no HTTP at all\r\n\r\n"
	resp, body, err := ask("GET", "/")
	require.NoError(t, err)
	assert.Equal(t, 502, resp.StatusCode)
	assert.Contains(t, body, "did not accept the request")
	answer <- "HTTP/1.1 101 Switching Protocols\r\nUpgrade: echo\r\nConnection: Upgrade\r\n\r\n"
	resp, _, err = ask("GET", "/")
	require.NoError(t, err)
	assert.Equal(t, 502, resp.StatusCode, "nobody asked for it")

	// Early hints come early.
	answer <- "HTTP/1.1 103 Early Hints\r\nLink: </style.css>\r\n\r\n" + whole
	var hints []string
	resp, body, err = ask("GET", "/", func(r *http.Request) {
		*r = *r.WithContext(httptrace.WithClientTrace(r.Context(),
			&httptrace.ClientTrace{Got1xxResponse: func(code int, h textproto.MIMEHeader) error {
				hints = append(hints, fmt.Sprint(code, h["Link"]))
				return nil
			}}))
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"103 [</style.css>]"}, hints)
	assert.Equal(t, "whole", body)
	assert.Empty(t, resp.Header["Link"])
}

// If the client leaves, the request to the web server ends, too.
func TestVisitorLeaves(t *testing.T) {
	gone, began := make(chan bool, 1), make(chan bool, 1)
	socket := behind(t, func(w http.ResponseWriter, r *http.Request) {
		began <- true
		<-r.Context().Done()
		gone <- true
	})
	table, _ := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: socket})
	ask := entrance(t, table)
	ctx, leave := context.WithCancel(t.Context())
	go func() {
		<-began
		leave()
	}()
	_, _, err := ask("GET", "/", func(r *http.Request) { *r = *r.WithContext(ctx) })
	assert.Error(t, err)
	select {
	case <-gone:
	case <-time.After(5 * time.Second):
		t.Error("the web server works on for nobody")
	}
}

// A web server that sends more than it announced does not write the next client's answer.
func TestSurplusIsNotTheNextAnswer(t *testing.T) {
	const forged = "HTTP/1.1 200 OK\r\nContent-Length: 6\r\n\r\nforged"
	for _, c := range []struct{ name, answer string }{
		{"after a length", "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nfirst" + forged},
		{"after chunks", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nfirst\r\n0\r\n\r\n" + forged},
		{"after no content", "HTTP/1.1 204 No Content\r\n\r\n" + forged},
	} {
		t.Run(c.name, func(t *testing.T) {
			socket := filepath.Join(t.TempDir(), "web.sock")
			conns := scripted(t, socket, func(n int) string {
				if n == 1 {
					return c.answer
				}
				return "HTTP/1.1 200 OK\r\nContent-Length: 6\r\n\r\nhonest"
			})
			table, _ := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: socket})
			ask := entrance(t, table)
			_, _, err := ask("GET", "/")
			require.NoError(t, err)
			_, body, err := ask("GET", "/")
			require.NoError(t, err)
			assert.Equal(t, "honest", body)
			assert.EqualValues(t, 2, conns.Load(), "over a connection of its own")
		})
	}
}

// A client never gets the answer to the request of a client that has left.
func TestDepartedVisitorsAnswer(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "web.sock")
	asked, answer := make(chan bool, 1), make(chan bool)
	scripted(t, socket, func(n int) string {
		if n == 2 { // the client leaves during this request
			asked <- true
			<-answer
			return "HTTP/1.1 200 OK\r\nContent-Length: 6\r\n\r\nothers"
		}
		return "HTTP/1.1 200 OK\r\nContent-Length: 3\r\n\r\nown"
	})
	table, _ := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: socket})
	ask := entrance(t, table)
	_, body, err := ask("GET", "/") // whose connection is kept
	require.NoError(t, err)
	require.Equal(t, "own", body)
	ctx, leave := context.WithCancel(t.Context())
	go func() {
		<-asked
		leave()
	}()
	_, _, err = ask("GET", "/", func(r *http.Request) { *r = *r.WithContext(ctx) })
	require.Error(t, err)
	// whether or not the gateway saw the client leave, no client gets that answer
	time.Sleep(20 * time.Millisecond)
	close(answer)
	for range 3 {
		_, body, err = ask("GET", "/")
		require.NoError(t, err)
		assert.Equal(t, "own", body)
	}
}

// scripted listens on a socket and answers its requests, counted over all connections from 1, with what answer returns.
// It returns how many connections were made.
func scripted(t *testing.T, socket string, answer func(n int) string) *atomic.Int64 {
	t.Helper()
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	var requests, conns atomic.Int64
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			conns.Add(1)
			t.Cleanup(func() { conn.Close() })
			go func() {
				in := bufio.NewReader(conn)
				for {
					if _, err := http.ReadRequest(in); err != nil {
						return
					}
					_, _ = io.WriteString(conn, answer(int(requests.Add(1))))
				}
			}()
		}
	}()
	return &conns
}

// A server that accepts a request and never answers does not hold the client for ever; one that has begun to answer may
// take its time.
func TestSilentServer(t *testing.T) {
	was := silence
	silence = 300 * time.Millisecond
	defer func() { silence = was }()
	socket := behind(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/never" {
			<-r.Context().Done()
			return
		}
		_, _ = io.WriteString(w, "tide ")
		_ = http.NewResponseController(w).Flush()
		time.Sleep(2 * silence)
		_, _ = io.WriteString(w, "turns")
	})
	table, _ := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: socket})
	ask := entrance(t, table)
	for _, method := range []string{"GET", "POST"} {
		resp, text, err := ask(method, "/never")
		require.NoError(t, err)
		assert.Equal(t, http.StatusGatewayTimeout, resp.StatusCode)
		assert.Contains(t, text, "gives no answer")
		resp, text, err = ask(method, "/slow")
		require.NoError(t, err)
		assert.Equal(t, 200, resp.StatusCode)
		assert.Equal(t, "tide turns", text)
	}
}
