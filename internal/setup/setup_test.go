package setup

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/certificates"
	"dravit/internal/home"
	"dravit/internal/trouble"
)

func place(t *testing.T) Place {
	t.Helper()
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	return Place{Home: h, Root: t.TempDir(), User: "ada"}
}

// run carries the steps out; in a test everything is writable.
func run(t *testing.T, steps []Step, err error) {
	t.Helper()
	require.NoError(t, err)
	for _, s := range steps {
		if s.Argv[0] != "systemctl" {
			assert.False(t, s.Root)
			require.NoError(t, Run(t.Context(), []Step{s}, os.Stderr))
		}
	}
}

func TestHosts(t *testing.T) {
	for name, before := range map[string]string{
		"usual":          "127.0.0.1 localhost\n::1 localhost\n",
		"without an end": "127.0.0.1 localhost",
		"empty":          "",
		"windows":        "127.0.0.1 localhost\r\n10.0.0.1 quay\r\n",
		"another's block": "127.0.0.1 localhost\n" + hostsBegin + "bob" + hostsHint + "\n127.0.0.1 boat.test\n" +
			hostsEnd + "bob\n# after\n",
		"half a block": "127.0.0.1 localhost\n" + hostsBegin + "ada" + hostsHint + "\n127.0.0.1 lost.test\n",
	} {
		t.Run(name, func(t *testing.T) {
			p := place(t)
			require.NoError(t, os.MkdirAll(filepath.Dir(p.HostsFile()), 0o755))
			require.NoError(t, os.WriteFile(p.HostsFile(), []byte(before), 0o644))
			text := func() string {
				text, err := os.ReadFile(p.HostsFile())
				require.NoError(t, err)
				return string(text)
			}
			steps, err := p.Hosts([]string{"quay.test", "*.quay.test", "crew.test"})
			run(t, steps, err)
			assert.True(t, strings.HasPrefix(text(), before), "what was there stays")
			assert.Contains(t, text(), "\n127.0.0.1 quay.test\n")
			assert.Contains(t, text(), "\n::1 crew.test\n")
			assert.NotContains(t, text(), "*")
			assert.Equal(t, []string{"crew.test", "quay.test"}, p.HostsNames())
			steps, err = p.Hosts([]string{"crew.test", "quay.test"})
			require.NoError(t, err)
			assert.Empty(t, steps, "it is so already")
			steps, err = p.Hosts([]string{"late.test"})
			run(t, steps, err)
			assert.Equal(t, []string{"late.test"}, p.HostsNames())
			steps, err = p.Hosts(nil)
			run(t, steps, err)
			assert.Equal(t, before, text(), "to the last byte")
		})
	}
}

