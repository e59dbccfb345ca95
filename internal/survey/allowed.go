package survey

import (
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/disk"
	"github.com/shirou/gopsutil/v4/mem"

	"dravit/internal/pattern"
	"dravit/internal/resolver"
)

// Allowed says what this user may do on this machine.
type Allowed struct {
	UserNamespaces bool     `json:"user_namespaces"` // found out by creating one
	Engines        []Engine `json:"container_engines"`
	DiskFree       uint64   `json:"disk_free_bytes"` // on the disk with the user's files
	MemoryFree     uint64   `json:"memory_free_bytes"`
	// Resolves says which host names the system's resolver resolves to this machine, without any set-up.
	Resolves map[string]bool `json:"resolves"`
}

// Engine is the socket of a container engine.
type Engine struct {
	Socket  string `json:"socket"`
	Usable  bool   `json:"usable"` // this user may open it, and it answers
	Version string `json:"version,omitempty"`
	Because string `json:"because,omitempty"`
}

// allowed finds out what is allowed, everything side by side.
func allowed(ctx context.Context, home string) Allowed {
	a := Allowed{Resolves: map[string]bool{}, Engines: []Engine{}}
	var wg sync.WaitGroup
	var mu sync.Mutex
	wg.Go(func() { a.UserNamespaces = userNamespaces(ctx) })
	wg.Go(func() { a.Engines = engines(ctx) })
	for _, suffix := range []string{"localhost", "test"} {
		wg.Go(func() {
			ok := resolver.Loopback(ctx, "dravit-survey."+suffix)
			mu.Lock()
			defer mu.Unlock()
			a.Resolves["*."+suffix] = ok
		})
	}
	if d, err := disk.UsageWithContext(ctx, orRoot(home)); err == nil {
		a.DiskFree = d.Free
	}
	if m, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		a.MemoryFree = m.Available
	}
	wg.Wait()
	return a
}

func orRoot(home string) string {
	if _, err := os.Stat(home); err != nil {
		return "/"
	}
	return home
}

// engines returns the sockets on which container engines usually listen. It asks each for its version, over the HTTP
// interface that they share.
func engines(ctx context.Context) []Engine {
	dirs := []string{"/run", "/var/run"}
	if dir := os.Getenv("XDG_RUNTIME_DIR"); filepath.IsAbs(dir) {
		dirs = append(dirs, pattern.Literal(dir))
	}
	var sockets []string
	for _, dir := range dirs {
		for _, name := range []string{"docker.sock", "podman/podman.sock", "containerd/containerd.sock"} {
			file := filepath.Join(dir, name)
			// /var/run is a link to /run on most systems. A socket in a folder that may not be read counts as one that
			// may exist.
			if resolved, err := filepath.EvalSymlinks(file); err == nil && !slices.Contains(sockets, resolved) {
				sockets = append(sockets, resolved)
			}
		}
	}
	all := []Engine{}
	for _, s := range sockets {
		all = append(all, askEngine(ctx, s))
	}
	return all
}

func askEngine(ctx context.Context, socket string) Engine {
	e := Engine{Socket: socket}
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", socket)
		}}}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://engine/version", nil)
	if err != nil {
		e.Because = err.Error()
		return e
	}
	resp, err := client.Do(req)
	if err != nil {
		text := err.Error()
		e.Because = text[strings.LastIndex(text, ": ")+1:]
		e.Because = strings.TrimSpace(e.Because)
		return e
	}
	defer resp.Body.Close()
	var v struct{ Version string }
	if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(&v); err != nil || v.Version == "" {
		e.Because = "it answers a different answer"
		return e
	}
	e.Usable, e.Version = true, v.Version
	return e
}
