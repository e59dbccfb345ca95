// Package gateway is the HTTP entrance of all stacks: a process of its own, kept by the keeper, that sends each host name to the
// web server of its stack.
package gateway

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"dravit/internal/certificates"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/stackfile"
)

// Route leads a host name to a web server.
type Route struct {
	Host    string `json:"host"`
	Stack   string `json:"stack"`
	StackID string `json:"stack_id"`
	Site    string `json:"site"`
	Network string `json:"network"` // unix or tcp
	Address string `json:"address"`
}

func routesFile(h *home.Home) string { return h.Path("routes.json") }

// WriteRoutes writes the table. The gateway notices at its next request.
func WriteRoutes(h *home.Home, routes []Route) error {
	slices.SortFunc(routes, func(a, b Route) int { return strings.Compare(a.Host, b.Host) })
	return home.WriteState(routesFile(h), routes)
}

func keyFile(h *home.Home) string { return h.Path("gateway.key") }

// Target describes a site of a stack to a check.
func Target(h *home.Home, spec materialise.Spec, site materialise.Site, kinds kind.List) (health.Target, error) {
	key, err := os.ReadFile(keyFile(h))
	t := health.Target{StackID: spec.ID, Name: site.Name, Host: site.Host, URL: site.URL, Gateway: spec.Gateway, Key: string(key), Expect: site.Expect}
	t.App, _ = spec.Part(site.App)
	if k := kinds.Of(t.App.Kind); k != nil {
		t.Probed, _ = k.(kind.Probed)
	}
	return t, err
}

// KindName is the kind of the gateway's part. It is no kind of a stack file.
const KindName = "gateway"

// Spec describes the gateway to the keeper as a stack of one part, and makes its key where it has none.
func Spec(h *home.Home, self string, port, secure int) (materialise.Spec, error) {
	id, name := KindName, KindName
	for _, dir := range []string{"state", "logs", "temp"} {
		if err := os.MkdirAll(h.Stack(id, dir), 0o700); err != nil {
			return materialise.Spec{}, err
		}
	}
	if _, err := os.Stat(keyFile(h)); errors.Is(err, os.ErrNotExist) {
		if err := home.WriteFile(keyFile(h), []byte(rand.Text()), 0o600); err != nil {
			return materialise.Spec{}, err
		}
	}
	p := kind.Part{Stack: name, StackID: id, Name: name, Kind: KindName, Role: kind.Web, Port: port, Self: self, Hash: fmt.Sprintf("%s %d %d", self, port, secure), Want: stackfile.Part{Port: secure},
		Project: h.Dir, Conf: h.Stack(id), Temp: h.Stack(id, "temp"), Log: h.Stack(id, "logs", "gateway.log"), Lock: h.Stack(id, "state", "gateway.lock"),
		Env: []string{"DRAVIT_HOME=" + h.Dir}}
	spec := materialise.Spec{Format: 1, ID: id, Name: name, Parts: []kind.Part{p}}
	return spec, home.WriteState(materialise.File(h, id), spec)
}

// Kind is how the keeper runs the gateway.
func Kind() kind.Server { return gateway{} }

type gateway struct{ kind.Defaults }

func (gateway) Name() string                    { return KindName }
func (gateway) Role() kind.Role                 { return kind.Web }
func (gateway) Needs(stackfile.Part) kind.Needs { return kind.Needs{Port: true} }

func (gateway) Command(p kind.Part) kind.Command {
	return kind.Command{Path: p.Self, Args: []string{"internal", "gateway", fmt.Sprint(p.Port), fmt.Sprint(p.Want.Port)}, Dir: "/", Env: p.Env, Stop: syscall.SIGTERM}
}

func (gateway) Ladder(p kind.Part) []kind.Rung {
	return health.HTTP(p, "tcp", fmt.Sprintf("%s:%d", kind.Host, p.Port))
}

