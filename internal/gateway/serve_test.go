package gateway

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"dravit/internal/certificates"
	"dravit/internal/home"
	"dravit/internal/ledger"
)

// The gateway answers over HTTP and HTTPS, opens network listeners when it is told to, and ends with its context.
func TestServe(t *testing.T) {
	socket := behind(t, func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, r.Header.Get("X-Forwarded-Proto")+" "+r.Header.Get("X-Forwarded-Port"))
	})
	route := Route{Host: "ferry.localhost", Network: "unix", Address: socket}
	_, h := newTable(t, route)
	require.NoError(t, os.WriteFile(keyFile(h), []byte("kelp"), 0o600))
	port, secure, network := freePort(t), freePort(t), freePort(t)
	ctx, end := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- Serve(ctx, h, port, secure) }()
	authority := func() []byte {
		text, _ := os.ReadFile(certificates.File(h))
		return text
	}
	client := func() *http.Client {
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM(authority())
		dialer := func(ctx context.Context, network, address string) (net.Conn, error) {
			_, p, _ := net.SplitHostPort(address)
			return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+p)
		}
		return &http.Client{Transport: &http.Transport{
			TLSClientConfig: &tls.Config{RootCAs: pool}, DialContext: dialer, DisableKeepAlives: true,
			ForceAttemptHTTP2: true,
		}}
	}
	get := func(url string) (string, string) {
		resp, err := client().Get(url)
		if err != nil {
			return err.Error(), ""
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return string(text), resp.Proto
	}
	require.Eventually(t, func() bool {
		text, _ := get(fmt.Sprintf("http://ferry.localhost:%d/", port))
		return text == fmt.Sprintf("http %d", port)
	}, 5*time.Second, 10*time.Millisecond)
	require.Eventually(t, func() bool {
		text, proto := get(fmt.Sprintf("https://ferry.localhost:%d/", secure))
		return text == fmt.Sprintf("https %d", secure) && proto == "HTTP/2.0"
	}, 5*time.Second, 10*time.Millisecond)
	text, _ := get(fmt.Sprintf("https://ferry.example:%d/", secure))
	assert.Contains(t, text, "certificate is valid for", "none is made for names of others")

	text, _ = get(fmt.Sprintf("http://127.0.0.1:%d/", network))
	assert.Contains(t, text, "refused")
	require.NoError(t,
		WriteTable(h, Table{Routes: []Route{route}, Network: []NetworkListener{{network, "ferry.localhost"}}}))
	require.NoError(t, syscall.Kill(os.Getpid(), syscall.SIGHUP))
	require.Eventually(t, func() bool {
		text, _ := get(fmt.Sprintf("http://127.0.0.1:%d/", network))
		return text == fmt.Sprintf("http %d", network)
	}, 5*time.Second, 10*time.Millisecond)

	assert.Error(t, Serve(t.Context(), h, port, 0), "its port is taken")
	end()
	require.NoError(t, <-ended)
	text, _ = get(fmt.Sprintf("http://ferry.localhost:%d/", port))
	assert.Contains(t, text, "refused")
	require.NoError(t, os.Remove(keyFile(h)))
	assert.ErrorIs(t, Serve(t.Context(), h, port, 0), os.ErrNotExist, "without its key no answer could be sealed")
}

// Sites still answer over HTTP if the HTTPS port is taken.
func TestServeWithoutHTTPS(t *testing.T) {
	socket := behind(t, func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "ferry") })
	_, h := newTable(t, Route{Host: "ferry.localhost", Network: "unix", Address: socket})
	require.NoError(t, os.WriteFile(keyFile(h), []byte("kelp"), 0o600))
	port, secure := freePort(t), freePort(t)
	taken, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", secure))
	require.NoError(t, err)
	defer taken.Close()
	ctx, end := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- Serve(ctx, h, port, secure) }()
	require.Eventually(t, func() bool {
		req, _ := http.NewRequest("GET", fmt.Sprintf("http://127.0.0.1:%d/", port), nil)
		req.Host, req.Close = "ferry.localhost", true
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return false
		}
		resp.Body.Close()
		return resp.StatusCode == 200
	}, 5*time.Second, 10*time.Millisecond)
	end()
	assert.NoError(t, <-ended)
}

