package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const pier = `name = "pier"
[[site]]
name = "quay"
suffix = "test"
aliases = ["*.tides"]
[[site]]
name = "pier"
`

// commands returns what a set-up command would run, without sudo. It changes nothing.
func (n *namespace) commands(t *testing.T, args ...string) []string {
	t.Helper()
	r := n.dravit(t, append(args, "--json")...)
	require.Equal(t, 4, r.code, r.all())
	var out struct {
		Done     bool
		Commands []string
	}
	require.NoError(t, json.Unmarshal([]byte(r.stdout), &out), r.all())
	assert.False(t, out.Done)
	require.NotEmpty(t, out.Commands)
	for i, c := range out.Commands {
		out.Commands[i] = strings.TrimPrefix(c, "sudo ")
	}
	return out.Commands
}

// Names below another suffix resolve to this machine after the user agreed to the change of the hosts file. Undone, the
// file is as it was before.
func TestHostsFile(t *testing.T) {
	if !asRoot {
		t.Skip("only root can make system files to change")
	}
	w := newWorld(t)
	w.write("dravit.toml", pier)
	w.write("public/index.html", "<h1>Pier</h1>")
	n := newNamespace(w, `printf '127.0.0.1 localhost\n10.9.8.7 quay.example # no end' > /etc/hosts`)
	etc := filepath.Join(filepath.Dir(w.home), "system/etc")
	before, err := os.ReadFile(filepath.Join(etc, "hosts"))
	require.NoError(t, err)

	r := n.dravit(t, "start")
	assert.Equal(t, 1, r.code, r.all())
	assert.Contains(t, flat(r.stderr), "resolves: expected a loopback address for quay.test")
	assert.Contains(t, r.stderr, "dravit names hosts on")
	names := n.must(t, "names").stdout
	assert.Contains(t, names, "http://quay.test:8080/")
	assert.Contains(t, names, "next: dravit names hosts on")

	r = n.dravit(t, "names", "hosts", "on")
	assert.Equal(t, 4, r.code)
	assert.Contains(t, r.stderr, "nothing was changed")
	assert.Contains(t, r.stderr, "*.tides.test", "a wildcard is left out, and it is said")
	after, err := os.ReadFile(filepath.Join(etc, "hosts"))
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after), "nobody agreed")
	r = n.dravit(t, "names", "hosts", "on", "--yes")
	assert.Equal(t, 4, r.code, "there is no sudo here")
	assert.Contains(t, r.stderr, "as root: cp ")
	for _, c := range n.commands(t, "names", "hosts", "on") {
		require.Equal(t, 0, n.sh(t, true, c).code, c)
	}
	n.must(t, "check")
	assert.Contains(t, n.sh(t, false, "getent ahosts quay.test").stdout, "127.0.0.1")
	assert.Contains(t, n.sh(t, false, "curl -sS http://quay.test:8080/").stdout, "Pier")
	assert.Contains(t, n.must(t, "names", "hosts", "on").stderr, "nothing to do")
	assert.Contains(t, n.must(t, "names").stdout, "hosts file: has 2 names of ours")

	// A new name; then a writable file needs no sudo; then everything is undone.
	w.write("dravit.toml", pier+"[[site]]\nname = \"lock\"\nsuffix = \"test\"\n")
	assert.Equal(t, 1, n.dravit(t, "start").code, "the new name is not there yet")
	require.NoError(t, os.Chmod(filepath.Join(etc, "hosts"), 0o666))
	n.must(t, "names", "hosts", "on", "--yes")
	n.must(t, "start")
	n.must(t, "names", "hosts", "off", "--yes")
	after, err = os.ReadFile(filepath.Join(etc, "hosts"))
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after), "to the last byte")
	n.must(t, "stop")
}

// systemResolver is a resolver of the system that can be set up for one suffix.
type systemResolver struct {
	name, service string
	setup         string // commands in the namespace before it runs
	start, stop   string // as root
	files         string // the folder below /etc for its set-up
}

