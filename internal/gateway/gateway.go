// Package gateway is the reverse proxy in front of all stacks: one process, supervised by the keeper. It sends each
// host name to the web server of its stack.
package gateway

import (
	"crypto/rand"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/materialise"
	"dravit/internal/run"
	"dravit/internal/stackfile"
)

// Route says which web server serves a host name.
type Route struct {
	Host    string `json:"host"`
	Stack   string `json:"stack"`
	StackID string `json:"stack_id"`
	Site    string `json:"site"`
	Server  string `json:"server"`        // the part that answers
	App     string `json:"app,omitempty"` // the part behind it
	// Behind are the parts whose logs may say why a page failed: Server, App, what that uses, and the project's other
	// servers, to which that of a front end may pass requests.
	Behind  []string `json:"behind,omitempty"`
	Network string   `json:"network"` // unix or tcp
	Address string   `json:"address"`
	Halted  bool     `json:"halted,omitempty"` // the web server was stopped or has failed: requests do not wait for it
	Held    bool     `json:"held,omitempty"`   // the runtime or application restarts: requests wait until it is back
	// Private: only this user's processes get an answer, as for an inbox.
	Private bool `json:"private,omitempty"`
	// AppNetwork and AppAddress are where the runtime or application accepts the web server's requests. "": the site
	// has files only, or no request should wait for it, as it was stopped or has failed.
	AppNetwork string `json:"app_network,omitempty"`
	AppAddress string `json:"app_address,omitempty"`
	// Buffered: the gateway reads a request's whole body before it passes the request on, since the runtime has few
	// workers.
	Buffered bool `json:"buffered,omitempty"`
	// Root is the document root of a site whose web server serves files, or "". Within are the folders in which they
	// are, also through links: the project, and those that the user of this machine allowed. All are real paths.
	Root   string   `json:"root,omitempty"`
	Within []string `json:"within,omitempty"`
}

// NetworkListener is a port on which other machines reach a site.
type NetworkListener struct {
	Port int    `json:"port"`
	Host string `json:"host"` // the site's host name
}

// Table is what the gateway serves.
type Table struct {
	Routes  []Route           `json:"routes"`
	Network []NetworkListener `json:"doors,omitempty"`
	DNSPort int               `json:"resolver,omitempty"` // the port on which it answers DNS; 0: not at all
}

func tableFile(h *home.Home) string { return h.Path("routes.json") }

// TableStamp returns a text that changes whenever the table's file does, and "" if there is no file.
func TableStamp(h *home.Home) string {
	info, err := os.Stat(tableFile(h))
	if err != nil {
		return ""
	}
	return fmt.Sprint(info.Size(), info.ModTime().UnixNano())
}

// WriteTable writes the table. The gateway notices new routes at its next request; it opens and closes network
// listeners and its DNS port when it is told to reload.
func WriteTable(h *home.Home, t Table) error {
	slices.SortFunc(t.Routes, func(a, b Route) int { return strings.Compare(a.Host, b.Host) })
	return home.WriteCache(tableFile(h), t)
}

func keyFile(h *home.Home) string { return h.Path("gateway.key") }

// Target describes a site of a stack to a check.
func Target(h *home.Home, spec materialise.Spec, site materialise.Site, kinds kind.List) (health.Target, error) {
	key, err := os.ReadFile(keyFile(h))
	if errors.Is(err, fs.ErrNotExist) { // the gateway never ran: no answer is its own
		key, err = []byte(rand.Text()), nil
	}
	t := health.Target{
		StackID:  spec.ID,
		Name:     site.Name,
		Host:     site.Host,
		URL:      site.URL,
		HTTPPort: spec.HTTPPort,
		Key:      string(key),
		Expect:   site.Expect,
	}
	t.App, _ = spec.Part(site.App)
	if k := kinds.Of(t.App.Kind); k != nil {
		t.Maker, _ = k.(kind.PageMaker)
	}
	for _, name := range []string{site.App, site.Server} {
		if p, ok := spec.Part(name); ok {
			t.Logs = append(t.Logs, p.Log)
		}
	}
	return t, err
}

// KindName is the kind of the gateway's part. A stack file cannot use it.
const KindName = "gateway"

// Spec describes the gateway as a stack of one part with these ports. It creates the gateway's key if there is none.
func Spec(h *home.Home, self string, http, https int, t Table) (materialise.Spec, error) {
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
	p := kind.Part{
		Stack:   name,
		StackID: id,
		Name:    name,
		Kind:    KindName,
		Role:    kind.RoleWeb,
		Port:    http,
		Network: true, // it opens what the user agreed to, and nothing else
		Self:    self,
		Project: h.Dir,
		Conf:    h.Stack(id),
		Temp:    h.Stack(id, "temp"),
		Log:     h.Stack(id, "logs", "gateway.log"),
		Lock:    lockFile(h),
		Env:     []string{"DRAVIT_HOME=" + h.Dir, "TMPDIR=" + h.Stack(id, "temp")},
		Hash:    fmt.Sprintf("%s %d %d", self, http, https),
		Config:  fmt.Sprint(t.DNSPort, t.Network),
	}
	spec := materialise.Spec{Format: 1, ID: id, Name: name, HTTPPort: http, HTTPSPort: https, Parts: []kind.Part{p}}
	return spec, home.WriteState(materialise.File(h, id), spec)
}

// Seen returns what can be seen of the gateway from any process.
func Seen(h *home.Home) run.Handle { return run.ByLock(lockFile(h)) }

func lockFile(h *home.Home) string { return h.Stack(KindName, "state", KindName+".lock") }

// Kind returns how the keeper runs the gateway with this HTTPS port. The HTTP port is the part's.
func Kind(https int) kind.Kind { return gateway{https: https} }

type gateway struct {
	kind.Defaults
	https int
}

var traits = kind.Traits{
	Name:   KindName,
	Role:   kind.RoleWeb,
	Reload: syscall.SIGHUP, // it opens and closes network listeners as its table says
}

func (gateway) Traits() *kind.Traits                  { return &traits }
func (gateway) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Port: true} }

func (g gateway) Command(p kind.Part) kind.Command {
	return kind.Command{
		Path: p.Self,
		Args: []string{"internal", "gateway", strconv.Itoa(p.Port), strconv.Itoa(g.https)},
		Dir:  "/",
		Env:  p.Env,
		Stop: syscall.SIGTERM,
	}
}

func (gateway) Ladder(p kind.Part) []kind.Rung {
	return health.HTTP(p, "tcp", kind.Loopback(p.Port))
}
