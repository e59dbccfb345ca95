package nginx

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
)

func TestQuote(t *testing.T) {
	for in, want := range map[string]string{
		"/plain":               `"/plain"`,
		`/a b/"c"\d`:           `"/a b/\"c\"\\d"`,
		"/costs $5/$host;}":    `"/costs ${dollar}5/${dollar}host;}"`,
		"/Fähre\n}server{evil": "\"/Fähre\n}server{evil\"",
	} {
		assert.Equal(t, want, quote(in))
	}
}

func TestFiles(t *testing.T) {
	files, err := New().Files(kind.Part{Socket: "/tmp/d/web.sock", Temp: "/t", Sites: []kind.VirtualHost{
		{
			Host:  "ferry.localhost",
			Root:  "/projects/ferry/public",
			FPM:   "/tmp/d/app.sock",
			Probe: "/c/probe.php",
		},
		{Host: "files.localhost", Root: "/projects/files"},
		{Host: "api.localhost", Proxy: "127.0.0.1:18000"},
	}})
	require.NoError(t, err)
	text := files[0].Text
	for _, want := range []string{
		`listen "unix:/tmp/d/web.sock" default_server;`, `server_name "ferry.localhost";`,
		`fastcgi_pass "unix:/tmp/d/app.sock";`,
		`fastcgi_param SCRIPT_FILENAME "/c/probe.php";`, "proxy_pass http://127.0.0.1:18000;",
		"daemon off;", "access_log off;",
		"fastcgi_param SERVER_PORT $http_x_forwarded_port;",
	} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "include", "no system file is read")
}

func TestLastWords(t *testing.T) {
	because := nginx{}.LastWords("2026/11/23 [notice] x\n" +
		"2026/11/23 10:00:00 [emerg] 12#12: bind() to 0.0.0.0:80 failed (98: Address already in use)\n")
	assert.Equal(t, "bind() to 0.0.0.0:80 failed (98: Address already in use)", because)
	because = nginx{}.LastWords("nothing")
	assert.Empty(t, because)
}

// nginx before 1.19.5 does not know -e, and some builds have no geo: it is written only where a path holds a dollar.
func TestOtherBuilds(t *testing.T) {
	for version, want := range map[string]bool{"1.18.0": false, "1.19.4": false, "1.19.5": true, "1.28.0": true} {
		p := kind.Part{Version: version}
		for _, c := range []kind.Command{New().Command(p), New().Test(p)} {
			assert.Equal(t, want, slices.Contains(c.Args, "-e"), version)
		}
	}
	for root, want := range map[string]bool{"/projects/ferry": false, "/projects/fe$rry": true} {
		files, err := New().Files(kind.Part{Sites: []kind.VirtualHost{{Host: "ferry.localhost", Root: root}}})
		require.NoError(t, err)
		assert.Equal(t, want, strings.Contains(files[0].Text, "geo $dollar"), root)
	}
}