// Once set up, the system's resolver finds every name below the suffix, wildcards included, through Dravit's, which is
// asked about no other names.
func TestResolver(t *testing.T) {
	if !asRoot {
		t.Skip("only root can make a resolver of the system's")
	}
	for _, x := range []systemResolver{
		{name: "dnsmasq", service: "dnsmasq", files: "dnsmasq.d",
			setup: "rm -f /etc/resolv.conf; echo nameserver 192.0.2.1 > /etc/resolv.conf; mkdir -p /etc/dnsmasq.d",
			start: `echo nameserver 127.0.0.1 > /etc/resolv.conf; dnsmasq --keep-in-foreground --no-resolv ` +
				`--listen-address=127.0.0.1 --bind-interfaces --user=root --conf-dir=/etc/dnsmasq.d ` +
				`--pid-file=/etc/dnsmasq.pid >/dev/null 2>&1 & for i in $(seq 200); do [ -e /etc/dnsmasq.pid ] && ` +
				`break; sleep 0.02; done`,
			stop: `kill $(cat /etc/dnsmasq.pid) && rm -f /etc/dnsmasq.pid; sleep 0.1`},
		{name: "systemd-resolved", service: "systemd-resolved", files: "systemd/resolved.conf.d",
			setup: `rm -f /etc/resolv.conf; echo nameserver 192.0.2.1 > /etc/resolv.conf
mkdir -p /run/systemd; mount -t tmpfs tmpfs /run/systemd
# It asks nobody while there is no network.
ip link add pier0 type veth peer name pier1; ip addr add 192.0.2.10/24 dev pier0
ip link set pier0 up; ip link set pier1 up
getent passwd systemd-resolve >/dev/null || echo 'systemd-resolve:x:995:995::/:/usr/sbin/nologin' >> /etc/passwd
getent group systemd-resolve >/dev/null || echo 'systemd-resolve:x:995:' >> /etc/group`,
			start: `rm -f /etc/resolv.conf; ln -s /run/systemd/resolve/stub-resolv.conf /etc/resolv.conf; ` +
				beside(t) + `/resolved/bin/systemd-resolved >/etc/resolved.log 2>&1 & echo $! > /etc/resolved.pid; ` +
				`for i in $(seq 200); do ss -Hltn sport = :53 | grep -q 127.0.0.53 && break; sleep 0.02; done`,
			stop: `kill $(cat /etc/resolved.pid); sleep 0.2`},
	} {
		t.Run(x.name, func(t *testing.T) { testResolver(t, x) })
	}
}