// Serve serves on the ports, loopback only, until the context ends: HTTP on one, HTTPS with HTTP/2 on the other (0: not at all).
func Serve(ctx context.Context, h *home.Home, port, secure int) error {
	key, err := os.ReadFile(keyFile(h))
	if err != nil {
		return err
	}
	authority, err := certificates.Open(h)
	if err != nil { // sites go on over HTTP
		slog.Error("no HTTPS", "error", err)
		secure = 0
	}
	t := &table{file: routesFile(h), key: string(key), port: port, secure: secure, book: func() (*ledger.Ledger, error) { return ledger.Read(h) }}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan error, 2)
	servers := 0
	for _, tcp := range []int{port, secure} {
		if tcp == 0 {
			continue
		}
		listener, err := net.Listen("tcp", fmt.Sprintf("%s:%d", kind.Host, tcp))
		if err != nil && tcp == secure {
			slog.Error("no HTTPS", "error", err)
			continue
		}
		if err != nil {
			cancel()
			for range servers {
				<-ended
			}
			return err
		}
		server := &http.Server{Handler: t, ReadHeaderTimeout: 30 * time.Second, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelWarn)}
		if tcp == secure {
			server.TLSConfig = &tls.Config{GetCertificate: t.certificate(authority)}
			server.ErrorLog = slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug) // a browser that does not trust says so at each visit
		}
		servers++
		go func() { ended <- kind.ServeHTTP(ctx, server, listener) }()
	}
	var first error
	for range servers {
		if err := <-ended; err != nil && first == nil {
			first = err
		}
		cancel() // one does not go on without the other
	}
	return first
}

// certificate returns the certificate of the host that a visitor names. One that names none, or none below our suffixes, gets an answer for
// localhost, so that it sees which sites there are.
func (t *table) certificate(authority *certificates.Authority) func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	return func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		host := strings.ToLower(strings.TrimSuffix(hello.ServerName, "."))
		for _, suffix := range certificates.Suffixes {
			if strings.HasSuffix(host, "."+suffix) {
				return authority.Leaf(host)
			}
		}
		return authority.Leaf("localhost")
	}
}

// table is the routes, read again whenever their file has changed.
type table struct {
	file   string
	key    string
	port   int                            // for HTTP
	secure int                            // for HTTPS
	book   func() (*ledger.Ledger, error) // what stacks there are, running or not; nil: nobody says

	mu     sync.RWMutex
	seen   os.FileInfo
	routes map[string]*target
}

type target struct {
	Route
	proxy *httputil.ReverseProxy
}

func (t *table) find(host string) (*target, error) {
	info, err := os.Stat(t.file)
	if err != nil {
		return nil, err
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
	var routes []Route
	if err := home.ReadJSON(t.file, &routes); err != nil {
		return nil, err
	}
	old := t.routes
	t.routes, t.seen = map[string]*target{}, info
	for _, r := range routes {
		if was := old[r.Host]; was != nil && was.Route == r {
			t.routes[r.Host] = was
			continue
		}
		t.routes[r.Host] = &target{r, t.proxyTo(r)}
	}
	return t.of(host), nil
}

// of returns the target of a host: its own, else that of the closest wildcard. The caller holds mu.
func (t *table) of(host string) *target {
	for _, key := range kind.HostKeys(host) {
		if x := t.routes[key]; x != nil {
			return x
		}
	}
	return nil
}

// proxyTo sends requests on to a stack's web server. What a visitor claims to have been forwarded is replaced by what is true.
func (t *table) proxyTo(r Route) *httputil.ReverseProxy {
	transport := &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, r.Network, r.Address)
		},
		MaxIdleConnsPerHost: 64, IdleConnTimeout: time.Minute, DisableCompression: true,
	}
	to := &url.URL{Scheme: "http", Host: r.Host}
	return &httputil.ReverseProxy{
		Transport:     transport,
		FlushInterval: -1,
		BufferPool:    buffers{},
		Rewrite: func(p *httputil.ProxyRequest) {
			p.SetURL(to)
			host, port := hostPort(p.In.Host)
			p.Out.Host = host // as the stack writes it: names know no case, servers may
			if port != "" {
				p.Out.Host = net.JoinHostPort(host, port)
			}
			p.Out.Header.Del("Forwarded")
			p.SetXForwarded()
			p.Out.Header.Set("X-Forwarded-Port", fmt.Sprint(t.portOf(p.In)))
		},
		ModifyResponse: func(resp *http.Response) error {
			// A server behind us that knows nothing of HTTPS redirects to HTTP on the HTTPS port, where nobody speaks it.
			own := "http://" + resp.Request.Host + "/"
			if rest, ok := strings.CutPrefix(resp.Header.Get("Location"), own); ok && resp.Request.Header.Get("X-Forwarded-Proto") == "https" {
				resp.Header.Set("Location", "https://"+resp.Request.Host+"/"+rest)
			}
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, req *http.Request, err error) {
			if req.Context().Err() != nil {
				return // the visitor left
			}
			host, _ := hostPort(req.Host)
			slog.Warn("a stack does not answer", "host", host, "error", err)
			t.page(w, http.StatusBadGateway, pageData{Title: host + " does not answer", Text: "The web server of the stack " + r.Stack + " did not take the request.",
				Command: "dravit status --stack " + r.Stack})
		},
	}
}