func TestResolver(t *testing.T) {
	p := place(t)
	_, err := p.Resolver([]string{"test"}, 5380)
	require.ErrorIs(t, err, trouble.NoWay)
	assert.Equal(t, "dravit names hosts on", trouble.Of(err).Next)
	etc := p.path("etc")
	require.NoError(t, os.MkdirAll(filepath.Join(etc, "dnsmasq.d"), 0o755))
	_, err = p.Resolver([]string{"test"}, 5380)
	require.ErrorIs(t, err, trouble.NoWay, "programs ask somewhere else")
	require.NoError(t, os.WriteFile(filepath.Join(etc, "resolv.conf"), []byte("# x\nnameserver 127.0.0.53\n"), 0o644))
	steps, err := p.Resolver([]string{"quay.test", "test"}, 5380)
	run(t, steps, err)
	assert.Equal(t, []string{"systemctl", "restart", "dnsmasq"}, steps[len(steps)-1].Argv)
	text, err := os.ReadFile(filepath.Join(etc, "dnsmasq.d/dravit.conf"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "server=/quay.test/127.0.0.1#5380\nserver=/test/127.0.0.1#5380\n")
	assert.True(t, p.ResolverSet())
	steps, err = p.Resolver(nil, 0)
	run(t, steps, err)
	assert.False(t, p.ResolverSet())

	// Where systemd-resolved runs, it is told.
	require.NoError(t, os.MkdirAll(p.path("run/systemd/resolve"), 0o755))
	require.NoError(t, os.WriteFile(p.path("run/systemd/resolve/resolv.conf"), nil, 0o644))
	steps, err = p.Resolver([]string{"quay.test", "test"}, 5380)
	run(t, steps, err)
	text, err = os.ReadFile(filepath.Join(etc, "systemd/resolved.conf.d/dravit.conf"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "[Resolve]\nDNS=127.0.0.1:5380\nDomains=~quay.test ~test\n")
	steps, err = p.Resolver(nil, 0)
	run(t, steps, err)
	assert.NoFileExists(t, filepath.Join(etc, "systemd/resolved.conf.d/dravit.conf"))
	steps, err = p.Resolver(nil, 0)
	require.NoError(t, err)
	assert.Empty(t, steps, "nothing is left to take back")
}

// What is written for every program is readable by every program, whatever the umask.
func TestWrittenFilesAreReadable(t *testing.T) {
	old := syscall.Umask(0o077)
	defer syscall.Umask(old)
	p := place(t)
	steps, err := p.write(p.path("etc/systemd/dravit.conf"), "text")
	assert.Equal(t, p.Home.Run, filepath.Dir(steps[len(steps)-1].Argv[3]), "root may read it there")
	require.NoError(t, os.MkdirAll(p.path("etc"), 0o755))
	run(t, steps, err)
	for path, want := range map[string]os.FileMode{"etc/systemd/dravit.conf": 0o644, "etc/systemd": 0o755} {
		info, err := os.Stat(p.path(path))
		require.NoError(t, err)
		assert.Equal(t, want, info.Mode().Perm(), path)
	}
	require.NoError(t, os.Chmod(p.path("etc/systemd/dravit.conf"), 0o640))
	steps, err = p.write(p.path("etc/systemd/dravit.conf"), "other")
	run(t, steps, err)
	info, err := os.Stat(p.path("etc/systemd/dravit.conf"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "what is there keeps its mode")
}

// macOS reads a file for each suffix, and keeps trusted certificates in a keychain, from which off removes both the
// trust and the certificate.
func TestMac(t *testing.T) {
	p := place(t)
	p.Mac = true
	steps, err := p.Resolver([]string{"quay.test", "test"}, 5380)
	run(t, steps, err)
	text, err := os.ReadFile(p.path("etc/resolver/quay.test"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "nameserver 127.0.0.1\nport 5380\n")
	require.NoError(t, os.WriteFile(p.path("etc/resolver/vpn"), []byte("nameserver 10.0.0.1\n"), 0o644))
	steps, err = p.Resolver([]string{"test"}, 5380)
	run(t, steps, err)
	assert.NoFileExists(t, p.path("etc/resolver/quay.test"))
	steps, err = p.Resolver(nil, 0)
	run(t, steps, err)
	assert.FileExists(t, p.path("etc/resolver/vpn"), "somebody else's")

	authority, err := certificates.Open(t.Context(), p.Home, []string{"test"})
	require.NoError(t, err)
	require.NotNil(t, authority)
	steps, err = p.Trust(certificates.File(p.Home))
	require.NoError(t, err)
	assert.Contains(t, steps[0].String(), "sudo security add-trusted-cert -d -r trustRoot -k "+keychain)
	off := p.Distrust(certificates.File(p.Home))
	require.GreaterOrEqual(t, len(off), 2)
	assert.Contains(t, off[0].String(), "remove-trusted-cert")
	assert.Regexp(t, `^sudo security delete-certificate -Z [0-9A-F]{40} `+keychain+`$`, off[1].String())
}

func TestStepsArePastable(t *testing.T) {
	assert.Equal(t, "sudo cp '/home/ada/ferry office/hosts' /etc/hosts",
		Step{[]string{"cp", "/home/ada/ferry office/hosts", "/etc/hosts"}, true}.String())
	assert.Equal(t, `rm 'it'\''s'`, Step{[]string{"rm", "it's"}, false}.String())
}
