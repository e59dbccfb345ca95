// Package dravitweb is the web server built into Dravit: static files, PHP over FastCGI, and a reverse proxy to parts with
// a server of their own. It answers as the nginx configuration of package nginx does.
package dravitweb

import (
	"context"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// Name is the kind's name in a stack file.
const Name = "dravit-web"

// New returns the kind.
func New() kind.Server { return web{} }

type web struct{ kind.Defaults }

func (web) Name() string                    { return Name }
func (web) Role() kind.Role                 { return kind.Web }
func (web) Needs(stackfile.Part) kind.Needs { return kind.Needs{Socket: true} }

// config is what the server reads.
type config struct {
	Socket string      `json:"socket"`
	Sites  []kind.Site `json:"sites"`
}

func (web) Files(p kind.Part) ([]kind.File, error) {
	return kind.ConfigFile("web.json", config{p.Socket, p.Sites})
}

func (web) Command(p kind.Part) kind.Command {
	return kind.Command{Path: p.Self, Args: []string{"internal", "serve", Name, filepath.Join(p.Conf, "web.json")}, Dir: p.Project, Env: p.Env, Stop: syscall.SIGTERM}
}

func (web) Ladder(p kind.Part) []kind.Rung {
	return health.HTTP(p, "unix", p.Socket)
}

// Serve serves the sites until the context ends, then lets requests in flight finish for a moment.
func (web) Serve(ctx context.Context, file string) error {
	var c config
	if err := kind.ReadConfig(file, &c); err != nil {
		return err
	}
	listener, err := net.Listen("unix", c.Socket)
	if err != nil {
		return err
	}
	if err := os.Chmod(c.Socket, 0o600); err != nil {
		return err
	}
	return kind.ServeHTTP(ctx, &http.Server{Handler: handler(c.Sites), ReadHeaderTimeout: time.Minute}, listener)
}

func handler(sites []kind.Site) http.Handler {
	byHost := map[string]http.Handler{}
	for _, s := range sites {
		h := newSite(s)
		for _, host := range append([]string{s.Host}, s.Aliases...) {
			byHost[host] = h
		}
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var h http.Handler
		for _, key := range kind.HostKeys(visited(r)) {
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
		// An app may answer before it has taken the whole body: ours is not to be closed under whoever passes it on.
		_ = http.NewResponseController(w).EnableFullDuplex()
		h.ServeHTTP(w, r)
	})
}

// climbs tells whether a path leads above its root on the way.
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
