// Package survey looks at this machine: which programs it has, in which versions, and which ports are held by whom.
package survey

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/proc"
	"dravit/internal/version"
)

// Survey is what this machine offers.
type Survey struct {
	Format   int            `json:"format"`
	Host     Host           `json:"host"`
	Programs []kind.Program `json:"programs"`
	Ports    []Port         `json:"ports"`
}

// Host is the machine and its user.
type Host struct {
	OS   string `json:"os"`
	Arch string `json:"arch"`
	User string `json:"user"`
	// EphemeralLow and EphemeralHigh are the range that the system gives to outgoing connections.
	EphemeralLow  int `json:"ephemeral_low"`
	EphemeralHigh int `json:"ephemeral_high"`
}

// Port is a TCP port that somebody listens on.
type Port struct {
	Protocol string `json:"protocol"`
	Address  string `json:"address"`
	Port     int    `json:"port"`
	PID      int    `json:"pid,omitempty"`
	Program  string `json:"program,omitempty"`
	User     string `json:"user,omitempty"`
	Stack    string `json:"stack,omitempty"` // the id of the stack whose live part holds it
}

// folders are searched after PATH: servers live where an ordinary user's PATH does not look.
var folders = []string{"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin", "/opt/homebrew/sbin", "/opt/homebrew/bin"}

// entry is what is remembered of one program: as long as the file is the same, so is the answer.
type entry struct {
	Size    int64         `json:"size"`
	ModTime time.Time     `json:"mod_time"`
	Program *kind.Program `json:"program"` // nil: the file is no such program
}

// memory is what is remembered between two surveys.
type memory struct {
	Programs map[string]entry   `json:"programs"` // by kind and path
	Folders  map[string]listing `json:"folders"`  // by path
}

// listing is what a folder held of interest: as long as the folder is not written to, it does still.
type listing struct {
	ModTime time.Time           `json:"mod_time"`
	Found   map[string][]string `json:"found"` // names, by the patterns that they matched
}

// Look surveys the machine for the given kinds. What programs say of themselves is remembered in the cache file by
// path, size and time. Programs are asked side by side, each with a deadline.
func Look(ctx context.Context, kinds []kind.Server, cache string) (Survey, error) {
	low, high := proc.EphemeralPorts()
	s := Survey{Format: 1, Host: Host{OS: runtime.GOOS, Arch: runtime.GOARCH, User: userName(), EphemeralLow: low, EphemeralHigh: high}}
	var known memory
	if err := home.ReadJSON(cache, &known); err != nil {
		known = memory{} // a broken cache is no cache
	}
	fresh := map[string]entry{}
	folders := &finder{known: known.Folders, fresh: map[string]listing{}}
	var mu sync.Mutex
	var wg sync.WaitGroup
	changed := false
	limit := make(chan struct{}, 8)
	for _, k := range kinds {
		prober, ok := k.(kind.Prober)
		if !ok {
			continue
		}
		for _, file := range folders.find(k.Programs()) {
			info, err := os.Stat(file)
			if err != nil {
				continue
			}
			key := k.Name() + " " + file
			if e, ok := known.Programs[key]; ok && e.Size == info.Size() && e.ModTime.Equal(info.ModTime()) {
				mu.Lock()
				fresh[key] = e
				mu.Unlock()
				continue
			}
			changed = true
			wg.Go(func() {
				limit <- struct{}{}
				defer func() { <-limit }()
				e := entry{Size: info.Size(), ModTime: info.ModTime()}
				v, facts, err := prober.Probe(ctx, file, func(path string, args ...string) (string, error) { return run(ctx, path, args...) })
				if err == nil {
					e.Program = &kind.Program{Kind: k.Name(), Version: v, Path: file, Origin: origin(file), Facts: facts}
				}
				mu.Lock()
				defer mu.Unlock()
				fresh[key] = e
			})
		}
	}
	wg.Wait()
	if err := ctx.Err(); err != nil {
		return s, err
	}
	if changed || folders.changed || len(fresh) != len(known.Programs) {
		if err := home.WriteState(cache, memory{fresh, folders.fresh}); err != nil {
			return s, err
		}
	}
	for _, key := range slices.Sorted(maps.Keys(fresh)) {
		if p := fresh[key].Program; p != nil {
			s.Programs = append(s.Programs, *p)
		}
	}
	slices.SortStableFunc(s.Programs, func(a, b kind.Program) int {
		if a.Kind != b.Kind {
			return strings.Compare(a.Kind, b.Kind)
		}
		return -version.Compare(a.Version, b.Version)
	})
	return s, nil
}

