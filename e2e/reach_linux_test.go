package e2e

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
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

// Dravit names what listens to the network without consent, and a port that another process has.
func TestWhatIsReallyOpen(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"open\"\n[part.api]\nkind = \"node\"\ncommand = \"exec node api.js\"\n[[site]]\n"+
		"name = \"api\"\napp = \"api\"\nlisten = \"network\"\n")
	w.write("api.js", `require("http").createServer((q, r) => r.end("api")).listen(process.env.PORT, "0.0.0.0");`)
	w.must("start", "--reachable", "api")
	part := w.status().part(t, "api")
	var s struct{ Reachable []reach }
	w.json(&s, "status")
	require.Len(t, s.Reachable, 2)
	assert.Equal(t, reach{Site: "api", Port: 8600, Open: true, Agreed: true, URLs: s.Reachable[0].URLs}, s.Reachable[0])
	assert.Equal(t, reach{Part: "api", Port: part.Port, Open: true, URLs: s.Reachable[1].URLs}, s.Reachable[1])
	assert.Contains(t, strings.Join(strings.Fields(w.must("status").stdout), " "),
		"you did not agree to that: make it listen on 127.0.0.1")
	w.must("stop")

	other, err := net.Listen("tcp", ":8600")
	require.NoError(t, err)
	defer other.Close()
	w.must("start")
	w.json(&s, "status")
	assert.Equal(t, 8601, s.Reachable[0].Port, "it moves")
	assert.True(t, s.Reachable[0].Open)
}

// Every start writes the stack's variables to a file for other tools, but never over a file that Dravit did not write.
func TestDotenv(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"vars\"\ndotenv = \".env.ferry\"\n[part.seats]\nkind = \"dravit-cache\"\n"+
		"[part.app]\nkind = \"php\"\n[[site]]\nname = \"vars\"\napp = \"app\"\n[env]\n"+
		"ODD = \"it's $HOME \\\"quoted\\\" #1\"\nPLAIN = \"a b\"\nSEATS = \"{seats.url}\"\n")
	w.write("public/index.php", "<?php echo 'here';")
	w.write(".env.ferry", "MINE=1\n")
	r := w.dravit("start")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, ".env.ferry is there already")
	file := filepath.Join(w.dir, ".env.ferry")
	require.NoError(t, os.Remove(file))
	w.must("start")
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	shell := w.command(t.Context())
	shell.Path, shell.Args = "/bin/sh",
		[]string{"sh", "-c", `. ./.env.ferry; printf '%s|%s|%s|%s' "$ODD" "$PLAIN" "$SEATS" "$SEATS_PORT"`}
	out := finish(t, shell)
	port := w.status().part(t, "seats").Port
	assert.Contains(t, out.stdout, "it's $HOME \"quoted\" #1|a b|redis://")
	assert.True(t, strings.HasSuffix(out.stdout, fmt.Sprintf("|%d", port)), out.stdout)
	node := w.command(t.Context())
	node.Path, node.Args = "/usr/bin/env", []string{"env", "node", "--env-file=.env.ferry", "-e",
		"process.stdout.write(process.env.PLAIN + process.env.SEATS_PORT)"}
	assert.Equal(t, fmt.Sprintf("a b%d", port), finish(t, node).stdout)

	// The port changes, and the file follows.
	w.must("stop")
	other, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	defer other.Close()
	w.must("start")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), fmt.Sprintf("SEATS_PORT='%d'", w.status().part(t, "seats").Port))
	assert.NotContains(t, string(text), fmt.Sprintf("'%d'", port))
	code, _, _ := get(t, "GET", w.status().site("vars")+".env.ferry", nil)
	assert.Equal(t, 404, code)
}

// Every start brings single lines of the project's own file up to date. A task may create that file.
func TestDotenvOfTheProject(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	stackFile := "name = \"lines\"\ndotenv = { file = \".env\", keys = [\"SEATS_PORT\", \"PLAIN\"] }\n" +
		"[part.seats]\nkind = \"dravit-cache\"\n[env]\nPLAIN = \"a b\"\n[[task]]\nname = \"config\"\n" +
		"command = \"test -e .env || cp .env.example .env\"\nwhen = \"every-start\"\n"
	w.write("dravit.toml", strings.Replace(stackFile, "SEATS_PORT", "SEAT_PORT", 1))
	r := w.dravit("start")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "dotenv names SEAT_PORT, which is no variable of the stack")

	w.write("dravit.toml", stackFile)
	own := "# ours\nNAME=\"Ferry\"\nexport SEATS_PORT=1 # seats\n\n#PLAIN=no\n"
	w.write(".env.example", own)
	require.NoError(t, os.Chmod(filepath.Join(w.dir, ".env.example"), 0o640))
	w.must("start")
	port := w.status().part(t, "seats").Port
	want := fmt.Sprintf("# ours\nNAME=\"Ferry\"\nexport SEATS_PORT=%d # seats\n\n#PLAIN=no\nPLAIN='a b'\n", port)
	file := filepath.Join(w.dir, ".env")
	assert.Equal(t, want, content(t, file))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.EqualValues(t, 0o640, info.Mode().Perm(), "its mode is the project's")

	// The file is a link of the project's, the port changes, and somebody wrote to another line.
	w.must("stop")
	require.NoError(t, os.Rename(file, filepath.Join(w.dir, "here.env")))
	require.NoError(t, os.Symlink("here.env", file))
	w.write("here.env", strings.Replace(want, "Ferry", "Night ferry", 1))
	other, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	defer other.Close()
	w.must("start")
	moved := w.status().part(t, "seats").Port
	assert.NotEqual(t, port, moved)
	want = strings.NewReplacer("Ferry", "Night ferry", fmt.Sprint(port), fmt.Sprint(moved)).Replace(want)
	assert.Equal(t, want, content(t, filepath.Join(w.dir, "here.env")))
	link, err := os.Readlink(file)
	require.NoError(t, err)
	assert.Equal(t, "here.env", link)

	// What is no file of lines stays, and is named.
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Mkdir(file, 0o755))
	r = w.dravit("start")
	assert.NotZero(t, r.code)
	assert.Contains(t, r.stderr, ".env was not brought up to date")
}
