// Package dravitweb is the kind for the web server that is built into Dravit: static files, PHP over FastCGI, and a
// reverse proxy to parts with a server of their own. It answers as the nginx configuration of package nginx does.
package dravitweb

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
	"dravit/internal/webrules"
)

// Name is the kind's name in a stack file.
const Name = "dravit-web"

// New returns the kind.
func New() kind.Kind { return web{} }

type web struct{ kind.Defaults }

var _ kind.Kind = web{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:     Name,
		Role:     kind.RoleWeb,
		Serve:    serve,
		Symptoms: kind.OwnSymptoms(),
		Reload:   syscall.SIGHUP,
	}
})

func (web) Traits() *kind.Traits { return traits() }

func (web) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Socket: true} }

// config is what the server reads.
type config struct {
	Socket string             `json:"socket"`
	Sites  []kind.VirtualHost `json:"sites"`
}

func (web) Files(p kind.Part) ([]kind.File, error) {
	return kind.ConfigFile("web.json", config{p.Socket, p.Sites})
}

func (web) Command(p kind.Part) kind.Command {
	c := kind.OwnCommand(p, "web.json")
	c.Dir = p.Project
	return c
}

func (web) Ladder(p kind.Part) []kind.Rung {
	return health.HTTP(p, "unix", p.Socket)
}

// serve serves the sites until the context ends, then lets requests in flight finish for a moment. At SIGHUP it reads
// its configuration again.
func serve(ctx context.Context, file string, _ kind.List) error {
	var c config
	if err := kind.ReadConfig(file, &c); err != nil {
		return err
	}
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP) // before another process can know that this one runs
	defer signal.Stop(again)
	listener, err := net.Listen("unix", c.Socket)
	if err != nil {
		return err
	}
	if err := os.Chmod(c.Socket, 0o600); err != nil {
		return err
	}
	var sites atomic.Pointer[http.Handler]
	take := func(all []kind.VirtualHost) {
		h := handler(all)
		sites.Store(&h)
	}
	take(c.Sites)
	server := &http.Server{
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			(*sites.Load()).ServeHTTP(w, r)
		}), ReadHeaderTimeout: time.Minute,
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- webrules.ServeHTTP(ctx, server, listener) }()
	for {
		select {
		case err := <-ended:
			return err
		case <-again:
			var now config
			if err := kind.ReadConfig(file, &now); err != nil {
				slog.Error("the new configuration cannot be read", "error", err)
				continue
			}
			take(now.Sites)
		}
	}
}

func handler(sites []kind.VirtualHost) http.Handler {
	byHost := map[string]http.Handler{}
	for _, s := range sites {
		h := newSite(s)
		for _, host := range append([]string{s.Host}, s.Aliases...) {
			byHost[host] = h
		}
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var h http.Handler
		for _, key := range webrules.HostKeys(visited(r)) {
			if h = byHost[key]; h != nil {
				break
			}
		}
		if h == nil {
			http.NotFound(w, r)
			return
		}
		if climbs(r.URL.Path) {
			http.Error(w, "400: the address leads above the root", http.StatusBadRequest)
			return
		}
		if host := r.Header.Get(kind.VisitedHeader); host != "" {
			r.Host = host
			r.Header.Del(kind.VisitedHeader)
		}
		// An app may answer before it has read the whole body. Our server must not close the body while the proxy still
		// sends it.
		_ = http.NewResponseController(w).EnableFullDuplex()
		h.ServeHTTP(w, r)
	})
}

// climbs reports whether a path leads above its root on the way.
func climbs(path string) bool {
	depth := 0
	for step := range strings.SplitSeq(path, "/") {
		switch step {
		case "", ".":
		case "..":
			if depth--; depth < 0 {
				return true
			}
		default:
			depth++
		}
	}
	return false
}