func testResolver(t *testing.T, x systemResolver) {
	w := newWorld(t)
	w.write("dravit.toml", pier)
	w.write("public/index.html", "<h1>Pier</h1>")
	n := newNamespace(w, x.setup)
	assert.Equal(t, 1, n.dravit(t, "start").code, "nobody knows quay.test")
	r := n.dravit(t, "names", "resolver", "on")
	assert.Equal(t, 4, r.code)
	assert.Contains(t, r.stderr, "set up for one suffix", "this resolver asks somewhere else for everything")

	require.Equal(t, 0, n.sh(t, true, x.start).code)
	defer n.sh(t, true, x.stop)
	refreshed := false
	apply := func(args ...string) {
		for _, c := range n.commands(t, args...) {
			if strings.HasPrefix(c, "systemctl restart "+x.service) { // no systemd runs here
				refreshed = true
				n.sh(t, true, x.stop)
				require.Equal(t, 0, n.sh(t, true, x.start).code)
				continue
			}
			require.Equal(t, 0, n.sh(t, true, c).code, c)
		}
	}
	apply("names", "resolver", "on")
	assert.True(t, refreshed)
	for _, host := range []string{"quay.test", "QUAY.test", "east.tides.test", "a.b.tides.test"} {
		out := n.sh(t, false, "getent ahosts "+host).stdout
		assert.Contains(t, out, "127.0.0.1", host)
		assert.Contains(t, out, "::1", host)
	}
	assert.Equal(t, 2, n.sh(t, false, "getent ahosts other.test").code, "nobody has this name")
	n.must(t, "check")
	assert.Contains(t, n.sh(t, false, "curl -sS http://east.tides.test:8080/").stdout, "Pier")
	assert.Contains(t, n.sh(t, false, "curl -sSg 'http://[::1]:8080/' -H 'Host: quay.test'").stdout,
		"Pier", "both loopback addresses")
	assert.Contains(t, n.must(t, "names").stdout, "the system's resolver asks Dravit's")
	// The port is open on loopback only, and closes with the last stack that needs it.
	assert.NotContains(t, n.sh(t, true, "ss -Hltun sport = :5380").stdout, "0.0.0.0:5380")
	assert.Contains(t, n.sh(t, true, "ss -Hltun sport = :5380").stdout, "127.0.0.1:5380")
	apply("names", "resolver", "off")
	assert.Equal(t, 2, n.sh(t, false, "getent ahosts quay.test").code)
	left, err := filepath.Glob(filepath.Join(filepath.Dir(w.home), "system/etc", x.files, "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	n.must(t, "stop")
	assert.Empty(t, n.sh(t, true, "ss -Hltun sport = :5380").stdout)
}

// After the user agreed, curl and a browser trust the sites' certificates; undone, they do not.
func TestTrust(t *testing.T) {
	if !asRoot {
		t.Skip("only root can make a store of the system's")
	}
	w := newWorld(t)
	w.builtin()
	n := newNamespace(w, "")
	n.must(t, "start")
	own := filepath.Join(filepath.Dir(w.home), "user")
	require.NoError(t, os.MkdirAll(own, 0o700)) // no browser has run in it
	w.own(own)
	curl := func() result { return n.sh(t, false, "curl -sS https://night.localhost:8443/") }
	chromium := func() string {
		return n.sh(t, false, fmt.Sprintf("HOME=%[1]s timeout 60 chromium --headless --no-sandbox --disable-gpu "+
			"--disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync "+
			"--user-data-dir=%[1]s/browser --dump-dom https://night.localhost:8443/", own)).stdout
	}
	assert.NotEqual(t, 0, curl().code)
	assert.NotContains(t, chromium(), "Night boat", "nothing trusts it unasked")
	apply := func(arg string) {
		r := n.sh(t, false, fmt.Sprintf("HOME=%s %s names certificate %s --json", own, program, arg))
		require.Equal(t, 4, r.code, r.all())
		var out struct{ Commands []string }
		require.NoError(t, json.Unmarshal([]byte(r.stdout), &out))
		for _, c := range out.Commands {
			bare, root := strings.CutPrefix(c, "sudo ")
			r := n.sh(t, root, bare)
			require.Equal(t, 0, r.code, "%s: %s", c, r.all())
		}
	}
	apply("on")
	assert.Contains(t, curl().stdout, "Night boat")
	assert.Contains(t, chromium(), "Night boat")
	assert.Contains(t, n.must(t, "names").stdout, "the system accepts")
	r := n.sh(t, false, fmt.Sprintf("HOME=%s %s names certificate on --yes", own, program))
	assert.Equal(t, 0, r.code, "only this user's own databases are left to write: %s", r.all())
	apply("off")
	assert.NotEqual(t, 0, curl().code)
	assert.NotContains(t, chromium(), "Night boat")
	for _, db := range []string{".pki/nssdb", ".local/share/pki/nssdb"} {
		list := n.sh(t, false, fmt.Sprintf("certutil -L -d sql:%s/%s", own, db))
		assert.Equal(t, 0, list.code, "both were made: %s", list.all())
		assert.NotContains(t, strings.ToLower(list.stdout), "dravit")
	}
	n.must(t, "stop")
}

// diagnose first names a host name that the system's resolver leads to another machine.
func TestNameElsewhere(t *testing.T) {
	if !asRoot {
		t.Skip("only root can make system files to change")
	}
	w := newWorld(t)
	w.write("dravit.toml", pier)
	w.write("public/index.html", "<h1>Pier</h1>")
	n := newNamespace(w, `echo 10.9.8.7 quay.test >> /etc/hosts`)
	n.dravit(t, "start")
	r := n.dravit(t, "diagnose")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stdout, "name-elsewhere")
	assert.Contains(t, r.stdout, "10.9.8.7")
	n.must(t, "stop")
}
