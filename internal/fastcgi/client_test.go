package fastcgi

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	stdcgi "net/http/fcgi"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// responder serves FastCGI with the standard library's other half of the protocol.
func responder(t *testing.T, h http.HandlerFunc) Dial {
	t.Helper()
	l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
	require.NoError(t, err)
	go func() { _ = stdcgi.Serve(l, h) }()
	t.Cleanup(func() { l.Close() })
	return func(ctx context.Context) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", l.Addr().String())
	}
}

// raw answers any request with the given bytes.
func raw(t *testing.T, answer []byte) Dial {
	t.Helper()
	return func(context.Context) (net.Conn, error) {
		client, server := net.Pipe()
		go func() {
			go io.Copy(io.Discard, server)
			_, _ = server.Write(answer)
			server.Close()
		}()
		return client, nil
	}
}

func params(method string, length int) map[string]string {
	return map[string]string{
		"REQUEST_METHOD":  method,
		"SERVER_PROTOCOL": "HTTP/1.1",
		"REQUEST_URI":     "/x?a=b",
		"HTTP_HOST":       "ferry.localhost",
		"CONTENT_LENGTH":  fmt.Sprint(length),
		"LONG":            strings.Repeat("v", 1000),
	}
}

func TestRoundTrip(t *testing.T) {
	body := strings.Repeat("salt ", 50_000) // several records
	dial := responder(t, func(w http.ResponseWriter, r *http.Request) {
		got, _ := io.ReadAll(r.Body)
		assert.Equal(t, body, string(got))
		assert.Equal(t, "ferry.localhost", r.Host)
		assert.Equal(t, strings.Repeat("v", 1000), stdcgi.ProcessEnv(r)["LONG"])
		w.Header().Set("X-Tide", "high")
		w.WriteHeader(http.StatusTeapot)
		_, _ = w.Write(got)
	})
	resp, err := Do(t.Context(), dial, params("POST", len(body)), strings.NewReader(body))
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Equal(t, http.StatusTeapot, resp.Status)
	assert.Equal(t, "high", resp.Header.Get("X-Tide"))
	assert.Empty(t, resp.Header.Get("Status"), "the status is no header")
	got, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Equal(t, body, string(got))
}

// Answers come piece by piece, as they are written.
func TestStreams(t *testing.T) {
	more := make(chan bool)
	dial := responder(t, func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "one")
		w.(http.Flusher).Flush()
		<-more
		fmt.Fprint(w, "two")
	})
	resp, err := Do(t.Context(), dial, params("GET", 0), nil)
	require.NoError(t, err)
	defer resp.Body.Close()
	buf := make([]byte, 3)
	_, err = io.ReadFull(resp.Body, buf)
	require.NoError(t, err)
	assert.Equal(t, "one", string(buf))
	close(more)
	rest, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Equal(t, "two", string(rest))
}

func TestContextEnds(t *testing.T) {
	stuck := make(chan bool)
	defer close(stuck)
	dial := responder(t, func(http.ResponseWriter, *http.Request) { <-stuck })
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err := Do(ctx, dial, params("GET", 0), nil)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}

// rec is one record of the protocol.
func rec(kind byte, content string, padding int) []byte {
	head := []byte{1, kind, 0, 1, 0, 0, byte(padding), 0}
	binary.BigEndian.PutUint16(head[4:], uint16(len(content)))
	return append(append(head, content...), make([]byte, padding)...)
}

func TestAnswers(t *testing.T) {
	end := rec(typeEnd, "\x00\x00\x00\x00\x00\x00\x00\x00", 0)
	for name, c := range map[string]struct {
		records [][]byte
		status  int
		body    string
		errors  string
		fails   string
	}{
		"status line": {records: [][]byte{rec(typeStdout, "Status: 404 Not Found\r\n\r\nno", 0), end},
			status: 404, body: "no"},
		"no status": {records: [][]byte{rec(typeStdout, "Content-Type: text/plain\r\n\r\nyes", 5), end},
			status: 200, body: "yes"},
		"location": {records: [][]byte{rec(typeStdout, "Location: /quay\r\n\r\n", 0), end}, status: 302},
		"headers in pieces": {records: [][]byte{rec(typeStdout, "X-A: 1\r\nX-", 3),
			rec(typeStdout, "B: 2\r\n\r\nb", 0), end}, status: 200, body: "b"},
		"errors beside": {records: [][]byte{rec(typeStderr, "PHP Warning", 1), rec(typeStdout, "A: b\r\n\r\nx",
			0), rec(typeStderr, "!", 0), end}, status: 200, body: "x", errors: "PHP Warning!"},
		"unknown record": {records: [][]byte{rec(11, "huh", 0), rec(typeStdout, "A: b\r\n\r\nx", 0), end},
			status: 200, body: "x"},
		"broken status": {records: [][]byte{rec(typeStdout, "Status: fine\r\n\r\n", 0), end},
			fails: `the answer's status is "fine"`},
		"nothing": {records: [][]byte{end}, fails: "the answer has no whole headers"},
		"only errors": {records: [][]byte{rec(typeStderr, "Primary script unknown", 0), end},
			fails: "Primary script unknown"},
		"cut in a head":       {records: [][]byte{{1, typeStdout, 0}}, fails: "unexpected EOF"},
		"cut in the contents": {records: [][]byte{rec(typeStdout, "A: b\r\n\r\nx", 0)[:10]}, fails: "unexpected EOF"},
	} {
		t.Run(name, func(t *testing.T) {
			resp, err := Do(t.Context(), raw(t, bytes.Join(c.records, nil)), params("GET", 0), nil)
			if c.fails != "" {
				require.ErrorContains(t, err, c.fails)
				return
			}
			require.NoError(t, err)
			defer resp.Body.Close()
			assert.Equal(t, c.status, resp.Status)
			body, err := io.ReadAll(resp.Body)
			require.NoError(t, err)
			assert.Equal(t, c.body, string(body))
			assert.Equal(t, c.errors, resp.Errors())
		})
	}
}

// A body that breaks off is an error, not a short answer.
func TestCutBody(t *testing.T) {
	resp, err := Do(t.Context(), raw(t, rec(typeStdout, "A: b\r\n\r\nhalf", 0)), params("GET", 0), nil)
	require.NoError(t, err)
	defer resp.Body.Close()
	_, err = io.ReadAll(resp.Body)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

func FuzzAnswer(f *testing.F) {
	f.Add(rec(typeStdout, "A: b\r\n\r\nx", 3))
	f.Fuzz(func(t *testing.T, answer []byte) {
		s := raw(t, answer)
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		resp, err := Do(ctx, s, params("GET", 0), nil)
		if err != nil {
			return
		}
		defer resp.Body.Close()
		_, _ = io.Copy(io.Discard, resp.Body)
		require.NoError(t, ctx.Err(), "it must end by itself")
	})
}
