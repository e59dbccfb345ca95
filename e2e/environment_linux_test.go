package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The stores' own clients connect to the stack without options, as the application's user, even if two databases
// compete for the names without a prefix, and with no password on a command line.
func TestClientsReachStores(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", `name = "ledger"
[part.db]
kind = "mariadb"
[part.archive]
kind = "postgres"
[part.seats]
kind = "redis"
[part.notes]
kind = "sqlite"
`)
	w.must("start")
	run := func(args ...string) string {
		t.Helper()
		r := w.must(append([]string{"run", "--"}, args...)...)
		return strings.TrimSpace(r.stdout)
	}
	assert.Contains(t, run("mariadb", "-NBe", "SELECT CURRENT_USER(), DATABASE()"), "ledger@")
	assert.Contains(t, run("mysql", "-NBe", "SELECT CURRENT_USER(), DATABASE()"), "\tledger")
	run("mariadb", "-e", "CREATE TABLE boats (name TEXT); INSERT INTO boats VALUES ('Kelp')")
	for _, dump := range []string{"mariadb-dump", "mysqldump"} {
		assert.Contains(t, run(dump, "ledger"), "'Kelp'", dump)
	}
	assert.Equal(t, "ledger|ledger", run("psql", "-Atc", "SELECT current_user, current_database()"))
	assert.Contains(t, run("pg_dump", "--schema-only"), "PostgreSQL database dump")
	assert.Equal(t, "PONG", run("redis-cli", "ping"))
	assert.Equal(t, "PONG", run("sh", "-c", `redis-cli -u "$REDIS_URL" ping`))
	run("sh", "-c", "echo 'CREATE TABLE tides (h INT);' | sqlite3")
	assert.Equal(t, "tides", run("sh", "-c", "echo .tables | sqlite3"))
	assert.Equal(t, "3", run("sqlite3", ":memory:", "SELECT 3"), "another file is another file")
	for _, client := range []string{"mariadb", "psql", "redis-cli"} { // what another user sees of the process
		seen := run("sh", "-c", "("+client+" & sleep 0.3; cat /proc/$!/cmdline; kill $!) < /dev/zero | tr '\\0' ' '")
		secrets, err := os.ReadFile(w.stackPath("secrets.json"))
		require.NoError(t, err)
		for _, secret := range strings.Split(string(secrets), `"`) {
			if len(secret) > 20 {
				assert.NotContains(t, seen, secret, client)
			}
		}
	}
}

// run runs the command in the caller's folder, and in the project's folder if the caller names a stack.
func TestRunStandsInTheProject(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	w.write("deep/x.txt", "x")
	w.must("start")
	assert.Equal(t, w.dir+"\n", w.must("run", "--", "pwd").stdout)
	for _, args := range [][]string{{"-C", w.dir}, {"--stack", "night-boat"}, {"-C", filepath.Join(w.dir, "deep")}} {
		cmd := w.command(t.Context(), append(args, "run", "--", "pwd")...)
		cmd.Dir = "/"
		assert.Equal(t, w.dir+"\n", finish(t, cmd).stdout, "%v", args)
	}
	cmd := w.command(t.Context(), "run", "--", "pwd")
	cmd.Dir = filepath.Join(w.dir, "deep")
	assert.Equal(t, cmd.Dir+"\n", finish(t, cmd).stdout)
}

