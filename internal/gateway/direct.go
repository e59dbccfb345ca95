package gateway

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/textproto"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"dravit/internal/health"
	"dravit/internal/proc"
)

// The goroutine that accepted a request also passes it on, if it has no body, over a connection that is reused. The
// standard library's reverse proxy would hand it to two other goroutines and back. Requests with a body or with a
// protocol upgrade go through the library's.

// silence is how long a web server may give no answer to a request: longer than any long poll, and not for ever.
var silence = 10 * time.Minute

// keptConn is a connection to a web server that is kept for later requests.
type keptConn struct {
	conn net.Conn
	in   *bufio.Reader
	out  *bufio.Writer
	idle time.Time // when its last request ended
}

// idleConns are the idle connections to one web server. The most recently used is at the end.
type idleConns struct {
	mu   sync.Mutex
	idle []*keptConn
}

const (
	maxIdle  = 64
	idleLife = 30 * time.Second // web servers keep idle connections longer
)

// get returns an idle connection, or nil if there is none.
func (l *idleConns) get() *keptConn {
	l.mu.Lock()
	defer l.mu.Unlock()
	for len(l.idle) > 0 {
		last := l.idle[len(l.idle)-1]
		l.idle = l.idle[:len(l.idle)-1]
		if time.Since(last.idle) < idleLife {
			return last
		}
		last.conn.Close()
	}
	return nil
}

func (l *idleConns) put(x *keptConn) {
	x.idle = time.Now()
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.idle) >= maxIdle {
		l.idle[0].conn.Close()
		l.idle = slices.Delete(l.idle, 0, 1)
	}
	l.idle = append(l.idle, x)
}

func (l *idleConns) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, x := range l.idle {
		x.conn.Close()
	}
	l.idle = nil
}

// direct reports whether a request can be passed on directly: nothing follows its head, and repeating it does no harm.
func direct(r *http.Request) bool {
	return (r.Method == http.MethodGet || r.Method == http.MethodHead) && r.ContentLength == 0 &&
		len(r.TransferEncoding) == 0 && r.Header["Upgrade"] == nil && r.Header["Expect"] == nil
}

// hop are the header fields that concern one connection only (RFC 9110, section 7.6.1).
var hop = map[string]bool{
	"Connection":          true,
	"Keep-Alive":          true,
	"Proxy-Connection":    true,
	"Proxy-Authenticate":  true,
	"Proxy-Authorization": true,
	"Te":                  true,
	"Trailer":             true,
	"Transfer-Encoding":   true,
	"Upgrade":             true,
}

// named returns the header fields that a Connection field names.
func named(h http.Header) map[string]bool {
	var names map[string]bool
	for _, value := range h["Connection"] {
		for name := range strings.SplitSeq(value, ",") {
			if name = textproto.TrimString(name); name != "" {
				if names == nil {
					names = map[string]bool{}
				}
				names[http.CanonicalHeaderKey(name)] = true
			}
		}
	}
	return names
}

// errCrashed says that the web server lost the runtime or application behind it.
var errCrashed = errors.New("the runtime or application crashed")

// crashNotice is how long it may take after a web server's answer 502 or 503 until a crash can be seen.
const crashNotice = 100 * time.Millisecond

// crashed reports whether an answer comes from a crash of the runtime or application, not from the application itself:
// nothing accepts requests in its place, or the keeper says that it is restarting.
func (t *table) crashed(ctx context.Context, to *target, status int) bool {
	if to.AppAddress == "" || status < http.StatusBadGateway || status > http.StatusGatewayTimeout {
		return false
	}
	for end := time.Now().Add(crashNotice); ; {
		now, err := t.find(to.Host)
		if err != nil || now == nil {
			return false
		}
		if now != to || now.Held || !to.appAccepts(ctx) {
			return true
		}
		if time.Now().After(end) || proc.Sleep(ctx, 5*time.Millisecond) != nil {
			return false
		}
	}
}

// appAccepts reports whether the runtime or application accepts connections.
func (to *target) appAccepts(ctx context.Context) bool {
	conn, err := (&net.Dialer{}).DialContext(ctx, to.AppNetwork, to.AppAddress)
	if err != nil {
		return !gone(err)
	}
	conn.Close()
	return true
}

// gone reports whether a connection failed because nothing listens there.
func gone(err error) bool {
	return errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.ENOENT)
}

// back waits until the runtime or application accepts requests again, restartPatience at most, and returns the target
// then.
func (t *table) back(ctx context.Context, to *target) *target {
	for end := time.Now().Add(restartPatience); !to.appAccepts(ctx) && time.Now().Before(end); {
		if proc.Sleep(ctx, 10*time.Millisecond) != nil {
			break
		}
	}
	if now, err := t.find(to.Host); err == nil && now != nil {
		to = now
	}
	return t.released(ctx, to)
}

// pass sends a request to the web server and the answer to the client. If the runtime crashed, pass waits for its
// restart and asks again.
func (to *target) pass(w http.ResponseWriter, r *http.Request, t *table) { to.send(w, r, t, true) }

