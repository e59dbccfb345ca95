package e2e

import (
	"fmt"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// neighbour gives the namespace an address, and returns a function that sends requests from another machine in its
// network.
func (n *namespace) neighbour(t *testing.T) (ask func(script string) result) {
	t.Helper()
	r := n.sh(t, true, `
unshare --net sleep 600 >/dev/null 2>&1 & other=$!
for i in $(seq 100); do
	[ "$(readlink /proc/$other/ns/net)" != "$(readlink /proc/self/ns/net)" ] && break
	sleep 0.02
done
ip link add here type veth peer name there netns $other
ip addr add 10.77.0.1/24 dev here && ip link set here up
nsenter --target $other --net sh -c 'ip addr add 10.77.0.2/24 dev there && ip link set there up && ip link set lo up'
echo $other`)
	require.Equal(t, 0, r.code, r.all())
	pid := strings.TrimSpace(r.stdout)
	t.Cleanup(func() { n.sh(t, true, "kill "+pid) })
	return func(script string) result { return n.sh(t, true, "nsenter --target "+pid+" --net sh -c '"+script+"'") }
}

type reach struct {
	Site, Part   string
	Port         int
	Open, Agreed bool
	URLs         []string
}

// Other machines reach a site only if the stack file asks for it and the user agreed. The application sees what the
// client wrote, everything else stays on loopback, and Dravit says what is really open.
func TestReachableFromOutside(t *testing.T) {
	if !asRoot {
		t.Skip("only root can make a network")
	}
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		t.Run(server, func(t *testing.T) {
			w := newWorld(t)
			w.write("dravit.toml", fmt.Sprintf(`name = "open"
[part.web]
kind = %q
[part.app]
kind = "php"
[part.seats]
kind = "dravit-cache"
[part.api]
kind = "node"
command = "exec node api.js"
[[site]]
name = "ferry"
app = "app"
listen = "network"
[[site]]
name = "crew"
app = "app"
[[site]]
name = "api"
app = "api"
listen = "network"
`, server))
			w.write("public/index.php", `<?php echo implode(" ", [$_SERVER["HTTP_HOST"], $_SERVER["SERVER_PORT"], `+
				`$_SERVER["REMOTE_ADDR"], $_SERVER["HTTP_DRAVIT_VISITED"] ?? "-"]);`)
			w.write("public/deep/index.html", "deep")
			w.write("api.js",
				`require("http").createServer((q, r) => r.end(q.headers.host + " " + (q.headers["dravit-visited"] ||`+
					` "-"))).listen(process.env.PORT, "127.0.0.1");`)
			n := newNamespace(w, "")
			ask := n.neighbour(t)
			r := n.must(t, "start")
			assert.Contains(t, strings.Join(strings.Fields(r.stdout), " "),
				"the site ferry asks to be reachable from your network")
			assert.Contains(t, n.must(t, "status").stdout, "reachable from this machine only")
			assert.NotEqual(t, 0, ask("curl -sS --max-time 2 http://10.77.0.1:8600/").code)

			n.must(t, "start", "--reachable", "ferry,api")
			status := n.must(t, "status").stdout
			assert.Contains(t, status, "other machines can reach the site ferry: http://10.77.0.1:8600/")
			assert.Equal(t, "10.77.0.1:8600 8600 10.77.0.2 -",
				ask("curl -sS --max-time 5 http://10.77.0.1:8600/").stdout)
			assert.Equal(t, "10.77.0.1:8601 -", ask("curl -sS --max-time 5 http://10.77.0.1:8601/").stdout)
			assert.Contains(t, ask("curl -sS --max-time 5 -o /dev/null -w %{http_code}:%{redirect_url} "+
				"http://10.77.0.1:8600/deep").stdout, ":http://10.77.0.1:8600/deep/")
			assert.Equal(t, "404",
				ask("curl -sS --max-time 5 -o /dev/null -w %{http_code} http://10.77.0.1:8600/.dravit/route").stdout)
			assert.Equal(t, "404",
				ask("curl -sS --max-time 5 -o /dev/null -w %{http_code} http://10.77.0.1:8600/.dravit/probe").stdout)
			// No other port is open to it.
			outside := n.sh(t, true,
				"ss -Hltn | awk '{print $4}' | grep -v -e '^127\\.' -e '^\\[::1\\]' | sort -u").stdout
			assert.Equal(t, "*:8600\n*:8601\n", outside)
			for _, port := range []string{"8080", "8443"} {
				assert.NotEqual(t, 0, ask("curl -sS --max-time 2 http://10.77.0.1:"+port+"/").code, port)
			}
			n.must(t, "check")

			// The consent is kept, can be withdrawn for one site, and ends with the stack.
			n.must(t, "stop")
			assert.Empty(t, n.sh(t, true, "ss -Hltn sport = :8600").stdout)
			n.must(t, "start")
			assert.Equal(t, 0, ask("curl -sS --max-time 5 http://10.77.0.1:8600/").code)
			n.must(t, "start", "--unreachable", "api")
			assert.NotEqual(t, 0, ask("curl -sS --max-time 2 http://10.77.0.1:8601/").code)
			assert.Equal(t, 0, ask("curl -sS --max-time 5 http://10.77.0.1:8600/").code)
			assert.NotContains(t, n.must(t, "start").stdout, "asks to be reachable", "it was said")
			r = n.dravit(t, "start", "--reachable", "crew")
			assert.Equal(t, 2, r.code)
			assert.Contains(t, r.stderr, "no site crew has listen")
			n.must(t, "stop")
		})
	}
}

