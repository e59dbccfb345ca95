package gateway

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/proc"
	"dravit/internal/requests"
	"dravit/internal/webrules"
)

// table holds the routes. It reads them again whenever their file has changed.
type table struct {
	file   string
	key    string
	port   int                            // for HTTP
	secure int                            // for HTTPS
	book   func() (*ledger.Ledger, error) // lists the stacks, running or not; nil: unknown
	// only in tests: whether a request comes from a process of this user; nil: ask the system
	own func(*http.Request) bool

	waits   waiting       // of bodies
	log     *requests.Log // nil: nothing is noted
	lengths *lengths
	// failed counts failed requests: *atomic.Int64 by a stack's id and a site.
	failed sync.Map
	busy   sync.Map // *atomic.Int64 by a stack's id: requests under way

	mu     sync.RWMutex
	seen   os.FileInfo
	routes map[string]*target
}

func readTable(file string) (Table, error) {
	var t Table
	return t, home.ReadJSON(file, &t)
}

type target struct {
	Route
	busy *atomic.Int64 // requests under way for the stack
	// failed counts the requests for the site that failed.
	failed *atomic.Int64
	folders
	lines    idleConns
	followed atomic.Bool // its logs are among those of the table's lengths
	proxy    *httputil.ReverseProxy
}

func (t *table) find(host string) (*target, error) {
	info, err := os.Stat(t.file)
	if err != nil {
		return t.known(host, err)
	}
	t.mu.RLock()
	same := t.seen != nil && os.SameFile(t.seen, info) && t.seen.ModTime().Equal(info.ModTime())
	x := t.of(host)
	t.mu.RUnlock()
	if same {
		return x, nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	now, err := readTable(t.file)
	if err != nil {
		if t.routes != nil { // the keeper will write it again
			return t.of(host), nil
		}
		return nil, err
	}
	old := t.routes
	t.routes, t.seen = map[string]*target{}, info
	for _, r := range now.Routes {
		if was := old[r.Host]; was != nil && reflect.DeepEqual(was.Route, r) {
			t.routes[r.Host] = was
			continue
		}
		busy, _ := t.busy.LoadOrStore(r.StackID, new(atomic.Int64))
		failed, _ := t.failed.LoadOrStore(r.StackID+"/"+r.Site, new(atomic.Int64))
		x := &target{Route: r, busy: busy.(*atomic.Int64), failed: failed.(*atomic.Int64)}
		x.proxy = t.proxyTo(x)
		t.routes[r.Host] = x
	}
	for host, was := range old {
		if t.routes[host] != was {
			was.lines.close()
		}
	}
	return t.of(host), nil
}

// known returns the target of a host by the routes that were read last, while their file cannot be read. If there are
// none, it returns the error.
func (t *table) known(host string, err error) (*target, error) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	if t.routes == nil {
		return nil, err
	}
	return t.of(host), nil
}

// of returns the target of a host: its own, else that of the longest wildcard that matches. The caller holds mu.
func (t *table) of(host string) *target {
	for _, key := range webrules.HostKeys(host) {
		if x := t.routes[key]; x != nil {
			return x
		}
	}
	return nil
}

// listenerKey is the context key of the network listener that a request came in by.
type listenerKey struct{}

// siteFor serves one site to other machines, under whatever name they use. It does not serve the gateway's own pages.
func (t *table) siteFor(d NetworkListener) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		to, err := t.find(d.Host)
		if err != nil || to == nil || to.Private || malformed(r) || strings.HasPrefix(r.URL.Path, "/.dravit/") {
			http.NotFound(w, r)
			return
		}
		r = r.WithContext(context.WithValue(r.Context(), listenerKey{}, d))
		t.follow(w, r, to, (*table).forward)
	})
}

// restartPatience is how long a request waits for a web server or runtime that is starting while its stack is
// restarted.
const restartPatience = 3 * time.Second

// heldPatience is how long a request waits while the keeper says that what it needs is restarting: a copy of large data
// may take that long.
const heldPatience = 30 * time.Second

// dial connects to a stack's web server.
func dial(ctx context.Context, r Route) (net.Conn, error) {
	for end := time.Now().Add(restartPatience); ; {
		conn, err := (&net.Dialer{}).DialContext(ctx, r.Network, r.Address)
		if err == nil || !gone(err) || r.Halted || time.Now().After(end) ||
			proc.Sleep(ctx, 10*time.Millisecond) != nil {
			return conn, err
		}
	}
}

// own are the header fields that only the gateway sets, whatever a client claims.
var own = map[string]bool{
	"Forwarded":         true,
	"X-Forwarded-For":   true,
	"X-Forwarded-Host":  true,
	"X-Forwarded-Proto": true,
	"X-Forwarded-Port":  true,
	kind.VisitedHeader:  true,
	health.CheckHeader:  true,
}

