package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// faults are all faults that the suite makes.
var faults = slices.Concat(dataFaults, connectionFaults, settingFaults, portFaults, commandFaults,
	pageFaults, siteFileFaults, taskFaults, outsideFaults, machineFaults)

// dataFaults spoil the data of a store.
var dataFaults = []fault{
	{name: "data folder of somebody else's", stack: maria, breaks: restart(func(t *testing.T, w *world) {
		require.NoError(t, os.Chown(w.stackPath("data", "db", "ibdata1"), 0, 0))
	}), cause: "data-owner", subject: "part.db", says: "belongs to root", root: true},
	{name: "closed data folder of MariaDB", stack: maria, breaks: restart(chmod(0, "data", "db", "mysql")),
		cause: "data-mode", subject: "part.db", says: "chmod -R u+rwX", fixes: true},
	{name: "closed data file of Redis", stack: "[part.seats]\nkind = \"redis\"\n", breaks: restart(chmod(0, "data",
		"seats", "appendonlydir")), cause: "data-mode", subject: "part.seats", fixes: true},
	{name: "closed data folder of PostgreSQL", stack: post, breaks: restart(chmod(0, "data", "db", "base")),
		cause: "data-mode", subject: "part.db", fixes: true},
	{name: "open data folder of PostgreSQL", stack: post, breaks: restart(chmod(0o777, "data", "db")),
		cause: "data-mode", subject: "part.db", says: "only its account may read"},
	{name: "damaged data of MariaDB", stack: maria, breaks: restart(func(t *testing.T, w *world) {
		for _, f := range []string{"ib_logfile0", "ibdata1"} {
			require.NoError(t,
				os.WriteFile(w.stackPath("data", "db", f), []byte(strings.Repeat("wreck", 4000)), 0o600))
		}
	}), cause: "data-damaged", subject: "part.db"},
	{name: "damaged data of PostgreSQL", stack: post, breaks: restart(func(t *testing.T, w *world) {
		require.NoError(t, os.Remove(w.stackPath("data", "db", "global", "pg_control")))
	}), cause: "data-damaged", subject: "part.db"},
	{name: "damaged data of Redis", stack: "[part.seats]\nkind = \"redis\"\n",
		breaks: restart(func(t *testing.T, w *world) {
			files, _ := filepath.Glob(w.stackPath("data", "seats", "appendonlydir", "*.incr.aof"))
			require.Len(t, files, 1)
			require.NoError(t, os.WriteFile(files[0], []byte("wreck wreck wreck\n"), 0o600))
		}), cause: "data-damaged", subject: "part.seats"},
}

// connectionFaults use up what a store can serve.
var connectionFaults = []fault{
	{name: "connections of MariaDB", stack: maria, files: map[string]string{"hold.php": holdMaria}, breaks: hold,
		cause: "connections-used-up", subject: "part.db", says: "151 of php (pid "},
	{name: "connections of PostgreSQL", stack: post, files: map[string]string{"hold.php": holdPost}, breaks: hold,
		cause: "connections-used-up", subject: "part.db", says: "settings = { max_connections = "},
}

// settingFaults are settings that a server refuses.
var settingFaults = []fault{
	{name: "value of PHP's in a .htaccess", stack: "[part.web]\nkind = \"apache\"\n" + phpSite,
		files: map[string]string{"public/index.php": hello, "public/.htaccess": "php_value memory_limit 99M\n"},
		cause: "directive-refused", subject: "site.day", says: "settings = {"},
	{name: "setting of MariaDB", stack: maria + "settings = { sql_mode = 'low_tide' }\n", cause: "setting-refused",
		subject: "part.db", says: "sql_mode"},
	{name: "setting of PostgreSQL", stack: post,
		breaks: restart(edit("\"postgres\"\n", "\"postgres\"\nsettings = { low_tide = 3 }\n")),
		cause:  "setting-refused", subject: "part.db", says: "low_tide"},
	{name: "value of PostgreSQL", stack: post,
		breaks: restart(edit("\"postgres\"\n", "\"postgres\"\nsettings = { max_connections = \"many\" }\n")),
		cause:  "setting-refused", subject: "part.db", says: "max_connections"},
	{name: "setting of Redis", stack: "[part.seats]\nkind = \"redis\"\nsettings = { low-tide = 3 }\n",
		cause: "setting-refused", subject: "part.seats", says: "low-tide"},
	{name: "directive of nginx", stack: "[part.web]\nkind = \"nginx\"\n[[site]]\nname = \"day\"\n" +
		"include = \"x.conf\"\n", files: map[string]string{"public/index.html": hello, "x.conf": "\nLowTide on;\n"},
		cause: "directive-refused", subject: "part.web", says: "x.conf"},
	{name: "directive of Apache", stack: "[part.web]\nkind = \"apache\"\n[[site]]\nname = \"day\"\n" +
		"include = \"x.conf\"\n", files: map[string]string{"public/index.html": hello, "x.conf": "\nLowTide on\n"},
		cause: "directive-refused", subject: "part.web", says: "line 2"},
	{name: ".htaccess", stack: "[part.web]\nkind = \"apache\"\n" + phpSite,
		files: map[string]string{"public/index.php": hello, "public/.htaccess": "LowTide on\n"},
		cause: "directive-refused", subject: "site.day", says: ".htaccess"},
}

