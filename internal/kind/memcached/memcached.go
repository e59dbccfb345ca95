// Package memcached is the kind for the memcached cache server.
package memcached

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/bradfitz/gomemcache/memcache"

	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// New returns the kind.
func New() kind.Kind { return memcached{} }

type memcached struct{ kind.StoreDefaults }

var _ kind.Cache = memcached{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:     "memcached",
		Signs:    signs,
		Role:     kind.RoleCache,
		Keys:     []string{"port", "outside", "main"},
		Programs: []string{"memcached"},
		System: map[string]string{
			"apt-get": "memcached",
			"dnf":     "memcached",
			"pacman":  "memcached",
			"zypper":  "memcached",
			"apk":     "memcached",
			"brew":    "memcached",
		},
		Packages: kind.Packages{Servers: []string{"memcached"}, Program: "usr/bin/memcached"},
		Clients:  pattern.New(`(?i)memcache`),
		Symptoms: symptoms(),
	}
})

func (memcached) Traits() *kind.Traits { return traits() }

// Needs a Unix socket that only its owner can reach: the clients' protocol has no password. A part with a pinned port
// listens on that port instead.
func (memcached) Needs(want stackfile.PartConfig) kind.Needs {
	return kind.Needs{Socket: want.Port == 0}
}

func (memcached) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	out, err := run(path, "-V") // memcached 1.6.18
	v, ok := strings.CutPrefix(strings.TrimSpace(out), "memcached ")
	if err != nil || !ok {
		return "", nil, fmt.Errorf("no version in %q: %w", out, err)
	}
	return v, nil, nil
}

func (memcached) Exports(p kind.Part) kind.Exports {
	common := map[string]string{"MEMCACHED_SOCKET": p.Socket}
	if p.Port != 0 {
		common = map[string]string{"MEMCACHED_HOST": p.HostName(), "MEMCACHED_PORT": fmt.Sprint(p.Port)}
	}
	return kind.Exports{NoLogin: true, Common: common}
}

// Command stops the server with SIGKILL: it has nothing to save, and a clean exit takes most of a second.
func (memcached) Command(p kind.Part) kind.Command {
	args := []string{"-s", p.Socket, "-a", "0600"}
	if p.Socket == "" {
		args = []string{"-l", kind.Host, "-p", fmt.Sprint(p.Port), "-U", "0"}
	}
	return kind.Command{Path: p.Program, Args: append(args, "-m", "64"), Dir: p.Conf, Env: p.Env, Stop: syscall.SIGKILL}
}

func (memcached) Ladder(p kind.Part) []kind.Rung {
	network, address := p.Entrance()
	lower, shared := health.LowerRungs(p, network, address)
	client := memcache.New("/part") // a path is not looked up; every connection comes from shared
	client.Timeout = health.Deadline
	client.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) { return shared.Take(ctx) }
	return append(lower,
		kind.Rung{Name: kind.Greets,
			Ask: func(context.Context) error {
				if err := client.Ping(); err != nil {
					return &kind.Miss{Expected: "its version", Got: health.Plain(err)}
				}
				return nil
			},
			After: func() { client.Close() }},
		kind.Rung{Name: kind.Works, Ask: func(context.Context) error {
			// Use a key of our own, delete it at once, and let it expire in any case: the application's keys stay as
			// they are.
			want := fmt.Sprint(time.Now().UnixNano())
			key := "dravit:probe:" + want // others look at the same time
			if err := client.Set(&memcache.Item{Key: key, Value: []byte(want), Expiration: 10}); err != nil {
				return err
			}
			got, err := client.Get(key)
			if err == nil && string(got.Value) != want {
				err = &kind.Miss{Expected: "the value written, " + want, Got: string(got.Value)}
			}
			return cmp.Or(err, client.Delete(key))
		}})
}

var failure = pattern.New(`(?m)^(failed to listen.*|bind\(\).*|can't .*|failed to .*)$`)

func (memcached) LastWords(log string) string {
	if m := failure().FindStringSubmatch(log); m != nil {
		return m[1]
	}
	return ""
}

// symptoms match what the server writes when something is wrong.
func symptoms() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.PortTaken,
			pattern.New(`((?:failed to listen on TCP port \d+|bind\(\)): `+kind.AddressInUse+`)`),
			"the port was taken: $1", "dravit start, which uses another port unless it is pinned"),
		kind.When(cause.MemoryLimit, pattern.New(`(Failed to allocate memory)`),
			"it got no memory", "stop other programs"),
	}
}

// Flush empties the cache.
func (memcached) Flush(ctx context.Context, p kind.Part) error {
	network, address := p.Entrance()
	client := memcache.New("/part") // a path is not looked up
	defer client.Close()
	client.Timeout = health.Deadline
	client.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) {
		return health.Dial(network, address)(ctx)
	}
	return client.FlushAll()
}