// A certificate is for the name that the client asks for. The authority is recreated for a new suffix, and not
// otherwise.
func TestSigner(t *testing.T) {
	h, err := home.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	suffixes, opened := []string{}, 0
	s := &signer{
		open: func(all []string) (*certificates.Authority, error) {
			opened++
			return certificates.Open(t.Context(), h, all)
		},
		book: func() (*ledger.Ledger, error) {
			return &ledger.Ledger{Stacks: map[string]ledger.Stack{"abc": {Suffixes: suffixes}}}, nil
		},
	}
	require.NoError(t, s.renew())
	names := func(host string) []string {
		c, err := s.certificate(&tls.ClientHelloInfo{ServerName: host})
		require.NoError(t, err)
		leaf, err := x509.ParseCertificate(c.Certificate[0])
		require.NoError(t, err)
		return leaf.DNSNames
	}
	assert.Contains(t, names("Ferry.Localhost."), "ferry.localhost")
	assert.Contains(t, names(""), "localhost")
	assert.Contains(t, names("harbour"), "localhost")
	assert.Equal(t, 1, opened)
	assert.NotContains(t, names("ferry.saltmarsh"), "ferry.saltmarsh")
	assert.Equal(t, 2, opened, "the ledger was asked again")
	suffixes = []string{"saltmarsh"}
	assert.Contains(t, names("ferry.saltmarsh"), "ferry.saltmarsh")
	assert.Contains(t, names("crew.saltmarsh"), "crew.saltmarsh")
	assert.Equal(t, 3, opened)
	lost := errors.New("no ledger")
	s.book = func() (*ledger.Ledger, error) { return nil, lost }
	_, err = s.certificate(&tls.ClientHelloInfo{ServerName: "ferry.example"})
	assert.ErrorIs(t, err, lost)
	assert.Contains(t, names("ferry.saltmarsh"), "ferry.saltmarsh", "what is known goes on")
}

// A table that cannot be read is an error at first; later the table that was read last counts.
func TestUnreadableTable(t *testing.T) {
	table, h := newTable(t, Route{Host: "ferry.localhost", Network: "unix",
		Address: behind(t, func(w http.ResponseWriter, _ *http.Request) {})})
	good, err := os.ReadFile(table.file)
	require.NoError(t, err)
	break_ := func() {
		require.NoError(t, os.WriteFile(table.file, []byte("{broken"), 0o600))
		_ = os.Remove(table.file + ".last")
	}
	break_()
	got := ask(table, "http://ferry.localhost/")
	assert.Equal(t, 500, got.Code)
	assert.Contains(t, got.Body.String(), "table of names cannot be read")
	require.NoError(t, os.Remove(table.file))
	assert.Equal(t, 500, ask(table, "http://ferry.localhost/").Code)
	require.NoError(t, os.WriteFile(table.file, good, 0o600))
	assert.Equal(t, 200, ask(table, "http://ferry.localhost/").Code)
	break_()
	assert.Equal(t, 200, ask(table, "http://ferry.localhost/").Code)
	require.NoError(t, os.Remove(table.file))
	assert.Equal(t, 200, ask(table, "http://ferry.localhost/").Code)
	assert.Empty(t, TableStamp(h))
}

// The gateway's pages link to HTTP or HTTPS as they were asked for, and only this user gets them.
func TestPagesByTheirWay(t *testing.T) {
	table, _ := newTable(t, Route{Host: "ferry.localhost", Stack: "ferry"},
		Route{Host: "*.quay.localhost", Stack: "quay"}, Route{Host: "crew.localhost", Stack: "crew"})
	encrypted := func(r *http.Request) { r.TLS = &tls.ConnectionState{} }
	table.secure = 8443
	text := ask(table, "https://localhost/", encrypted).Body.String()
	assert.Contains(t, text, "https://ferry.localhost:8443/")
	assert.NotContains(t, text, "quay", "a wildcard is no name to go to")
	assert.Less(t, strings.Index(text, "crew.localhost"), strings.Index(text, "ferry.localhost"))
	table.secure, table.port = 443, 80
	assert.Contains(t, ask(table, "https://localhost/", encrypted).Body.String(), `"https://ferry.localhost/"`)
	assert.Contains(t, ask(table, "http://localhost/").Body.String(), `"http://ferry.localhost/"`)
	table.own = func(*http.Request) bool { return false }
	got := ask(table, "http://localhost/")
	assert.Equal(t, 404, got.Code)
	assert.NotContains(t, got.Body.String(), "ferry.localhost")
	assert.Contains(t, got.Body.String(), "another user's process")
}

