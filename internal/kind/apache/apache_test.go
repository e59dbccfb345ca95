package apache

import (
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