// portFaults take what a part listens on.
var portFaults = []fault{
	{name: "stolen port", stack: "[part.seats]\nkind = \"redis\"\n", breaks: func(t *testing.T, w *world) {
		p := w.status().part(t, "seats")
		kill(t, w.keeperPID())
		kill(t, p.PID)
		var l net.Listener
		for range 500 {
			if l, _ = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", p.Port)); l != nil {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		require.NotNil(t, l)
		t.Cleanup(func() { l.Close() })
		w.eventually("it gives up", func() bool {
			s := w.status().part(t, "seats").State
			return s == "failed" || s == "pausing"
		})
	}, cause: "port-taken", subject: "part.seats", says: "was taken by"},
	{name: "stolen port of the gateway", stack: "[[site]]\nname = \"day\"\n",
		files: map[string]string{"public/index.html": hello}, breaks: func(t *testing.T, w *world) {
			port := w.book().HTTPPort
			pids := w.gatewayPIDs()
			require.Len(t, pids, 1)
			kill(t, pids[0])
			var l net.Listener
			for l == nil {
				l, _ = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
			}
			t.Cleanup(func() { l.Close() })
			go func() {
				for conn, err := l.Accept(); err == nil; conn, err = l.Accept() {
					conn.Close()
				}
			}()
		}, cause: "gateway-port-taken", subject: "gateway", says: "is held by"},
	{name: "pinned port taken", stack: "[part.seats]\nkind = \"redis\"\nport = 28713\n",
		breaks: func(t *testing.T, w *world) {
			w.must("stop")
			l, err := net.Listen("tcp", "127.0.0.1:28713")
			require.NoError(t, err)
			t.Cleanup(func() { l.Close() })
		}, cause: "no-plan", subject: "part.seats.port", says: "28713"},
	{name: "port written into the program", stack: nodeSite,
		files: node(`require("http").createServer((q, r) => r.end("x")).listen(28714, "127.0.0.1")`), breaks: nil,
		cause: "listens-elsewhere", subject: "part.app", says: "28714"},
	{name: "server on every address", stack: "[part.app]\nkind = \"python\"\ncommand = \"exec python3 -m http.server " +
		"{port}\"\n[[site]]\nname = \"day\"\napp = \"app\"\n",
		cause: "listens-to-network", subject: "part.app", says: "dravit start --reachable part.app"},
	{name: "fixed port that is taken", stack: nodeSite,
		files: node(`require("http").createServer((q, r) => r.end("x")).listen(28715, "127.0.0.1")`),
		breaks: func(t *testing.T, w *world) {
			l, err := net.Listen("tcp", "127.0.0.1:28715")
			require.NoError(t, err)
			t.Cleanup(func() { l.Close() })
			w.dravit("start", "--timeout", "5s")
		}, cause: "port-fixed", subject: "part.app", says: "28715"},
}

// commandFaults are in the project's own command.
var commandFaults = []fault{
	{name: "no such command", stack: "[part.app]\nkind = \"custom\"\ncommand = \"exec lowtide --serve\"\n",
		cause: "command-missing", subject: "part.app", says: "lowtide"},
	{name: "command that may not run", stack: "[part.app]\nkind = \"custom\"\ncommand = \"exec ./serve.sh\"\n",
		files: map[string]string{"serve.sh": "#!/bin/sh\n"}, cause: "command-forbidden",
		subject: "part.app", says: "serve.sh"},
	{name: "command that is no server", stack: "[part.app]\nkind = \"custom\"\ncommand = \"true\"\n",
		cause: "ends-at-once", subject: "part.app"},
	{name: "run that fails", stack: "[part.tides]\nkind = \"custom\"\ncommand = \"echo low tide; exit 3\"\n" +
		"listens = false\nevery = \"1h\"\n", cause: "run-failed", subject: "part.tides", says: "low tide"},
	{name: "worker whose proof fails", stack: "[part.tides]\nkind = \"custom\"\ncommand = \"exec sleep 300\"\n" +
		"listens = false\nproof = { command = \"echo ebb; exit 4\" }\n", cause: "proof-failed",
		subject: "part.tides", says: "exit code 4: ebb"},
	{name: "server that never listens", stack: "[part.app]\nkind = \"custom\"\ncommand = \"exec sleep 300\"\n",
		cause: "does-not-listen", subject: "part.app"},
	{name: "missing package of Node's", stack: nodeSite, files: node(`require("low-tide")`),
		cause: "packages-missing", subject: "part.app", says: "npm install"},
	{name: "missing package of Python's", stack: "[part.app]\nkind = \"python\"\n" +
		"command = \"exec python3 app.py\"\n", files: map[string]string{"app.py": "import low_tide\n"},
		cause: "packages-missing", subject: "part.app", says: "low_tide"},
	{name: "missing library of Ruby's", stack: "[part.app]\nkind = \"ruby\"\ncommand = \"exec ruby app.rb\"\n",
		files: map[string]string{"app.rb": "require 'low_tide'\n"}, cause: "packages-missing",
		subject: "part.app", says: "low_tide"},
	{name: "syntax error of Node's", stack: nodeSite, files: node("let = = 3;"),
		cause: "script-syntax", subject: "part.app"},
	{name: "too many open files",
		stack: "[part.app]\nkind = \"node\"\ncommand = \"ulimit -n 40; exec node app.js\"\n",
		files: node(`const fs = require("fs"); for (let i = 0; i < 100; i++) fs.openSync("/dev/null");`),
		cause: "too-many-open-files", subject: "part.app"},
	{name: "no memory",
		stack: "[part.app]\nkind = \"node\"\ncommand = \"exec node --max-old-space-size=16 app.js\"\n",
		files: node(`const all = []; for (;;) all.push(new Array(1e5).fill(all.length));`), cause: "memory-limit",
		subject: "part.app", says: "heap"},
	{name: "crashes by itself", stack: nodeSite, files: node(`console.error("low tide"); process.exit(3)`),
		cause: "crashed", subject: "part.app", says: "low tide"},
	{name: "wrong password in the program",
		stack: "[part.seats]\nkind = \"redis\"\n" + strings.Replace(nodeSite, "uses = []\n", "", 1),
		files: node(`const s = require("net").connect(process.env.SEATS_PORT, "127.0.0.1"); s.write("AUTH ` +
			`wrong\r\n"); s.on("data", d => { console.error(String(d)); process.exit(1) })`),
		cause: "wrong-password", subject: "part.app"},
	{name: "store in another place", stack: nodeSite, files: node(`require("net").connect(28716, "127.0.0.1")`),
		cause: "store-elsewhere", subject: "part.app", says: "28716"},
}

// pageFaults show in a page.
var pageFaults = []fault{
	{name: "tables missing", stack: maria + phpSite, files: page(`<?php $d = new mysqli($_ENV["DB_HOST"] ?? ` +
		`getenv("DB_HOST"), getenv("DB_USER"), getenv("DB_PASSWORD"), getenv("DB_DATABASE"), ` +
		`(int)getenv("DB_PORT")); $d->query("SELECT * FROM sailings");`), cause: "tables-missing",
		subject: "site.day", says: "sailings"},
	{name: "database missing", stack: maria + phpSite, files: page(`<?php new mysqli(getenv("DB_HOST"), ` +
		`getenv("DB_USER"), getenv("DB_PASSWORD"), "lowtide", (int)getenv("DB_PORT"));`),
		cause: "wrong-password", subject: "site.day"},
	{name: "database missing in PostgreSQL", stack: post + phpSite,
		files: page(`<?php new PDO("pgsql:host=127.0.0.1;port=".getenv("DB_PORT").";dbname=lowtide", ` +
			`getenv("DB_USER"), getenv("DB_PASSWORD"));`), cause: "database-missing",
		subject: "site.day", says: "lowtide"},
	{name: "wrong password in a page", stack: maria + phpSite,
		files: page(`<?php new mysqli("127.0.0.1", "root", "", "", (int)getenv("DB_PORT"));`),
		cause: "wrong-password", subject: "site.day", says: "root"},
	{name: "wrong port in Django", stack: post + djangoPart,
		files: map[string]string{"site.py": django("os.environ['DB_PASSWORD']", "'28719'")},
		cause: "store-elsewhere", subject: "part.app", says: "DB_PORT"},
	{name: "wrong password in Django", stack: post + djangoPart,
		files: map[string]string{"site.py": django("'low tide'", "os.environ['DB_PORT']")},
		cause: "wrong-password", subject: "part.app", says: "read DB_USER and DB_PASSWORD"},
	{name: "wrong password in Node.js", stack: post + strings.Replace(nodeSite, "uses = []\n", "", 1),
		files: node(pgNode), prepare: linkPackages,
		cause: "wrong-password", subject: "part.app", says: "read DB_USER and DB_PASSWORD"},
	{name: "wrong port in Ruby", stack: post + rubyPart,
		files: map[string]string{"app.rb": pgRuby("28720", "ENV['DB_PASSWORD']")},
		cause: "store-elsewhere", subject: "part.app", says: "DB_PORT"},
	{name: "wrong password in Ruby", stack: post + rubyPart,
		files: map[string]string{"app.rb": pgRuby("ENV['DB_PORT']", "'low tide'")},
		cause: "wrong-password", subject: "part.app", says: "read DB_USER and DB_PASSWORD"},
	{name: "page cut off, errors in the log alone", stack: "[part.app]\nkind = \"php\"\n" +
		"settings = { display_errors = false }\n[[site]]\nname = \"day\"\napp = \"app\"\n",
		files: page(`<html><h1>Sailings</h1><?php echo str_repeat(" ", 9000); flush(); lowTide();`),
		cause: "application-error", subject: "site.day", says: "lowTide"},
	{name: "store elsewhere in a page", stack: maria + phpSite,
		files: page(`<?php new mysqli("127.0.0.1", "ada", "x", "ferry", 28717);`), cause: "store-elsewhere",
		subject: "site.day", says: "refused"},
	{name: "store that the stack does not have", stack: maria + phpSite,
		files: page(`<?php (new Redis())->connect("127.0.0.1", 28721);`), cause: "store-lacking",
		subject: "site.day", says: `kind = "redis"`},
	{name: "port in a file of an installer's", stack: maria + phpSite,
		files: map[string]string{
			"public/config.php": "<?php return 0;\n",
			"public/index.php": `<?php $port = include "config.php"; ` +
				`if ($port) new mysqli("127.0.0.1", getenv("DB_USER"), getenv("DB_PASSWORD"), "", $port);`,
		}, breaks: restart(func(t *testing.T, w *world) {
			port := planned(t, w.plan(), "db").Port
			w.write("public/config.php", fmt.Sprintf("<?php\nreturn %d;\n", port))
			l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
			require.NoError(t, err)
			t.Cleanup(func() { l.Close() })
			go func() {
				for conn, err := l.Accept(); err == nil; conn, err = l.Accept() {
					conn.Close()
				}
			}()
		}), cause: "port-old", subject: "part.db", says: "in line 2 of public/config.php"},
	{name: "packages of Composer's", stack: phpSite,
		files: page(`<?php require __DIR__."/../vendor/autoload.php";`), cause: "packages-missing",
		subject: "site.day", says: "composer install"},
	{name: "extension not loaded: a class",
		stack: "[part.app]\nkind = \"php\"\nextensions = [\"intl\"]\n[[site]]\nname = \"day\"\napp = \"app\"\n",
		files: page(`<?php new Redis();`), cause: "extension-not-loaded", subject: "site.day", says: "Redis"},
	{name: "extension not loaded: a function", stack: "[part.app]\nkind = \"php\"\nextensions = [\"redis\"]\n" +
		"[[site]]\nname = \"day\"\napp = \"app\"\n", files: page(`<?php intl_get_error_code();`),
		cause: "extension-not-loaded", subject: "site.day", says: "intl_get_error_code"},
	{name: "extension not loaded: a driver", stack: "[part.app]\nkind = \"php\"\nextensions = [\"redis\"]\n" +
		"[[site]]\nname = \"day\"\napp = \"app\"\n", files: page(`<?php new PDO("mysql:host=x");`),
		cause: "extension-not-loaded", subject: "site.day", says: "pdo_mysql"},
	{name: "extension's file gone", stack: ownExtension, prepare: ownRedis, files: page(hello),
		breaks: func(t *testing.T, w *world) {
			require.NoError(t, os.Remove(filepath.Join(w.dir, "own", "redis.so")))
			w.crash("app")
		}, cause: "extension-file-missing", subject: "part.app", says: "own/redis.so"},
	{name: "extension's file of another PHP", stack: ownExtension, prepare: ownRedis, files: page(hello),
		breaks: func(t *testing.T, w *world) {
			copyFile(t, filepath.Join(beside(t), "7.4/tree/usr/lib/php/20190902/redis.so"),
				filepath.Join(w.dir, "own", "redis.so"))
			w.crash("app")
		}, cause: "extension-other-build", subject: "part.app", says: "own/redis.so"},
	{name: "function disabled", stack: "[part.app]\nkind = \"php\"\nsettings = { disable_functions = \"exec\" }\n" +
		"[[site]]\nname = \"day\"\napp = \"app\"\n", files: page(`<?php exec("ls");`), cause: "function-disabled",
		subject: "site.day", says: "exec()"},
	{name: "requirement unmet", stack: "[part.app]\nkind = \"php\"\nrequires = { writable = [\"cache\"] }\n" +
		"[[site]]\nname = \"day\"\napp = \"app\"\n", files: page(hello), cause: "requirement-unmet",
		subject: "part.app", says: "cache"},
	{name: "memory limit of PHP", stack: "[part.app]\nkind = \"php\"\nsettings = { memory_limit = \"16M\" }\n" +
		"[[site]]\nname = \"day\"\napp = \"app\"\n", files: page(`<?php str_repeat("tide", 9000000);`),
		cause: "memory-limit", subject: "site.day", says: "memory_limit"},
	{name: "time limit of PHP", stack: "[part.app]\nkind = \"php\"\nsettings = { max_execution_time = 1 }\n" +
		"[[site]]\nname = \"day\"\napp = \"app\"\n", files: page(`<?php for (;;);`),
		cause: "time-limit", subject: "site.day"},
	{name: "syntax error of PHP", stack: phpSite, files: page(`<?php echo "low tide`), cause: "script-syntax",
		subject: "site.day", says: "index.php"},
	{name: "folder that PHP may not write", stack: phpSite,
		files: map[string]string{"public/index.php": `<?php if (!file_put_contents(__DIR__."/../cache/x", "x")) ` +
			`throw new Exception("no cache");`, "cache/.keep": ""}, breaks: func(t *testing.T, w *world) {
			require.NoError(t, os.Chmod(filepath.Join(w.dir, "cache"), 0o500))
			w.dravit("start", "--timeout", "5s")
		}, cause: "folder-unwritable", subject: "site.day", says: "cache/x"},
	{name: "folder that PHP misses", stack: phpSite, files: page(`<?php ` +
		`if (!file_put_contents(__DIR__."/../cache/x", "x")) throw new Exception("no cache");`),
		cause: "folder-missing", subject: "site.day", says: "writable = ["},
	{name: "file that PHP may not read", stack: phpSite,
		files: map[string]string{"public/index.php": `<?php require __DIR__."/../lib.php";`, "lib.php": "<?php"},
		breaks: func(t *testing.T, w *world) {
			require.NoError(t, os.Chmod(filepath.Join(w.dir, "lib.php"), 0))
			w.dravit("restart", "app") // its cache of compiled files may have it
		}, cause: "file-unreadable", subject: "site.day", says: "lib.php"},
	{name: "socket taken", stack: "[part.web]\nkind = \"nginx\"\n[[site]]\nname = \"day\"\n",
		files: map[string]string{"public/index.html": hello}, breaks: func(t *testing.T, w *world) {
			socket := w.status().part(t, "web").Socket
			w.must("stop")
			require.NoError(t, os.MkdirAll(filepath.Dir(socket), 0o700))
			l, err := net.Listen("unix", socket)
			require.NoError(t, err)
			w.own(filepath.Dir(socket))
			t.Cleanup(func() { l.Close() })
			w.dravit("start", "--timeout", "5s")
		}, cause: "socket-taken", subject: "part.web", says: "web.sock"},
	{name: "another server on the data", stack: post, breaks: restart(func(t *testing.T, w *world) {
		other := w.command(t.Context())
		other.Path = "/usr/lib/postgresql/15/bin/postgres"
		other.Args = []string{"postgres", "-D", w.stackPath("data", "db"), "-k", filepath.Dir(w.home), "-h", ""}
		require.NoError(t, other.Start())
		t.Cleanup(func() { _ = other.Process.Signal(syscall.SIGQUIT); _ = other.Wait() })
		w.eventually("it runs", func() bool { return fileExists(w.stackPath("data", "db", "postmaster.pid")) })
	}), cause: "data-locked", subject: "part.db", says: "another PostgreSQL"},
	{name: "certificate that the page does not trust", stack: phpSite, files: page(hello),
		breaks: askOverHTTPS(`"cafile" => "/etc/ssl/certs/ca-certificates.crt", "peer_name" => "day.localhost"`),
		cause:  "certificate-untrusted", subject: "site.day", says: "names certificate on"},
	{name: "certificate for another name", stack: phpSite, files: page(hello), breaks: askOverHTTPS(`"cafile" => ` +
		`getenv("AUTHORITY"), "peer_name" => "night.localhost", "SNI_enabled" => false`),
		cause: "certificate-other-name", subject: "site.day", says: "night.localhost"},
	{name: "certificate that Node.js does not trust", stack: nodeSite + "[env]\nNODE_EXTRA_CA_CERTS = \"\"\n",
		files: node(`const fs = require("fs"), http = require("http"), https = require("https");
const serve = () => http.createServer((_, a) => a.end("high tide")).listen(process.env.PORT, "127.0.0.1");
const port = fs.existsSync("https") && fs.readFileSync("https", "utf8");
port ? https.get({host: "127.0.0.1", port, servername: "day.localhost"}, serve) : serve()`),
		breaks: func(t *testing.T, w *world) {
			w.write("https", fmt.Sprint(w.book().HTTPSPort))
			w.dravit("restart", "--timeout", "6s")
		}, cause: "certificate-untrusted", subject: "part.app", says: "NODE_EXTRA_CA_CERTS"},
	{name: "exception in Node.js", stack: nodeSite, files: node("\n\nthrow new TypeError(\"low tide\")"),
		cause: "application-error", subject: "part.app", says: "TypeError: low tide"},
	{name: "exception in Python", stack: "[part.app]\nkind = \"python\"\ncommand = \"exec python3 app.py\"\n",
		files: map[string]string{"app.py": "def tide():\n    raise ValueError('low tide')\ntide()\n"},
		cause: "application-error", subject: "part.app", says: "ValueError: low tide"},
	{name: "exception in Ruby", stack: "[part.app]\nkind = \"ruby\"\ncommand = \"exec ruby app.rb\"\n",
		files: map[string]string{"app.rb": "def tide\n  raise ArgumentError, 'low tide'\nend\ntide\n"},
		cause: "application-error", subject: "part.app", says: "low tide (ArgumentError)\ncorrect app.rb:2"},
	{name: "exception", stack: phpSite, files: page(`<?php throw new Exception("low tide");`),
		cause: "application-error", subject: "site.day", says: "low tide"},
	{name: "page without its text", stack: phpSite + "expect = { text = \"High tide\" }\n", files: page(hello),
		cause: "text-missing", subject: "site.day", says: "High tide"},
	{name: "unexpected status", stack: phpSite, files: page(`<?php http_response_code(418);`),
		cause: "status-unexpected", subject: "site.day", says: "418"},
}

// siteFileFaults are in the files of a site.
var siteFileFaults = []fault{
	{name: "PHP site without an app",
		stack: "[part.app]\nkind = \"php\"\n[[site]]\nname = \"day\"\n", files: page(hello),
		cause: "site-without-app", subject: "site.day", says: "app = "},
	{name: "document root gone", stack: phpSite, files: page(hello), breaks: func(t *testing.T, w *world) {
		require.NoError(t, os.Rename(filepath.Join(w.dir, "public"), filepath.Join(w.dir, "moved")))
	}, cause: "root-gone", subject: "site.day", says: "public does not exist"},
	{name: "document root closed", stack: "[part.web]\nkind = \"nginx\"\n" + phpSite, files: page(hello),
		breaks: func(t *testing.T, w *world) {
			require.NoError(t, os.Chmod(filepath.Join(w.dir, "public"), 0))
		}, cause: "root-closed", subject: "site.day", fixes: true},
	{name: "index closed", stack: "[[site]]\nname = \"day\"\nroot = \"public\"\n",
		files: map[string]string{"public/index.html": hello}, breaks: func(t *testing.T, w *world) {
			require.NoError(t, os.Chmod(filepath.Join(w.dir, "public/index.html"), 0))
		}, cause: "root-closed", subject: "site.day", fixes: true},
	{name: "index gone", stack: "[[site]]\nname = \"day\"\nroot = \"public\"\n",
		files: map[string]string{"public/index.html": hello}, breaks: func(t *testing.T, w *world) {
			require.NoError(t, os.Remove(filepath.Join(w.dir, "public/index.html")))
		}, cause: "index-missing", subject: "site.day"},
}

// taskFaults are in the tasks of a project, or are removed by them.
var taskFaults = []fault{
	{name: "task that fails", stack: "[part.app]\nkind = \"custom\"\ncommand = \"exec sleep 300\"\n[[task]]\n" +
		"name = \"tables\"\nwhen = \"first-start\"\ncommand = \"echo low tide; exit 3\"\n",
		cause: "task-failed", subject: "task.tables", says: "low tide"},
	{name: "tables missing, with a task", stack: maria + phpSite + "[[task]]\nname = \"boats\"\npart = \"app\"\n" +
		"when = \"first-start\"\ncommand = \"true\"\n",
		files: page(`<?php (new mysqli("127.0.0.1", getenv("DB_USER"), getenv("DB_PASSWORD"), getenv("DB_DATABASE"), ` +
			`(int)getenv("DB_PORT")))->query("SELECT * FROM boats");`),
		cause: "tables-missing", subject: "site.day", says: "dravit task boats"},
	{name: "packages missing, with a manifest", stack: phpSite,
		files: map[string]string{"public/index.php": `<?php require __DIR__."/../vendor/autoload.php";`,
			"composer.json": "{}"},
		cause: "packages-missing", subject: "site.day", says: `command = "composer install --no-interaction"`},
}

// machineFaults are in the machine, or in the stack itself.
var machineFaults = []fault{
	{name: "name that nobody knows", stack: "[[site]]\nname = \"day\"\nsuffix = \"test\"\n",
		files: map[string]string{"public/index.html": hello}, cause: "name-unknown",
		subject: "site.day", says: "names hosts on"},
	{name: "proxy in the environment", stack: "[[site]]\nname = \"day\"\n",
		files: map[string]string{"public/index.html": hello}, breaks: func(*testing.T, *world) {},
		env: []string{"http_proxy=http://10.0.0.1:3128", "no_proxy=example.org"}, cause: "proxy-catches",
		subject: "machine", says: "NO_PROXY"},
	{name: "part stopped", stack: "[part.seats]\nkind = \"dravit-cache\"\n[part.more]\nkind = \"dravit-cache\"\n",
		breaks: func(_ *testing.T, w *world) {
			w.must("stop", "seats")
		}, cause: "stopped", subject: "part.seats", fixes: true},
	{name: "killed again and again", stack: "[part.seats]\nkind = \"memcached\"\n",
		breaks: func(t *testing.T, w *world) {
			w.eventually("it is killed until it gives up", func() bool {
				p := w.status().part(t, "seats")
				if p.PID > 0 && p.State != "failed" {
					_ = syscall.Kill(p.PID, syscall.SIGKILL) // or it died of the last one just now
				}
				return p.Restarts >= 2 && p.State == "pausing"
			})
		}, cause: "killed", subject: "part.seats"},
	{name: "disk in memory full", stack: "[part.seats]\nkind = \"redis\"\n", prepare: small("size=60m"),
		breaks: restart(func(t *testing.T, w *world) {
			f, err := os.Create(filepath.Join(filepath.Dir(w.home), "ballast"))
			require.NoError(t, err)
			_, _ = f.Write(make([]byte, 60<<20)) // as much as fits
			f.Close()
		}), cause: "memory-disk-full", subject: "machine", says: "are free", root: true},
	{name: "no more files", stack: "[part.seats]\nkind = \"redis\"\n", prepare: small("size=200m,nr_inodes=200"),
		breaks: restart(func(t *testing.T, w *world) {
			for i := range 200 {
				if os.WriteFile(filepath.Join(filepath.Dir(w.home), fmt.Sprint("ballast", i)), nil, 0o644) != nil {
					break
				}
			}
		}), cause: "inodes-full", subject: "machine", says: "200 of 200", root: true},
	{name: "disk full", stack: "[part.seats]\nkind = \"redis\"\n", prepare: disk(80 << 20),
		breaks: restart(func(t *testing.T, w *world) {
			require.ErrorIs(t, w.fill(), syscall.ENOSPC)
		}), cause: "disk-full", subject: "machine", says: "df -h", root: true},
	{name: "file system that is read-only", stack: "[part.seats]\nkind = \"redis\"\n", prepare: disk(80 << 20),
		breaks: restart(func(t *testing.T, w *world) {
			w.eventually("nobody writes there any more", func() bool {
				return exec.Command("mount", "-o", "remount,ro", filepath.Dir(w.home)).Run() == nil
			})
			t.Cleanup(func() { asRunner(t, "mount", "-o", "remount,rw", filepath.Dir(w.home)) })
		}), cause: "read-only", subject: "machine", says: "for writing", root: true},
	{name: "library gone", stack: "[part.app]\nkind = \"custom\"\ncommand = \"./tide && exec python3 -m " +
		"http.server --bind 127.0.0.1 {port}\"\n", prepare: tideLibrary, breaks: func(t *testing.T, w *world) {
		require.NoError(t, os.Remove(filepath.Join(w.dir, "libtide.so")))
		w.dravit("restart", "--timeout", "6s")
	}, cause: "library-missing", subject: "part.app", says: "libtide.so"},
	{name: "compiled module of another Python",
		stack: "[part.app]\nkind = \"python\"\ncommand = \"exec python3 app.py\"\n",
		files: map[string]string{"app.py": "import tide\n"}, prepare: func(t *testing.T, w *world) {
			w.write("tide.c", "void PyTide_Turn(void);\nvoid *PyInit_tide(void) { PyTide_Turn(); return 0; }\n")
			asRunner(t, "gcc", "-shared", "-fPIC", "-o", filepath.Join(w.dir, "tide.so"),
				filepath.Join(w.dir, "tide.c"))
		}, cause: "module-other-runtime", subject: "part.app", says: "undefined symbol: PyTide_Turn"},
	closedFolder("nginx"), closedFolder("apache"),
	{name: "gateway that hangs", stack: "[[site]]\nname = \"day\"\n",
		files: map[string]string{"public/index.html": hello}, breaks: func(t *testing.T, w *world) {
			for _, pid := range w.gatewayPIDs() {
				require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
				t.Cleanup(func() { _ = syscall.Kill(pid, syscall.SIGCONT) })
			}
		}, cause: "gateway-down", subject: "gateway", says: "dravit start"},
	{name: "clock set back", stack: "[[site]]\nname = \"day\"\n",
		files: map[string]string{"public/index.html": hello}, breaks: inTheFuture, cause: "clock-back",
		subject: "machine", says: "authority"},
	{name: "quota used up", stack: "[part.seats]\nkind = \"redis\"\n", prepare: quota(60),
		breaks: func(t *testing.T, w *world) {
			require.NoError(t, os.Remove(filepath.Join(w.home, "survey.json"))) // which nobody can write again
			require.ErrorIs(t, w.fill(), syscall.EDQUOT)
			w.dravit("restart")
		}, cause: "quota-full", subject: "machine", says: "may store", root: true},
	{name: "no memory left", stack: nodeSite, root: true,
		files: node(`const fs = require("fs");
if (fs.existsSync("hungry")) {
  fs.writeFileSync("pid", String(process.pid));
  while (!fs.existsSync("confined-" + process.pid)) Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, 10);
  for (const all = []; all.length < 1000;) all.push(Buffer.alloc(1 << 20, 1));
}
require("http").createServer((_, a) => a.end("high tide")).listen(process.env.PORT, "127.0.0.1")`),
		breaks: func(t *testing.T, w *world) {
			w.confineApp(256 << 20)
			w.write("hungry", "")
			w.kill("app")
			w.eventually("the kernel kills it", func() bool {
				return strings.Contains(w.status().part(t, "app").Because, "no memory left")
			})
		}, cause: "out-of-memory", subject: "part.app", says: "dravit status"},
	{name: "a server that hangs", stack: "[part.seats]\nkind = \"redis\"\n", breaks: func(t *testing.T, w *world) {
		pid := w.status().part(t, "seats").PID
		require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
		t.Cleanup(func() { _ = syscall.Kill(pid, syscall.SIGCONT) })
	}, cause: "unwell", subject: "part.seats", says: "dravit restart seats", fixes: true},
	{name: "no program fits", stack: "[part.app]\nkind = \"php\"\nversion = \"5.1\"\n", cause: "no-plan",
		subject: "part.app", says: "5.1"},
}
