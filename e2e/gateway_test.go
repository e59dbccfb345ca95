package e2e

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// api is a server that echoes what comes over an upgraded connection, sends events one by one, and counts what is
// uploaded.
const api = `const http = require("http");
const server = http.createServer((q, r) => {
  if (q.url === "/events") {
    r.writeHead(200, {"Content-Type": "text/event-stream"});
    r.write("data: first\n\n");
    q.on("close", () => r.end());
    setTimeout(() => r.end("data: second\n\n"), 3000);
    return;
  }
  if (q.url === "/large") {
    r.writeHead(200, {"Content-Type": "application/octet-stream"});
    const chunk = Buffer.alloc(1 << 20, "x");
    let n = 0;
    const more = () => { while (n < 64) { n++; if (!r.write(chunk)) return r.once("drain", more); } r.end(); };
    return more();
  }
  let n = 0;
  q.on("data", d => n += d.length);
  q.on("end", () => r.end("took " + n));
});
server.on("upgrade", (q, socket) => {
  socket.write("HTTP/1.1 101 Switching Protocols\r\nUpgrade: " + q.headers.upgrade + "\r\nConnection: Upgrade\r\n\r\n");
  socket.on("data", d => socket.write("echo " + d));
  socket.on("error", () => {});
});
server.listen(process.env.PORT, "127.0.0.1");
`

// Upgraded connections, event streams and large bodies pass through the gateway and each web server piece by piece.
func TestStreams(t *testing.T) {
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		w := newWorld(t)
		w.write("dravit.toml", fmt.Sprintf("name = \"streams\"\n[part.web]\nkind = %q\n[part.api]\nkind = \"node\"\n"+
			"command = \"exec node api.js\"\n[[site]]\nname = \"api\"\napp = \"api\"\n", server))
		w.write("api.js", api)
		w.must("start")
		url := w.status().Sites[0].URL
		address := "127.0.0.1:" + strings.TrimSuffix(strings.SplitN(url, ":", 3)[2], "/")

		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
		_, err = fmt.Fprintf(conn,
			"GET /socket HTTP/1.1\r\nHost: api.localhost\r\nConnection: Upgrade\r\nUpgrade: echo\r\n\r\n")
		require.NoError(t, err)
		r := bufio.NewReader(conn)
		if server == "apache" { // passes on WebSockets alone, which begin with a key
			conn.Close()
		} else {
			resp, err := http.ReadResponse(r, nil)
			require.NoError(t, err, server)
			require.Equal(t, 101, resp.StatusCode, server)
			for _, word := range []string{"tide", "quay"} {
				_, err = io.WriteString(conn, word)
				require.NoError(t, err)
				got := make([]byte, len("echo ")+len(word))
				_, err = io.ReadFull(r, got)
				require.NoError(t, err)
				assert.Equal(t, "echo "+word, string(got), server)
			}
			conn.Close()
		}

		began := time.Now()
		conn, err = net.Dial("tcp", address)
		require.NoError(t, err)
		require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
		_, err = fmt.Fprintf(conn, "GET /events HTTP/1.1\r\nHost: api.localhost\r\n\r\n")
		require.NoError(t, err)
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		require.NoError(t, err)
		line, err := bufio.NewReader(resp.Body).ReadString('\n')
		require.NoError(t, err)
		assert.Equal(t, "data: first\n", line)
		assert.Less(t, time.Since(began), 2500*time.Millisecond, "%s: the first event waits for no second", server)
		conn.Close()

		const size = 64 << 20
		_, body, _ := get(t, "POST", url, io.LimitReader(zeros{}, size))
		assert.Equal(t, fmt.Sprintf("took %d", size), body, server)
		_, body, _ = get(t, "GET", url+"large", nil)
		assert.Len(t, body, 64<<20, server)
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

// Hostile Host headers and paths get an answer that reveals nothing, and the gateway keeps serving.
func TestHostileRequests(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	w.must("start")
	url := w.status().Sites[0].URL
	address := "127.0.0.1:" + strings.TrimSuffix(strings.SplitN(url, ":", 3)[2], "/")
	raw := func(request string) string {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		defer conn.Close()
		require.NoError(t, conn.SetDeadline(time.Now().Add(5*time.Second)))
		_, err = io.WriteString(conn, request)
		require.NoError(t, err)
		text, _ := io.ReadAll(conn) // it may be cut off
		return string(text)
	}
	for _, host := range []string{"night.localhost\x00.example", "night.localhost, crew.localhost",
		"\"night.localhost\"", "night.localhost/../x", "[::1", "night.localhost:99999999", "*.localhost", "..localhost",
		"", "night.localhost\r\nX-Evil: 1", strings.Repeat("a", 5000) + ".localhost"} {
		text := raw("GET / HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n")
		assert.NotContains(t, text, " 500 ", "%q", host)
		assert.NotContains(t, text, "goroutine", "%q", host)
		if !strings.Contains(host, "\r\n") && !strings.HasSuffix(host, ":99999999") {
			assert.NotContains(t, text, "<h1>Night boat</h1>", "%q", host)
		}
	}
	for _, path := range []string{"/../dravit.toml", "/..%2fdravit.toml", "/%2e%2e/dravit.toml", "//etc/passwd",
		"/.dravit/probe", "/%00", "/a\tb", "/public/../../dravit.toml", "/\\..\\dravit.toml"} {
		text := raw("GET " + path + " HTTP/1.1\r\nHost: night.localhost\r\nConnection: close\r\n\r\n")
		assert.NotContains(t, text, "name = \"night-boat\"", path)
		assert.NotContains(t, text, "root:", path)
		assert.NotContains(t, text, " 500 ", path)
	}
	for _, smuggled := range []string{
		"POST / HTTP/1.1\r\nHost: night.localhost\r\nContent-Length: 4\r\nTransfer-Encoding: chunked\r\n" +
			"Connection: close\r\n\r\n0\r\n\r\nGET /x HTTP/1.1\r\nHost: night.localhost\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: night.localhost\r\nHost: other.localhost\r\nConnection: close\r\n\r\n",
		"GET http://other.localhost/ HTTP/1.1\r\nHost: night.localhost\r\nConnection: close\r\n\r\n",
		"NONSENSE\r\n\r\n",
	} {
		text := raw(smuggled)
		assert.NotContains(t, text, "goroutine")
		assert.LessOrEqual(t, strings.Count(text, "HTTP/1.1 "), 1, "%q is one request at most", smuggled)
	}
	code, body, _ := get(t, "GET", url, nil)
	assert.Equal(t, 200, code)
	assert.Contains(t, body, "Night boat")
	w.must("check")
	// Slow clients delay only themselves.
	var slow []net.Conn
	for range 50 {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		_, err = io.WriteString(conn, "GET / HTTP/1.1\r\nHost: night.localhost\r\nX-Slow: ")
		require.NoError(t, err)
		slow = append(slow, conn)
	}
	code, _, _ = get(t, "GET", url, nil)
	assert.Equal(t, 200, code)
	for _, conn := range slow {
		conn.Close()
	}
	// While the gateway runs, a stack that does not run has a page that says so.
	w.write("other/dravit.toml", "name = \"day-boat\"\n[[site]]\nname = \"day\"\nroot = \".\"\n")
	w.write("other/index.html", "day")
	w.must("-C", "other", "start")
	w.must("-C", "other", "stop")
	code, body, _ = get(t, "GET", "http://day.localhost:"+strings.SplitN(address, ":", 2)[1]+"/", nil)
	assert.Equal(t, 503, code)
	assert.Contains(t, body, "dravit start --stack day-boat")
}