// An inbox is for this user's processes only, and for no other machine.
func TestPrivateSite(t *testing.T) {
	socket := behind(t, func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "mail") })
	table, _ := newTable(t, Route{Host: "mail.localhost", Network: "unix", Address: socket, Private: true})
	assert.Equal(t, "mail", ask(table, "http://mail.localhost/").Body.String())
	table.own = func(*http.Request) bool { return false }
	assert.Equal(t, 403, ask(table, "http://mail.localhost/").Code)
	table.own = func(*http.Request) bool { return true }
	assert.Equal(t, 404,
		ask(table.siteFor(NetworkListener{Port: 8600, Host: "mail.localhost"}), "http://mail.localhost/").Code)
	assert.Equal(t, 404,
		ask(table.siteFor(NetworkListener{Port: 8600, Host: "gone.localhost"}), "http://gone.localhost/").Code)
}

// A body is read whole before the request occupies a worker, into memory or into a file without a name.
func TestSpool(t *testing.T) {
	everyone := &table{own: func(*http.Request) bool { return true }}
	for _, n := range []int{1, spoolMemory - 1, spoolMemory, spoolMemory + 1, 3 * spoolMemory} {
		body := bytes.Repeat([]byte("x"), n)
		r := httptest.NewRequest("POST", "/", io.MultiReader(bytes.NewReader(body))) // whose length nobody knows
		r.TransferEncoding = []string{"chunked"}
		done, err := everyone.spool(httptest.NewRecorder(), r)
		require.NoError(t, err)
		got, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		assert.Equal(t, body, got)
		assert.EqualValues(t, n, r.ContentLength)
		assert.Empty(t, r.TransferEncoding)
		done()
		_, err = r.Body.Read(make([]byte, 1))
		assert.Error(t, err)
	}
	for _, n := range []int{10, 2 * spoolMemory} {
		broken := io.MultiReader(bytes.NewReader(make([]byte, n)), iotestErr{})
		_, err := everyone.spool(httptest.NewRecorder(), httptest.NewRequest("POST", "/", broken))
		assert.ErrorContains(t, err, "low tide")
	}
}

// What other users send must not fill the disk while it waits; what the user sends has its own limit.
func TestSpooledBodiesHaveALimit(t *testing.T) {
	mine := false
	all := &table{own: func(*http.Request) bool { return mine }}
	send := func(n int) (func(), error) {
		return all.spool(httptest.NewRecorder(), httptest.NewRequest("POST", "/", bytes.NewReader(make([]byte, n))))
	}
	var ends []func()
	for range 3 {
		done, err := send(20 << 20)
		require.NoError(t, err)
		ends = append(ends, done)
	}
	_, err := send(20 << 20)
	require.ErrorIs(t, err, errTooMuchWaits)
	done, err := send(1 << 10)
	require.NoError(t, err, "a small one needs no file")
	done()
	mine = true
	done, err = send(20 << 20)
	require.NoError(t, err)
	done()
	mine = false
	ends[0]()
	done, err = send(20 << 20)
	require.NoError(t, err, "when one is gone, there is space again")
	done()
	for _, end := range ends[1:] {
		end()
	}
	assert.Zero(t, all.waits.own.Load())
	assert.Zero(t, all.waits.others.Load())
}

// HTTP/2 carries a path with a blank as it is; in HTTP/1.1, in which the gateway passes it on, it would end there.
func TestBlanksInPaths(t *testing.T) {
	for _, path := range []string{"/a b", "/a\tb", "/a\x01", "/a HTTP/1.1\r\nHost: x", "/a\x7f"} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RequestURI = path
		assert.True(t, malformed(r), "%q", path)
	}
	assert.False(t, malformed(httptest.NewRequest("GET", "/a%20b?c=%0a", nil)))
}

type iotestErr struct{}

func (iotestErr) Read([]byte) (int, error) { return 0, errors.New("low tide") }