// A part that listens to other machines without consent is stopped, and why is said; --yes is no consent.
func TestWhatIsReallyOpen(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"open\"\n[part.api]\nkind = \"node\"\ncommand = \"npm start\"\n[part.tides]\n"+
		"kind = \"python\"\ncommand = \"exec python3 -m http.server {port}\"\n[[site]]\n"+
		"name = \"api\"\napp = \"api\"\nlisten = \"network\"\n[[site]]\nname = \"tides\"\napp = \"tides\"\n")
	w.write("package.json", `{"scripts": {"start": "node api.js"}}`)
	w.write("api.js", `require("http").createServer((q, r) => r.end("api")).listen(process.env.PORT, "0.0.0.0");`)
	r := w.dravit("start", "--yes", "--reachable", "api")
	assert.Equal(t, 1, r.code, r.all())
	assert.Contains(t, flat(r.stderr), "it listens on 0.0.0.0:")
	assert.Contains(t, flat(r.stderr), "open to other machines without your consent")
	assert.Contains(t, flat(r.stderr), "dravit start --reachable part.tides")
	assert.Equal(t, "failed", w.status().part(t, "tides").State)
	assert.Contains(t, flat(w.dravit("diagnose").stdout), "part tides listens to other machines, and you did not agree")
	var s struct{ Reachable []reach }
	w.json(&s, "status")
	require.Len(t, s.Reachable, 1, "Node.js listens on loopback by itself")
	assert.Equal(t, reach{Site: "api", Port: 8600, Open: true, Agreed: true, URLs: s.Reachable[0].URLs}, s.Reachable[0])

	w.must("start", "--reachable", "part.tides")
	tides := w.status().part(t, "tides")
	w.json(&s, "status")
	require.Len(t, s.Reachable, 2)
	assert.Equal(t, reach{Part: "tides", Port: tides.Port, Open: true, Agreed: true, URLs: s.Reachable[1].URLs},
		s.Reachable[1])

	// It opens itself later on.
	w.write("api.js", `require("http").createServer((q, r) => { r.end("api");
require("child_process").exec("exec python3 -m http.server 18999") }).listen(process.env.PORT);`)
	w.must("restart", "api")
	w.eventually("the part is stopped", func() bool { return w.status().part(t, "api").State == "failed" })
	assert.Contains(t, w.status().part(t, "api").Because, "it listens on 0.0.0.0:18999")
	w.must("stop")

	other, err := net.Listen("tcp", ":8600")
	require.NoError(t, err)
	defer other.Close()
	w.write("api.js", `require("http").createServer((q, r) => r.end("api")).listen(process.env.PORT);`)
	w.must("start")
	w.json(&s, "status")
	assert.Equal(t, 8601, s.Reachable[0].Port, "it moves")
	assert.True(t, s.Reachable[0].Open)
}
