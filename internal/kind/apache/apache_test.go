package apache

import (
	"cmp"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

func TestFiles(t *testing.T) {
	files, err := New().Files(kind.Part{Port: 18080, Conf: "/c", Temp: "/t", Log: "/l",
		Facts: map[string]string{factModules: "/nowhere", factBuiltin: "unixd proxy_fcgi"},
		Sites: []kind.VirtualHost{
			{Host: "ferry.localhost", Root: `/projects/"ferry" office`, FPM: "/tmp/d/app.sock", Probe: "/c/probe.php"},
			{Host: "files.localhost", Root: "/projects/files"},
			{Host: "api.localhost", Proxy: "127.0.0.1:18000"},
		}})
	require.NoError(t, err)
	text := files[0].Text
	for _, want := range []string{
		"Listen 127.0.0.1:18080\n", "ServerName ferry.localhost\n", `DocumentRoot "/projects/\"ferry\" office"`,
		`SetHandler "proxy:unix:/tmp/d/app.sock|fcgi://localhost/"`, "AllowOverride All",
		"ProxyPass / http://127.0.0.1:18000/ nocanon",
		`LoadModule rewrite_module "/nowhere/mod_rewrite.so"`, `Mutex "file:/t" default`,
	} {
		assert.Contains(t, text, want)
	}
	for _, not := range []string{"Include", "mod_unixd.so", "mod_proxy_fcgi.so", "mod_deflate.so", "%!"} {
		assert.NotContains(t, text, not)
	}
	assert.NotEmpty(t, New().Fit(stackfile.PartConfig{}, kind.Program{}))
	assert.Empty(t, New().Fit(stackfile.PartConfig{}, kind.Program{Facts: map[string]string{factModules: "/m"}}))
}

func TestLastWords(t *testing.T) {
	because := apache{}.LastWords("AH00558: apache2: Could not reliably\n" +
		"AH00526: Syntax error on line 9 of /c/httpd.conf:\nInvalid command 'LowTide'\n")
	assert.Equal(t, "AH00526: Syntax error on line 9 of /c/httpd.conf: Invalid command 'LowTide'", because)
	because = apache{}.LastWords("(98)Address already in use: AH00072: make_sock: could not bind " +
		"to address 127.0.0.1:18080\n")
	assert.Contains(t, because, "could not bind to address 127.0.0.1:18080")
	because = apache{}.LastWords("well")
	assert.Empty(t, because)
}

// Where the module files are on other systems, with a file of their shape in a tree of that system's.
func TestModuleFoldersOfOtherSystems(t *testing.T) {
	for system, c := range map[string]struct{ program, folder string }{
		"Debian":                  {"usr/sbin/apache2", "usr/lib/apache2/modules"},
		"Fedora":                  {"usr/sbin/httpd", "usr/lib64/httpd/modules"},
		"Arch":                    {"usr/bin/httpd", "usr/lib/httpd/modules"},
		"Alpine":                  {"usr/sbin/httpd", "usr/lib/apache2"},
		"Gentoo":                  {"usr/sbin/apache2", "usr/lib64/apache2/modules"},
		"openSUSE":                {"usr/sbin/httpd-event", "usr/lib64/apache2"},
		"openSUSE, a folder each": {"usr/sbin/httpd-event", "usr/lib64/apache2-event"},
		"macOS":                   {"usr/sbin/httpd", "usr/libexec/apache2"},
		"Homebrew":                {"opt/Cellar/httpd/2.4.62/bin/httpd", "opt/Cellar/httpd/2.4.62/lib/httpd/modules"},
		"compiled by hand":        {"usr/local/apache2/bin/httpd", "usr/local/apache2/modules"},
	} {
		root := t.TempDir()
		folders := []string{c.folder}
		if strings.HasSuffix(c.folder, "-event") {
			folders = append(folders, "usr/lib64/apache2-prefork", "usr/lib64/apache2-worker")
		}
		for _, dir := range folders {
			require.NoError(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(root, dir, "mod_proxy_fcgi.so"), nil, 0o644))
		}
		assert.Equal(t, filepath.Join(root, c.folder), moduleFolder(filepath.Join(root, c.program)), system)
	}
	assert.Empty(t, moduleFolder("/no/such/sbin/httpd"))
}

// A processing module that is built in is listed by its file's name alone, so the settings are asked, too.
func TestBuiltInProcessingModule(t *testing.T) {
	for mpm, want := range map[string]string{"event": "MinSpareThreads", "worker": "MinSpareThreads",
		"prefork": "MinSpareServers", "": "MinSpareThreads"} {
		v, facts, err := New().Inspect(t.Context(), "/bin/sh", func(_ string, args ...string) (string, error) {
			switch args[0] {
			case "-v":
				return "Server version: Apache/2.4.62 (Unix)\n", nil
			case "-l":
				return "Compiled in modules:\n  core.c\n  " + cmp.Or(mpm, "mod_so") + ".c\n  mod_proxy_fcgi.c\n", nil
			}
			return "Server loaded:  APR 1.7.4\nServer MPM:     " + mpm + "\n  threaded: yes\n", nil
		})
		require.NoError(t, err)
		assert.Equal(t, "2.4.62", v)
		files, err := New().Files(kind.Part{Facts: facts, Port: 18080, Version: v})
		require.NoError(t, err)
		assert.Contains(t, files[0].Text, want+" 1\n", mpm)
		assert.Equal(t, mpm == "", strings.Contains(files[0].Text, "LoadModule mpm_event_module"), mpm)
	}
}

// Apache before 2.4.47 refuses a word that newer ones need for web sockets.
func TestOlderApache(t *testing.T) {
	for version, want := range map[string]bool{"2.4.46": false, "2.4.47": true, "2.4.62": true} {
		files, err := New().Files(kind.Part{Port: 18080, Version: version,
			Sites: []kind.VirtualHost{{Host: "api.localhost", Proxy: "127.0.0.1:18000"}}})
		require.NoError(t, err)
		assert.Equal(t, want, strings.Contains(files[0].Text, "upgrade=websocket"), version)
		assert.Contains(t, files[0].Text, "flushpackets=on", version)
	}
}