// The most recently used idle connection is taken; old ones, and those beyond the limit, are closed.
func TestIdleLines(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var l idleConns
		open := func() (*keptConn, net.Conn) {
			ours, theirs := net.Pipe()
			return &keptConn{conn: ours}, theirs
		}
		closed := func(theirs net.Conn) bool {
			_ = theirs.SetReadDeadline(time.Now().Add(time.Millisecond))
			_, err := theirs.Read(make([]byte, 1))
			return errors.Is(err, io.EOF)
		}
		a, farA := open()
		b, farB := open()
		assert.Nil(t, l.get())
		l.put(a)
		time.Sleep(idleLife - time.Second)
		l.put(b)
		assert.Same(t, b, l.get())
		assert.Same(t, a, l.get())
		assert.Nil(t, l.get())
		l.put(a)
		time.Sleep(idleLife)
		assert.Nil(t, l.get(), "it is too old")
		assert.True(t, closed(farA))
		assert.False(t, closed(farB))
		far := []net.Conn{}
		for range maxIdle + 2 {
			x, theirs := open()
			far = append(far, theirs)
			l.put(x)
		}
		assert.True(t, closed(far[0]) && closed(far[1]) && !closed(far[2]), "the oldest go")
		l.close()
		assert.True(t, closed(far[2]) && closed(far[maxIdle+1]))
		assert.Nil(t, l.get())
	})
}

// Requests are passed on directly if they can be repeated and nothing follows their head.
func TestDirect(t *testing.T) {
	request := func(method string, edit func(r *http.Request)) bool {
		r := httptest.NewRequest(method, "/", nil)
		edit(r)
		return direct(r)
	}
	nothing := func(*http.Request) {}
	assert.True(t, request("GET", nothing))
	assert.True(t, request("HEAD", nothing))
	assert.False(t, request("POST", nothing))
	assert.False(t, request("DELETE", nothing))
	for name, edit := range map[string]func(r *http.Request){
		"length":   func(r *http.Request) { r.ContentLength = 1 },
		"unknown":  func(r *http.Request) { r.ContentLength = -1 },
		"chunked":  func(r *http.Request) { r.TransferEncoding = []string{"chunked"} },
		"upgrade":  func(r *http.Request) { r.Header.Set("Upgrade", "websocket") },
		"continue": func(r *http.Request) { r.Header.Set("Expect", "100-continue") },
	} {
		assert.False(t, request("GET", edit), name)
	}
}

// The responder's answers to each type of query.
func TestAnswers(t *testing.T) {
	told := map[string]known{"ferry.test": knownName, "crew.test": knownSuffix}
	r := &responder{known: func(host string) known { return told[host] }}
	for _, a := range loopbacks {
		r.addresses = append(r.addresses, netip.MustParseAddr(a))
	}
	query := func(edit func(m *dnsmessage.Message)) (dnsmessage.Message, bool) {
		m := dnsmessage.Message{
			Header: dnsmessage.Header{ID: 7, RecursionDesired: true},
			Questions: []dnsmessage.Question{{Name: dnsmessage.MustNewName("Ferry.test."), Type: dnsmessage.TypeA,
				Class: dnsmessage.ClassINET}},
		}
		edit(&m)
		text, err := m.Pack()
		require.NoError(t, err)
		answer := r.answer(text)
		if answer == nil {
			return dnsmessage.Message{}, false
		}
		var out dnsmessage.Message
		require.NoError(t, out.Unpack(answer))
		assert.EqualValues(t, 7, out.ID)
		assert.True(t, out.Response && out.RecursionDesired && !out.RecursionAvailable)
		return out, true
	}
	name := func(n string) func(m *dnsmessage.Message) {
		return func(m *dnsmessage.Message) { m.Questions[0].Name = dnsmessage.MustNewName(n) }
	}
	kindOf := func(q dnsmessage.Type) func(m *dnsmessage.Message) {
		return func(m *dnsmessage.Message) { m.Questions[0].Type = q }
	}
	for _, c := range []struct {
		name          string
		edit          func(m *dnsmessage.Message)
		code          dnsmessage.RCode
		answers       int
		authoritative bool
	}{
		{"A", kindOf(dnsmessage.TypeA), dnsmessage.RCodeSuccess, 1, true},
		{"AAAA", kindOf(dnsmessage.TypeAAAA), dnsmessage.RCodeSuccess, 1, true},
		{"ANY", kindOf(dnsmessage.TypeALL), dnsmessage.RCodeSuccess, 2, true},
		{"TXT", kindOf(dnsmessage.TypeTXT), dnsmessage.RCodeSuccess, 0, true},
		{"another class", func(m *dnsmessage.Message) {
			m.Questions[0].Class = dnsmessage.ClassCHAOS
		}, dnsmessage.RCodeSuccess, 0, true},
		{"nobody's", name("crew.test."), dnsmessage.RCodeNameError, 0, true},
		{"another's", name("example.org."), dnsmessage.RCodeRefused, 0, false},
		{"no question", func(m *dnsmessage.Message) { m.Questions = nil }, dnsmessage.RCodeFormatError, 0, false},
		{"two questions", func(m *dnsmessage.Message) {
			m.Questions = append(m.Questions, m.Questions[0])
		}, dnsmessage.RCodeFormatError, 0, false},
		{"an update", func(m *dnsmessage.Message) { m.OpCode = 5 }, dnsmessage.RCodeNotImplemented, 0, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			out, ok := query(c.edit)
			require.True(t, ok)
			assert.Equal(t, c.code, out.RCode)
			assert.Len(t, out.Answers, c.answers)
			assert.Equal(t, c.authoritative, out.Authoritative)
			for _, a := range out.Answers {
				assert.EqualValues(t, answerLife, a.Header.TTL)
				assert.Equal(t, "Ferry.test.", a.Header.Name.String(), "as it was asked")
			}
		})
	}
	_, ok := query(func(m *dnsmessage.Message) { m.Response = true })
	assert.False(t, ok, "an answer is not answered")
	assert.Nil(t, r.answer([]byte("tide")))
}

