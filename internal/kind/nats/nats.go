// Package nats is the kind for the NATS message broker.
package nats

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/setting"
	"dravit/internal/stackfile"
)

// New returns the kind.
func New() kind.Kind { return nats{} }

type nats struct{ kind.StoreDefaults }

var _ kind.Store = nats{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:     "nats",
		Signs:    signs,
		Role:     "queue",
		Keys:     []string{"port", "outside", "main", "settings"},
		Programs: []string{"nats-server"},
		Clients:  pattern.New(`(?i)\bnats\b|Authorization Violation`),
		Rules:    rules(),
		Symptoms: symptoms(),
	}
})

func (nats) Traits() *kind.Traits { return traits() }

// Needs a data folder for JetStream, in which the broker keeps messages over restarts. A newer release changes it.
func (nats) Needs(stackfile.PartConfig) kind.Needs {
	return kind.Needs{Port: true, PortBase: 14222, Data: true, Older: kind.ChangesOlder}
}

func (nats) Inspect(_ context.Context, path string, run func(string, ...string) (string, error)) (
	string, map[string]string, error) {
	out, err := run(path, "--version") // nats-server: v2.9.10
	m := pattern.Of(`v(\d\S*)`).FindStringSubmatch(out)
	if err != nil || m == nil {
		return "", nil, fmt.Errorf("no version in %q: %w", out, err)
	}
	return m[1], nil, nil
}

// Exports puts the password in the place where clients expect a token (docs.nats.io, "Tokens").
func (nats) Exports(p kind.Part) kind.Exports {
	u := url.URL{Scheme: "nats", Host: p.Address()}
	if p.Password != "" {
		u.User = url.User(p.Password)
	}
	return kind.Exports{URL: u.String(), Common: map[string]string{"NATS_URL": u.String()}}
}

func (nats) Files(p kind.Part) ([]kind.File, error) {
	if p.Outside != "" {
		return nil, nil
	}
	set := map[string]string{
		"host":          strconv.Quote(kind.Host),
		"port":          strconv.Itoa(p.Port),
		"server_name":   strconv.Quote(p.Stack + "-" + p.Name),
		"authorization": "{ token: " + strconv.Quote(p.Password) + " }",
		"jetstream":     "{ store_dir: " + strconv.Quote(p.Data) + " }",
	}
	for name, value := range p.Want.Settings {
		set[name] = word(string(value))
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(set)) {
		fmt.Fprintf(&b, "%s: %s\n", name, set[name])
	}
	return []kind.File{{Name: "nats.conf", Text: b.String(), Mode: 0o600}}, nil
}

var bare = pattern.New(`^(true|false|\d+([kKmMgG][bB]?)?)$`)

// word writes a value of the configuration: numbers, sizes and booleans as they are, everything else in quotes.
func word(value string) string {
	if bare().MatchString(value) {
		return value
	}
	return strconv.Quote(value)
}

func (nats) Command(p kind.Part) kind.Command {
	return kind.Command{
		Path: p.Program,
		Args: []string{"-c", filepath.Join(p.Conf, "nats.conf")},
		Dir:  p.Data,
		Env:  p.Env,
		Stop: syscall.SIGTERM,
	}
}

// Test reads the configuration. It opens neither the port nor the data folder.
func (n nats) Test(p kind.Part) kind.Command {
	c := n.Command(p)
	c.Args = append([]string{"-t"}, c.Args...)
	c.Dir = p.Conf // the data folder may not exist yet
	return c
}

var fatal = pattern.New(`(?m)\[FTL\] ([^\n]*)|^nats-server: ([^\n]*)`)

func (nats) LastWords(log string) string {
	all := fatal().FindAllStringSubmatch(log, -1)
	if all == nil {
		return ""
	}
	last := all[len(all)-1]
	return strings.TrimSpace(last[1] + last[2])
}

// rules are for settings that move data, logs and passwords, or open the server to the network (docs.nats.io, "Server
// Configuration").
func rules() map[string]setting.Rule {
	rules := map[string]setting.Rule{"host": setting.Opens, "net": setting.Opens}
	for _, name := range []string{
		"listen", "port", "client_advertise", "http", "http_port", "https", "https_port", "cluster", "gateway",
		"leafnodes", "mqtt", "websocket", "jetstream", "store_dir", "authorization", "accounts", "operator", "resolver",
		"log_file", "logfile", "pid_file", "pidfile", "ports_file_dir", "include",
	} {
		rules[name] = setting.Own
	}
	return rules
}

// symptoms match what the server writes when something is wrong.
func symptoms() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.SettingRefused, pattern.New(`nats\.conf:\d+:\d+: (unknown field "[^"]*")`),
			"NATS does not know a setting: $1", "correct the part's settings in dravit.toml"),
		kind.When(cause.SettingRefused, pattern.New(`nats\.conf:\d+:\d+: ([^\n]*)`),
			"NATS rejects a setting: $1", "correct the part's settings in dravit.toml"),
		kind.When(cause.PortTaken, pattern.New(`(Error listening on port: [^\n]*address already in use)`),
			"the port was taken: $1", "dravit start, which uses another port unless it is pinned"),
		kind.When(cause.DataUnreadable,
			pattern.New(`\[FTL\] [^\n]*?((?:could not|Can't|[Ee]rror)[^\n]*permission denied)`),
			"NATS may not write to its data folder: $1", "give it back to your account: chown -R and chmod -R u+rwX"),
		kind.When(cause.DiskFull, pattern.New(`(no space left on device|insufficient storage resources)`),
			"there is no free space for the data", "free some space (df -h, df -i)"),
	}
}