// passOnce is pass without asking again.
func (to *target) passOnce(w http.ResponseWriter, r *http.Request, t *table) { to.send(w, r, t, false) }

func (to *target) send(w http.ResponseWriter, r *http.Request, t *table, again bool) {
	x := to.lines.get()
	for {
		kept := x != nil
		if x == nil {
			conn, err := dial(r.Context(), to.Route)
			if err != nil {
				to.proxy.ErrorHandler(w, r, err)
				return
			}
			x = &keptConn{conn: conn, in: bufio.NewReader(conn), out: bufio.NewWriter(conn)}
		}
		began, err := to.exchange(w, r, t, x, again)
		if err == nil {
			return
		}
		x.conn.Close()
		switch {
		case began: // half an answer must not look like a whole one
			if r.Context().Err() == nil {
				slog.Warn("the answer broke off", "host", r.Host, "error", err)
			}
			panic(http.ErrAbortHandler)
		case errors.Is(err, errCrashed): // the runtime is restarting: ask again then
			t.back(r.Context(), to).passOnce(w, r, t)
			return
		case kept && r.Context().Err() == nil && !os.IsTimeout(err): // the web server had closed it
			x = to.lines.get()
		default:
			to.proxy.ErrorHandler(w, r, err)
			return
		}
	}
}

// exchange sends a request over a connection, and the answer to the client. If err is not nil, began reports whether
// the client has got a part of the answer.
func (to *target) exchange(w http.ResponseWriter, r *http.Request, t *table, x *keptConn,
	again bool) (began bool, err error) {
	left := context.AfterFunc(r.Context(), func() { x.conn.Close() })
	defer left()
	asked := time.Now()
	to.write(x.out, r, t)
	if err := x.out.Flush(); err != nil {
		return false, err
	}
	// The first byte has to come in time; after it an answer may take as long as it likes.
	_ = x.conn.SetReadDeadline(time.Now().Add(silence))
	resp, err := http.ReadResponse(x.in, r)
	_ = x.conn.SetReadDeadline(time.Time{})
	for err == nil && resp.StatusCode >= 100 && resp.StatusCode < 200 {
		if resp.StatusCode == http.StatusSwitchingProtocols {
			return false, errors.New("it switches to another protocol, which was not asked for")
		}
		began = true
		for name, values := range resp.Header {
			w.Header()[name] = values
		}
		w.WriteHeader(resp.StatusCode)
		clear(w.Header())
		resp, err = http.ReadResponse(x.in, r)
	}
	if err != nil {
		return began, err
	}
	if again && !began && t.crashed(r.Context(), to, resp.StatusCode) {
		return false, errCrashed
	}
	to.note(resp.StatusCode)
	t.correct(resp.Header, r)
	if r.Header.Get(health.AskHeader) != "" { // a trace (Server Timing, W3C)
		resp.Header.Add("Server-Timing", fmt.Sprintf("server;dur=%.3f", float64(time.Since(asked).Microseconds())/1000))
	}
	out, also := w.Header(), named(resp.Header)
	for name, values := range resp.Header {
		if !hop[name] && !also[name] {
			out[name] = values
		}
	}
	for name := range resp.Trailer {
		out.Add("Trailer", name)
	}
	w.WriteHeader(resp.StatusCode)
	if err := copyBody(w, resp); err != nil {
		return true, err
	}
	for name, values := range resp.Trailer {
		out[name] = values
	}
	if resp.Close || x.in.Buffered() > 0 || !left() {
		x.conn.Close()
	} else {
		to.lines.put(x)
	}
	return true, nil
}

// copyBody copies an answer's body. What the web server sends piece by piece, the client gets piece by piece.
func copyBody(w http.ResponseWriter, resp *http.Response) error {
	buf := pool.Get().(*[]byte)
	defer pool.Put(buf)
	left := resp.ContentLength
	for {
		n, err := resp.Body.Read(*buf)
		if n > 0 {
			if _, err := w.Write((*buf)[:n]); err != nil {
				return err
			}
			if left -= int64(n); left != 0 && n < len(*buf) {
				_ = http.NewResponseController(w).Flush()
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// write writes a request as the web server should see it. An error shows when the buffer is flushed.
func (to *target) write(b *bufio.Writer, r *http.Request, t *table) {
	host, told := t.told(r)
	put := func(texts ...string) {
		for _, s := range texts {
			_, _ = b.WriteString(s)
		}
	}
	put(r.Method, " ", r.URL.RequestURI(), " HTTP/1.1\r\nHost: ", host, "\r\n")
	also := named(r.Header)
	for name, values := range r.Header {
		if hop[name] || also[name] || own[name] || ambiguous(name) {
			continue
		}
		for _, v := range values {
			put(name, ": ", v, "\r\n")
		}
	}
	for _, field := range told {
		if field[1] != "" {
			put(field[0], ": ", field[1], "\r\n")
		}
	}
	if strings.EqualFold(r.Header.Get("Te"), "trailers") { // gRPC wants to see it
		put("Te: trailers\r\n")
	}
	put("\r\n")
}