// buffers are shared by all proxies: a page is copied through 32 KB, not through a new allocation each time.
type buffers struct{}

var pool = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

func (buffers) Get() []byte  { return *pool.Get().(*[]byte) }
func (buffers) Put(b []byte) { pool.Put(&b) }

// portOf is the port on which a request came in.
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
	case to == nil:
		t.unknown(w, r, host)
	case r.URL.Path == health.RoutePath:
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(health.Routed{StackID: to.StackID, Site: to.Site, Seal: health.Seal(t.key, r.Header.Get(health.AskHeader), to.StackID, to.Site)})
	default:
		// A server may answer before it has taken the whole body: without this, ours would then close the body under the proxy,
		// which would give the request up and cut the answer off.
		_ = http.NewResponseController(w).EnableFullDuplex() // HTTP/2 is so by itself
		to.proxy.ServeHTTP(w, r)
	}
}

// hostPort takes a Host header apart. Names know no case and may end with a dot.
func hostPort(header string) (host, port string) {
	host, port, err := net.SplitHostPort(header)
	if err != nil {
		host, port = header, ""
	}
	return strings.ToLower(strings.TrimSuffix(host, ".")), port
}

// stopped returns the name of the stack that a host belongs to though nothing serves it, "" where there is none.
func (t *table) stopped(host string) string {
	if t.book == nil {
		return ""
	}
	book, err := t.book()
	if err != nil {
		slog.Error("the ledger cannot be read", "error", err)
		return ""
	}
	for _, key := range kind.HostKeys(host) {
		for _, s := range book.Stacks {
			for _, known := range s.Hosts {
				if known == key {
					return s.Name
				}
			}
		}
	}
	return ""
}

// unknown says which names there are, but only under a name that no foreign page can take (DNS rebinding).
func (t *table) unknown(w http.ResponseWriter, req *http.Request, host string) {
	if name := t.stopped(host); name != "" {
		t.page(w, http.StatusServiceUnavailable, pageData{Title: host + " is not served now", Text: "It belongs to the stack " + name + ", which does not run:", Command: "dravit start --stack " + name})
		return
	}
	data := pageData{Title: "No site is named " + host, Text: "Start its stack in the project's folder:", Command: "dravit start"}
	if host == "localhost" || host == kind.Host || strings.HasSuffix(host, ".localhost") {
		t.mu.RLock()
		for _, r := range t.routes {
			if strings.HasPrefix(r.Host, "*") {
				continue // no name to go to
			}
			address, usual := url.URL{Scheme: "http", Host: r.Host, Path: "/"}, 80
			if req.TLS != nil {
				address.Scheme, usual = "https", 443
			}
			if port := t.portOf(req); port != usual {
				address.Host = fmt.Sprintf("%s:%d", r.Host, port)
			}
			data.Sites = append(data.Sites, pageSite{address.String(), r.Host, r.Stack})
		}
		t.mu.RUnlock()
		slices.SortFunc(data.Sites, func(a, b pageSite) int { return strings.Compare(a.Host, b.Host) })
	}
	t.page(w, http.StatusNotFound, data)
}

type pageData struct {
	Title, Text, Command string
	Sites                []pageSite
}

type pageSite struct{ URL, Host, Stack string }

//go:embed page.html
var pageText string

var page = sync.OnceValue(func() *template.Template { return template.Must(template.New("page").Parse(pageText)) })

func (t *table) page(w http.ResponseWriter, status int, data pageData) {
	var b bytes.Buffer
	if err := page().Execute(&b, data); err != nil {
		slog.Error("page", "error", err)
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	w.WriteHeader(status)
	_, _ = w.Write(b.Bytes()) // the visitor may have left
}