// A placeholder in [env] is known or rejected; those of sites are known, too.
func TestPlaceholders(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	file := builtin + "[env]\nAPP_URL = \"{site.night.url}\"\nAPP_AT = \"{site.night.host}:{site.night.port}\"\n" +
		"FORMAT = \"{{level}} {seats.port}\"\nJSON = '{\"a\":{\"b\":1}}'\n"
	w.write("dravit.toml", file)
	w.must("start")
	url := strings.TrimSuffix(w.status().Sites[0].URL, "/")
	env := w.must("run", "--", "env").stdout
	assert.Contains(t, env, "APP_URL="+url+"\n")
	assert.Contains(t, env, "APP_AT="+strings.TrimPrefix(url, "http://")+"\n")
	assert.Contains(t, env, fmt.Sprintf("FORMAT={level} %d\n", w.status().part(t, "seats").Port))
	assert.Contains(t, env, `JSON={"a":{"b":1}}`)
	for value, says := range map[string]string{
		"{site.day.url}": "no site is named", "{site.night.root}": "a site has no", "{store.port}": "",
		"{stores.port}": "no part is named",
		"{seats.prot}":  "a part has no", "{seats}": "is no placeholder", "{ seats.prot }": "a part has no",
		"{seats.port.x}": "is no placeholder",
	} {
		w.write("dravit.toml", builtin+"[env]\nX = \""+value+"\"\n")
		r := w.dravit("plan")
		if says == "" {
			assert.Equal(t, 0, r.code, value)
			continue
		}
		assert.Equal(t, 2, r.code, value)
		assert.Contains(t, r.stderr, says, value)
	}
	for command, code := range map[string]int{
		"./serve {port}": 0, "awk '{print}' ${HOME} {a,b} {port}": 0, "./serve {prot}": 2,
		"./serve {seats.port}": 2, "./serve {host}": 2,
	} {
		w.write(
			"dravit.toml",
			fmt.Sprintf(
				"name = \"x\"\n[part.seats]\nkind = \"dravit-cache\"\n[part.app]\nkind = \"custom\"\ncommand = %q\n",
				command,
			),
		)
		assert.Equal(t, code, w.dravit("plan").code, command)
	}
}

// A restart or a new setting does not log the developer out of a PHP application.
func TestSessionsOutliveRestarts(t *testing.T) {
	w := newWorld(t)
	file := "name = \"day-boat\"\n" + phpSite
	w.write("dravit.toml", file)
	w.write(
		"public/index.php",
		`<?php session_id("abc"); session_start(); $_SESSION["n"] = ($_SESSION["n"] ?? 0) + 1; echo $_SESSION["n"];`,
	)
	w.must("start")
	url := w.status().Sites[0].URL
	visit := func() string { _, body, _ := get(t, "GET", url, nil); return body }
	first := visit()
	w.must("stop")
	w.write(
		"dravit.toml",
		strings.Replace(file, "kind = \"php\"\n", "kind = \"php\"\nsettings = { memory_limit = \"99M\" }\n", 1),
	)
	w.must("start")
	assert.NotEqual(t, "1", visit(), "the session was %s before the restart", first)
}

// Programs of the stack trust its sites over HTTPS without set-up: Node.js, two ways of PHP, curl, Python.
func TestProgramsTrustTheStacksSites(t *testing.T) {
	w := newWorld(t)
	w.write(
		"dravit.toml",
		"name = \"day-boat\"\n"+strings.Replace(
			phpSite,
			"kind = \"php\"",
			"kind = \"php\"\nextensions = [\"openssl\"]",
			1,
		),
	)
	w.write("public/index.php", `<?php
$at = "127.0.0.1:" . ($_GET["port"] ?? "");
if (isset($_GET["port"])) {
    $c = stream_context_create(["ssl" => ["peer_name" => "day.localhost"],
		"http" => ["header" => "Host: day.localhost"]]);
    echo "PHP got: ", file_get_contents("https://$at/", false, $c);
} else echo "Day boat";`)
	w.must("start")
	port := w.book().HTTPSPort
	_, body, _ := get(t, "GET", w.status().Sites[0].URL+fmt.Sprintf("?port=%d", port), nil)
	assert.Equal(t, "PHP got: Day boat", body)
	node := fmt.Sprintf(
		`require("https").get({host: "127.0.0.1", port: %d, servername: "day.localhost", headers: {Host: `+
			`"day.localhost"}}, r => r.pipe(process.stdout))`,
		port,
	)
	assert.Equal(t, "Day boat", w.must("run", "--", "node", "-e", node).stdout)
	assert.Equal(
		t,
		"Day boat",
		w.must("run", "--", "curl", "-sS", fmt.Sprintf("https://day.localhost:%d/", port)).stdout,
	)
	python := fmt.Sprintf(`import ssl, socket
plain = socket.create_connection(("127.0.0.1", %d))
s = ssl.create_default_context().wrap_socket(plain, server_hostname="day.localhost")
print(s.version())`, port)
	assert.Contains(t, w.must("run", "--", "python3", "-c", python).stdout, "TLS")
	for _, name := range []string{"NODE_EXTRA_CA_CERTS", "SSL_CERT_FILE"} { // the caller's own word goes before
		cmd := w.command(t.Context(), "run", "--", "sh", "-c", "echo $"+name)
		cmd.Env = append(cmd.Env, name+"=/mine.pem")
		assert.Equal(t, "/mine.pem\n", finish(t, cmd).stdout)
	}
}
