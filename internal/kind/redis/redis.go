// Package redis is the kind for the Redis server.
package redis

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// New returns the kind.
func New() kind.Kind { return redis{} }

type redis struct{ kind.StoreDefaults }

var _ kind.Cache = redis{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:     "redis",
		Signs:    signs,
		Role:     kind.RoleCache,
		Keys:     []string{"port", "outside", "main", "settings"},
		Programs: []string{"redis-server"},
		System: map[string]string{"apt-get": "redis-server", "dnf": "redis", "pacman": "redis", "zypper": "redis",
			"apk": "redis", "brew": "redis"},
		Packages: kind.Packages{Servers: []string{"redis-server"}, Program: "usr/bin/redis-server"},
		Clients:  health.RedisClients,
		Rules:    rules(),
		Symptoms: symptoms(),
	}
})

func (redis) Traits() *kind.Traits { return traits() }

func (redis) Exports(p kind.Part) kind.Exports { return health.CacheExports(p) }
func (redis) Ladder(p kind.Part) []kind.Rung   { return health.Cache(p) }
func (redis) Needs(stackfile.PartConfig) kind.Needs {
	return kind.Needs{Port: true, PortBase: 16379, Socket: true, Data: true, Older: kind.ChangesOlder}
}

func (redis) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	out, err := run(path, "--version") // Redis server v=7.0.15 sha=...
	m := pattern.Of(`^(.*?)\s*server v=(\S+)`).FindStringSubmatch(out)
	if err != nil || m == nil {
		return "", nil, fmt.Errorf("no version in %q: %w", out, err)
	}
	if m[1] != "Redis" { // servers of its family are installed under its name
		return "", nil, fmt.Errorf("it says that it is %s %s, and not Redis", m[1], m[2])
	}
	return m[2], nil, nil
}

// Files returns a configuration in which every write reaches a file before its reply, so that a killed server loses
// nothing.
func (redis) Files(p kind.Part) ([]kind.File, error) {
	if p.Outside != "" {
		return clients(p), nil
	}
	set := map[string]string{
		"bind": kind.Host, "port": fmt.Sprint(p.Port), "unixsocket": quote(p.Socket), "unixsocketperm": "600",
		"dir": quote(p.Data), "daemonize": "no",
		"requirepass": quote(p.Password), "appendonly": "yes", "appendfsync": "everysec", "save": `""`,
		"logfile": `""`, "always-show-logo": "no",
	}
	for name, value := range p.Want.Settings {
		set[name] = string(value)
		if strings.ContainsAny(set[name], "\"'\\ ") || set[name] == "" {
			set[name] = quote(set[name])
		}
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(set)) {
		fmt.Fprintf(&b, "%s %s\n", name, set[name])
	}
	return append([]kind.File{{Name: "redis.conf", Text: b.String(), Mode: 0o600}}, clients(p)...), nil
}

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

func (redis) Command(p kind.Part) kind.Command {
	return kind.Command{
		Path: p.Program,
		Args: []string{filepath.Join(p.Conf, "redis.conf")},
		Dir:  p.Data,
		Env:  p.Env,
		Stop: syscall.SIGTERM,
	}
}

var fatal = pattern.New(`(?s)FATAL CONFIG FILE ERROR.*?\n(Reading the configuration file, at line \d+\n.*?)\n?$|` +
	`# (Failed listening on port.*|Fatal error.*|Can't .*)`)

func (redis) LastWords(log string) string {
	m := fatal().FindAllStringSubmatch(log, -1)
	if m == nil {
		return ""
	}
	last := m[len(m)-1]
	return strings.Join(strings.Fields(last[1]+last[2]), " ")
}

// symptoms match what the server writes when something is wrong.
func symptoms() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.SettingRefused,
			pattern.New(`Reading the configuration file, at line \d+\s+>>> '([^'\n]*)'?\s+([^\n]*)`),
			"Redis rejects the setting $1: $2", "correct the part's settings in dravit.toml"),
		kind.When(cause.DataOtherVersion, pattern.New(`(Can't handle RDB format version \d+[^\n]*)`),
			"a newer server wrote the data: $1",
			"use that server again; or go back to what was before: dravit db marks --part {part}"),
		kind.When(cause.DataDamaged, pattern.New(`(Bad file format reading the append only file[^\n]*|`+
			`Unexpected end of file reading the append only file[^\n]*|Wrong signature trying to load DB[^\n]*|`+
			`Short read or OOM loading DB[^\n]*|AOF loading aborted[^\n]*|AOF \S+ doesn't exist[^\n]*)`),
			"the data are damaged or incomplete: $1",
			"restore a copy; or, to start empty, dravit stop and move the part's data folder away"),
		kind.When(cause.DataUnreadable, pattern.New(`(?:Can't (?:open|chdir|create)[^\n]*|[^\n]*append[^\n]*|`+
			`Failed opening[^\n]*): (Permission denied)`), "Redis may not write to its data folder",
			"give it back to your account: chown -R and chmod -R u+rwX"),
		kind.When(cause.DiskFull, pattern.New(`(No space left on device)`), "there is no free space for the data",
			"free some space (df -h, df -i)"),
		kind.When(cause.PortTaken, pattern.New(`(Failed listening on port \d+[^\n]*)`), "the port was taken: $1",
			"dravit start, which uses another port unless it is pinned"),
		kind.When(cause.MemoryLimit, pattern.New(`(Out Of Memory allocating \d+ bytes|Can't allocate)`),
			"it got no memory: $1", "stop other programs, or set maxmemory"),
	}
}

func (redis) DeepChecks(p kind.Part) []kind.DeepCheck { return health.CacheDeepChecks(p) }

// Flush empties all databases of the server.
func (redis) Flush(ctx context.Context, p kind.Part) error { return health.FlushCache(ctx, p) }