// ambiguous reports whether a header field's name becomes that of another field once a server turns it into a CGI
// variable (RFC 3875, section 4.1.18): X_Forwarded_For and X-Forwarded-For both become HTTP_X_FORWARDED_FOR.
func ambiguous(name string) bool { return strings.Contains(name, "_") }

// told is what the gateway tells a web server about a request: the host name, and who asked for what. "" omits a field.
func (t *table) told(r *http.Request) (host string, fields [6][2]string) {
	port, proto, visited := t.portOf(r), "http", ""
	if r.TLS != nil {
		proto = "https"
	}
	if d, ok := r.Context().Value(listenerKey{}).(NetworkListener); ok {
		host, visited, port = d.Host, r.Host, d.Port
	} else {
		name, given := hostPort(r.Host)
		host = name // as the stack file writes it: names have no case, but servers may
		if given != "" {
			host = net.JoinHostPort(name, given)
		}
	}
	visitor, _, _ := net.SplitHostPort(r.RemoteAddr)
	return host, [...][2]string{
		{"Forwarded", ""},
		{"X-Forwarded-For", visitor},
		{"X-Forwarded-Host", r.Host},
		{"X-Forwarded-Proto", proto},
		{"X-Forwarded-Port", strconv.Itoa(port)},
		{kind.VisitedHeader, visited},
	}
}

// correct adapts an answer's header: a web server behind the gateway knows neither that the client used HTTPS nor the
// name by which a client from another machine came.
func (t *table) correct(h http.Header, r *http.Request) {
	location := h.Get("Location")
	if location == "" {
		return
	}
	host, _ := t.told(r)
	rest, ok := strings.CutPrefix(location, "http://"+host+"/")
	_, network := r.Context().Value(listenerKey{}).(NetworkListener)
	switch {
	case !ok:
	case network:
		h.Set("Location", "http://"+r.Host+"/"+rest)
	case r.TLS != nil: // no client speaks HTTP on the HTTPS port
		h.Set("Location", "https://"+host+"/"+rest)
	}
}

// proxyTo sends requests to a stack's web server. It replaces what a client claims about forwarding by what is true.
func (t *table) proxyTo(x *target) *httputil.ReverseProxy {
	r := x.Route
	transport := &http.Transport{
		DialContext: webrules.Early(func(ctx context.Context, _, _ string) (net.Conn, error) {
			return dial(ctx, r)
		}),
		MaxIdleConnsPerHost: maxIdle, IdleConnTimeout: idleLife, DisableCompression: true,
		ResponseHeaderTimeout: silence,
	}
	to := &url.URL{Scheme: "http", Host: r.Host}
	return &httputil.ReverseProxy{
		Transport:     transport,
		FlushInterval: -1,
		BufferPool:    buffers{},
		Rewrite: func(p *httputil.ProxyRequest) {
			p.SetURL(to)
			host, fields := t.told(p.In)
			p.Out.Host = host
			maps.DeleteFunc(p.Out.Header, func(name string, _ []string) bool { return ambiguous(name) })
			for _, f := range fields {
				p.Out.Header.Del(f[0])
				if f[1] != "" {
					p.Out.Header.Set(f[0], f[1])
				}
			}
		},
		ModifyResponse: func(resp *http.Response) error {
			x.note(resp.StatusCode)
			t.correct(resp.Header, resp.Request.Context().Value(originalKey{}).(*http.Request))
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, req *http.Request, err error) {
			if req.Context().Err() != nil {
				return // the client left
			}
			x.note(http.StatusBadGateway)
			host, _ := hostPort(req.Host)
			slog.Warn("a stack does not answer", "host", host, "error", err)
			if errors.Is(err, os.ErrDeadlineExceeded) || os.IsTimeout(err) {
				t.page(w, req, http.StatusGatewayTimeout, pageData{Title: host + " gives no answer",
					Text: "The stack " + r.Stack + " accepted the request, and gave no answer in " +
						silence.String() + ".",
					Command: "dravit diagnose --stack " + r.Stack})
				return
			}
			if r.Halted {
				t.page(w, req, http.StatusBadGateway, pageData{Title: host + " is stopped",
					Text:    "The web server of the stack " + r.Stack + " was stopped, or has failed:",
					Command: "dravit start --stack " + r.Stack})
				return
			}
			t.page(w, req, http.StatusBadGateway, pageData{Title: host + " does not answer",
				Text:    "The web server of the stack " + r.Stack + " did not accept the request.",
				Command: "dravit status --stack " + r.Stack})
		},
	}
}