// Several queries come over one connection; a message that is none ends it.
func TestAnswersOverOneConnection(t *testing.T) {
	port := freePort(t)
	r, err := respond(port, loopbacks[:1], func(string) known { return knownName })
	require.NoError(t, err)
	conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	for id := range uint16(3) {
		m := dnsmessage.Message{Header: dnsmessage.Header{ID: id}, Questions: []dnsmessage.Question{
			{Name: dnsmessage.MustNewName("ferry.test."), Type: dnsmessage.TypeA, Class: dnsmessage.ClassINET},
		}}
		text, err := m.Pack()
		require.NoError(t, err)
		_, err = conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(text))), text...))
		require.NoError(t, err)
		var length [2]byte
		_, err = io.ReadFull(conn, length[:])
		require.NoError(t, err)
		answer := make([]byte, binary.BigEndian.Uint16(length[:]))
		_, err = io.ReadFull(conn, answer)
		require.NoError(t, err)
		require.NoError(t, m.Unpack(answer))
		assert.Equal(t, id, m.ID)
	}
	_, err = conn.Write([]byte("\x00\x03low"))
	require.NoError(t, err)
	_, err = conn.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF)
	idle, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	defer idle.Close()
	r.close()
	_ = idle.SetDeadline(time.Now().Add(5 * time.Second))
	_, err = idle.Read(make([]byte, 1))
	assert.Error(t, err, "open connections end with it")
	assert.NotErrorIs(t, err, os.ErrDeadlineExceeded)
	_, err = net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	assert.Error(t, err)
}

// Names of stacks that do not run are known; other names below our suffixes do not exist.
func TestWhatIsKnownOfNames(t *testing.T) {
	table, h := newTable(t, Route{Host: "ferry.test", Stack: "ferry"})
	book := func() (*ledger.Ledger, error) { return ledger.Read(h) }
	require.NoError(t, ledger.Change(t.Context(), h, func(l *ledger.Ledger) error {
		l.Stacks["abc"] = ledger.Stack{Dir: "/p", Name: "night", Hosts: map[string]string{"night": "night.test"},
			Suffixes: []string{"test"}}
		return nil
	}))
	table.book = book
	d := &openings{table: table, book: book}
	for host, want := range map[string]known{
		"ferry.test": knownName, "night.test": knownName, "crew.test": knownSuffix,
		"test": knownSuffix, "attest": knownNothing,
		"example.org": knownNothing,
	} {
		assert.Equal(t, want, d.answer(host), host)
	}
	d.book = func() (*ledger.Ledger, error) { return nil, errors.New("no ledger") }
	assert.Equal(t, knownNothing, d.answer("crew.test"))
}