// Ports returns the TCP ports that are held. ours names the stack whose live part holds a port, or "". Who holds a port
// is looked up for the ports in named only: it takes a look into every process.
func Ports(ours map[int]string, named map[int]bool) ([]Port, error) {
	listeners, err := proc.Listeners()
	if err != nil {
		return nil, err
	}
	var all []Port
	for _, l := range listeners {
		p := Port{Protocol: "tcp", Address: l.Address, Port: l.Port, Stack: ours[l.Port]}
		if p.Stack == "" && named[l.Port] {
			h := proc.HolderOf(l)
			p.PID, p.Program, p.User = h.PID, h.Program, h.User
		}
		all = append(all, p)
	}
	slices.SortFunc(all, func(a, b Port) int { return a.Port - b.Port })
	return all, nil
}

// finder finds programs by name, and reads a folder again only when it was written to.
type finder struct {
	known, fresh map[string]listing
	changed      bool
}

// find returns the programs whose names match, each real file once, in the order of PATH.
func (f *finder) find(patterns []string) []string {
	var found []string
	seen := map[string]bool{}
	for _, dir := range searchPath() {
		for _, name := range f.names(dir, patterns) {
			file := filepath.Join(dir, name)
			real, err := filepath.EvalSymlinks(file)
			if err != nil || seen[real] {
				continue
			}
			if info, err := os.Stat(real); err != nil || !info.Mode().IsRegular() || info.Mode().Perm()&0o111 == 0 {
				continue
			}
			seen[real] = true
			found = append(found, file)
		}
	}
	return found
}

// names returns the names in a folder that match one of the patterns.
func (f *finder) names(dir string, patterns []string) []string {
	info, err := os.Stat(dir)
	if err != nil {
		return nil
	}
	now, ok := f.fresh[dir]
	if !ok {
		now = listing{info.ModTime(), map[string][]string{}}
		f.fresh[dir] = now
	}
	key := strings.Join(patterns, " ")
	if was, ok := f.known[dir]; ok && was.ModTime.Equal(info.ModTime()) {
		if names, ok := was.Found[key]; ok {
			now.Found[key] = names
			return names
		}
	}
	f.changed = true
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil
	}
	names := []string{}
	for _, e := range entries {
		if slices.ContainsFunc(patterns, func(p string) bool { ok, _ := path.Match(p, e.Name()); return ok }) {
			names = append(names, e.Name())
		}
	}
	now.Found[key] = names
	return names
}

// searchPath is PATH and the folders after it, each once.
func searchPath() []string {
	var dirs []string
	for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), folders...) {
		if filepath.IsAbs(dir) && !slices.Contains(dirs, filepath.Clean(dir)) {
			dirs = append(dirs, filepath.Clean(dir))
		}
	}
	return dirs
}

func origin(file string) string {
	dir := filepath.Dir(file)
	if slices.Contains([]string{"/usr/sbin", "/usr/bin", "/sbin", "/bin"}, dir) {
		return "system"
	}
	if base, err := os.UserHomeDir(); err == nil && strings.HasPrefix(file, base+"/") {
		return "user"
	}
	return "path"
}

func userName() string {
	for _, name := range []string{"USER", "LOGNAME"} {
		if u := os.Getenv(name); u != "" {
			return u
		}
	}
	return fmt.Sprintf("uid %d", os.Geteuid())
}

const (
	probeTime  = 5 * time.Second
	probeBytes = 1 << 20
)

// run runs a program and returns what it prints, both outputs together. It cannot hang and cannot ask.
func run(ctx context.Context, file string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, file, args...)
	cmd.Stdout = &limited{&out, probeBytes}
	cmd.Stderr = cmd.Stdout
	cmd.Env = []string{"PATH=" + strings.Join(searchPath(), ":"), "LC_ALL=C"}
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // no terminal, and a group of its own to end
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = 100 * time.Millisecond // a child that keeps the pipe open is not waited for
	err := cmd.Run()
	return out.String(), err
}

// limited takes everything and keeps the first n bytes.
type limited struct {
	w io.Writer
	n int
}

func (l *limited) Write(p []byte) (int, error) {
	keep := min(len(p), l.n)
	l.n -= keep
	if _, err := l.w.Write(p[:keep]); err != nil {
		return 0, err
	}
	return len(p), nil
}