// note counts an answer that is a failure of the server.
func (to *target) note(status int) {
	if status >= http.StatusInternalServerError {
		to.failed.Add(1)
	}
}

// buffers are shared by all proxies: a page is copied through 32 KB that is reused.
type buffers struct{}

var pool = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

func (buffers) Get() []byte  { return *pool.Get().(*[]byte) }
func (buffers) Put(b []byte) { pool.Put(&b) }

// portOf returns the port on which a request came in.
func (t *table) portOf(r *http.Request) int {
	if r.TLS != nil {
		return t.secure
	}
	return t.port
}

func (t *table) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host, _ := hostPort(r.Host)
	to, err := t.find(host)
	switch {
	case err != nil:
		slog.Error("the table of names cannot be read", "error", err)
		http.Error(w, "500: the gateway's table of names cannot be read", http.StatusInternalServerError)
	case malformed(r):
		http.Error(w, "400: the request's address has a blank or a control character", http.StatusBadRequest)
	case to == nil:
		t.unknown(w, r, host)
	case r.URL.Path == health.RoutePath:
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(health.Routed{
			StackID: to.StackID,
			Site:    to.Site,
			Seal:    health.Seal(t.key, r.Header.Get(health.AskHeader), to.StackID, to.Site),
			Busy:    to.busy.Load(),
			Failed:  to.failed.Load(),
		})
	case to.Private && !t.private(r):
		refuse(w, http.StatusForbidden)
	default:
		t.follow(w, r, to, (*table).forward)
	}
}

// malformed reports whether the target of a request has what no target may have (RFC 9112, section 3.2), and what would
// end it early in HTTP/1.1, in which the gateway passes it on. HTTP/2 carries it as a text of its own.
func malformed(r *http.Request) bool {
	return strings.ContainsFunc(r.RequestURI, func(c rune) bool { return c <= ' ' || c == 0x7f })
}

// escapes answers a request for a file that a link points to, out of the project. It reports whether it did.
func (t *table) escapes(w http.ResponseWriter, r *http.Request, to *target) bool {
	if !to.leadsOut(r.URL.Path) {
		return false
	}
	t.page(w, r, http.StatusNotFound, pageData{Title: "This link leads out of the project",
		Text: "The file is not in the project's folder. Move it there, or allow its folder on this machine, with " +
			"\"outside\" in Dravit's settings.toml.", Command: "dravit start --stack " + to.Stack})
	return true
}

// released returns the target when its requests may pass: while its runtime restarts, the keeper holds them back.
func (t *table) released(ctx context.Context, to *target) *target {
	for end := time.Now().Add(heldPatience); to.Held && time.Now().Before(end) &&
		proc.Sleep(ctx, 10*time.Millisecond) == nil; {
		now, err := t.find(to.Host)
		if err != nil || now == nil {
			break
		}
		to = now
	}
	return to
}

// forward sends a request on to the target.
func (t *table) forward(w http.ResponseWriter, r *http.Request, to *target) {
	if t.escapes(w, r, to) {
		return
	}
	to = t.released(r.Context(), to)
	if !lasting(r) {
		to.busy.Add(1)
		defer to.busy.Add(-1)
	}
	if to.Buffered && r.ContentLength != 0 && r.Header["Upgrade"] == nil {
		done, err := t.spool(w, r)
		if errors.Is(err, errTooMuchWaits) {
			http.Error(w, "503: too many bytes of requests wait already; try again later",
				http.StatusServiceUnavailable)
			return
		}
		if err != nil {
			http.Error(w, "400: the request's body broke off, or is longer than 2 GB", http.StatusBadRequest)
			return
		}
		defer done()
	}
	if direct(r) {
		to.pass(w, r, t)
		return
	}
	// A server may answer before it has read the whole body. Without this, our server would then close the body, and
	// the proxy would give up and cut the answer off.
	_ = http.NewResponseController(w).EnableFullDuplex() // HTTP/2 always allows it
	to.proxy.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), originalKey{}, r)))
}

// lasting reports whether a request is one whose answer may never end.
func lasting(r *http.Request) bool {
	return r.Header["Upgrade"] != nil || strings.Contains(r.Header.Get("Accept"), "text/event-stream")
}

// originalKey is the context key of the incoming request: ModifyResponse sees only the outgoing one.
type originalKey struct{}

// hostPort splits a Host header. It makes the name lower-case and removes a dot at its end.
func hostPort(header string) (host, port string) {
	host, port, err := net.SplitHostPort(header)
	if err != nil {
		host, port = header, ""
	}
	return strings.ToLower(strings.TrimSuffix(host, ".")), port
}
