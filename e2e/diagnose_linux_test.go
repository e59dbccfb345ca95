package e2e

import (
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/diagnose"
	"dravit/internal/plan"
)

type diagnosis struct {
	Answers bool
	Causes  []diagnose.Cause
}

func (w *world) diagnose(args ...string) diagnosis {
	w.t.Helper()
	var d diagnosis
	w.json(&d, append([]string{"diagnose"}, args...)...)
	return d
}

const (
	phpSite  = "[part.app]\nkind = \"php\"\n[[site]]\nname = \"day\"\napp = \"app\"\n"
	nodeSite = "[part.app]\nkind = \"node\"\ncommand = \"exec node app.js\"\nuses = []\n[[site]]\n" +
		"name = \"day\"\napp = \"app\"\n"
	maria = "[part.db]\nkind = \"mariadb\"\n"
	post  = "[part.db]\nkind = \"postgres\"\n"

	ownExtension = "[part.app]\nkind = \"php\"\nextensions = [\"own/redis.so\"]\n[[site]]\n" +
		"name = \"day\"\napp = \"app\"\n"
)

// fault is one thing gone wrong for real, and what diagnose has to say of it first.
type fault struct {
	name    string
	stack   string
	files   map[string]string
	prepare func(t *testing.T, w *world) // before anything else
	break_  func(t *testing.T, w *world) // after a first start, which has to succeed where it is given
	env     []string                     // of the command
	cause   string
	subject string
	says    string // in evidence, what or remedy
	root    bool   // only root can make it
	fixes   bool   // diagnose --fix --yes mends it
}

// restart stops, breaks and starts again, whatever comes of it.
func restart(breaks func(t *testing.T, w *world)) func(*testing.T, *world) {
	return func(t *testing.T, w *world) {
		w.must("stop")
		breaks(t, w)
		w.dravit("start", "--timeout", "6s")
	}
}

func page(text string) map[string]string { return map[string]string{"public/index.php": text} }

func node(text string) map[string]string { return map[string]string{"app.js": text} }

const hello = "<h1>Day boat</h1>"

func faults() []fault {
	chmod := func(mode os.FileMode, parts ...string) func(*testing.T, *world) {
		return func(t *testing.T, w *world) { require.NoError(t, os.Chmod(w.stackPath(parts...), mode)) }
	}
	edit := func(old, new string) func(*testing.T, *world) {
		return func(t *testing.T, w *world) {
			text, err := os.ReadFile(filepath.Join(w.dir, "dravit.toml"))
			require.NoError(t, err)
			require.Contains(t, string(text), old)
			w.write("dravit.toml", strings.Replace(string(text), old, new, 1))
		}
	}
	return []fault{
		// Data.
		{name: "data folder of somebody else's", stack: maria, break_: restart(func(t *testing.T, w *world) {
			require.NoError(t, os.Chown(w.stackPath("data", "db", "ibdata1"), 0, 0))
		}), cause: "data-owner", subject: "part.db", says: "belongs to root", root: true},
		{name: "closed data folder of MariaDB", stack: maria, break_: restart(chmod(0, "data", "db", "mysql")),
			cause: "data-mode", subject: "part.db", says: "chmod -R u+rwX", fixes: true},
		{name: "closed data file of Redis", stack: "[part.seats]\nkind = \"redis\"\n", break_: restart(chmod(0, "data",
			"seats", "appendonlydir")), cause: "data-mode", subject: "part.seats", fixes: true},
		{name: "closed data folder of PostgreSQL", stack: post, break_: restart(chmod(0, "data", "db", "base")),
			cause: "data-mode", subject: "part.db", fixes: true},
		{name: "open data folder of PostgreSQL", stack: post, break_: restart(chmod(0o777, "data", "db")),
			cause: "data-mode", subject: "part.db", says: "its account alone"},
		{name: "damaged data of MariaDB", stack: maria, break_: restart(func(t *testing.T, w *world) {
			for _, f := range []string{"ib_logfile0", "ibdata1"} {
				require.NoError(t,
					os.WriteFile(w.stackPath("data", "db", f), []byte(strings.Repeat("wreck", 4000)), 0o600))
			}
		}), cause: "data-damaged", subject: "part.db"},
		{name: "damaged data of PostgreSQL", stack: post, break_: restart(func(t *testing.T, w *world) {
			require.NoError(t, os.Remove(w.stackPath("data", "db", "global", "pg_control")))
		}), cause: "data-damaged", subject: "part.db"},
		{name: "damaged data of Redis", stack: "[part.seats]\nkind = \"redis\"\n",
			break_: restart(func(t *testing.T, w *world) {
				files, _ := filepath.Glob(w.stackPath("data", "seats", "appendonlydir", "*.incr.aof"))
				require.Len(t, files, 1)
				require.NoError(t, os.WriteFile(files[0], []byte("wreck wreck wreck\n"), 0o600))
			}), cause: "data-damaged", subject: "part.seats"},
		{name: "value of PHP's in a .htaccess", stack: "[part.web]\nkind = \"apache\"\n" + phpSite,
			files: map[string]string{"public/index.php": hello, "public/.htaccess": "php_value memory_limit 99M\n"},
			cause: "directive-refused", subject: "site.day", says: "settings = {"},
		{name: "PHP site without an app",
			stack: "[part.app]\nkind = \"php\"\n[[site]]\nname = \"day\"\n", files: page(hello),
			cause: "site-without-app", subject: "site.day", says: "app = "},
		// Connections.
		{name: "connections of MariaDB", stack: maria, files: map[string]string{"hold.php": holdMaria}, break_: hold,
			cause: "connections-used-up", subject: "part.db", says: "151 of php (pid "},
		{name: "connections of PostgreSQL", stack: post, files: map[string]string{"hold.php": holdPost}, break_: hold,
			cause: "connections-used-up", subject: "part.db", says: "settings = { max_connections = "},
		// Settings and configurations.
		{name: "setting of MariaDB", stack: maria + "settings = { low_tide = 3 }\n", cause: "setting-refused",
			subject: "part.db", says: "low-tide"},
		{name: "setting of PostgreSQL", stack: post,
			break_: restart(edit("\"postgres\"\n", "\"postgres\"\nsettings = { low_tide = 3 }\n")),
			cause:  "setting-refused", subject: "part.db", says: "low_tide"},
		{name: "value of PostgreSQL", stack: post,
			break_: restart(edit("\"postgres\"\n", "\"postgres\"\nsettings = { max_connections = \"many\" }\n")),
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
		// Ports and sockets.
		{name: "stolen port", stack: "[part.seats]\nkind = \"redis\"\n", break_: func(t *testing.T, w *world) {
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
			files: map[string]string{"public/index.html": hello}, break_: func(t *testing.T, w *world) {
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
			break_: func(t *testing.T, w *world) {
				w.must("stop")
				l, err := net.Listen("tcp", "127.0.0.1:28713")
				require.NoError(t, err)
				t.Cleanup(func() { l.Close() })
			}, cause: "no-plan", subject: "part.seats.port", says: "28713"},
		{name: "port written into the program", stack: nodeSite,
			files: node(`require("http").createServer((q, r) => r.end("x")).listen(28714, "127.0.0.1")`), break_: nil,
			cause: "listens-elsewhere", subject: "part.app", says: "28714"},
		{name: "fixed port that is taken", stack: nodeSite,
			files: node(`require("http").createServer((q, r) => r.end("x")).listen(28715, "127.0.0.1")`),
			break_: func(t *testing.T, w *world) {
				l, err := net.Listen("tcp", "127.0.0.1:28715")
				require.NoError(t, err)
				t.Cleanup(func() { l.Close() })
				w.dravit("start", "--timeout", "5s")
			}, cause: "port-fixed", subject: "part.app", says: "28715"},
		// Programs of the project's own.
		{name: "no such command", stack: "[part.app]\nkind = \"custom\"\ncommand = \"exec lowtide --serve\"\n",
			cause: "command-missing", subject: "part.app", says: "lowtide"},
		{name: "command that may not run", stack: "[part.app]\nkind = \"custom\"\ncommand = \"exec ./serve.sh\"\n",
			files: map[string]string{"serve.sh": "#!/bin/sh\n"}, cause: "command-forbidden",
			subject: "part.app", says: "serve.sh"},
		{name: "command that is no server", stack: "[part.app]\nkind = \"custom\"\ncommand = \"true\"\n",
			cause: "ends-at-once", subject: "part.app"},
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
		// Pages.
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
			cause: "store-elsewhere", subject: "part.app", says: "read DB_HOST and DB_PORT"},
		{name: "wrong password in Django", stack: post + djangoPart,
			files: map[string]string{"site.py": django("'low tide'", "os.environ['DB_PORT']")},
			cause: "wrong-password", subject: "part.app", says: "read DB_USER and DB_PASSWORD"},
		{name: "wrong password in Node.js", stack: post + strings.Replace(nodeSite, "uses = []\n", "", 1),
			files: node(pgNode), prepare: linkPackages,
			cause: "wrong-password", subject: "part.app", says: "read DB_USER and DB_PASSWORD"},
		{name: "wrong port in Ruby", stack: post + rubyPart,
			files: map[string]string{"app.rb": pgRuby("28720", "ENV['DB_PASSWORD']")},
			cause: "store-elsewhere", subject: "part.app", says: "read DB_HOST and DB_PORT"},
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
			break_: func(t *testing.T, w *world) {
				require.NoError(t, os.Remove(filepath.Join(w.dir, "own", "redis.so")))
				w.crash("app")
			}, cause: "extension-file-missing", subject: "part.app", says: "own/redis.so"},
		{name: "extension's file of another PHP", stack: ownExtension, prepare: ownRedis, files: page(hello),
			break_: func(t *testing.T, w *world) {
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
				`throw new Exception("no cache");`, "cache/.keep": ""}, break_: func(t *testing.T, w *world) {
				require.NoError(t, os.Chmod(filepath.Join(w.dir, "cache"), 0o500))
				w.dravit("start", "--timeout", "5s")
			}, cause: "folder-unwritable", subject: "site.day", says: "cache/x"},
		{name: "file that PHP may not read", stack: phpSite,
			files: map[string]string{"public/index.php": `<?php require __DIR__."/../lib.php";`, "lib.php": "<?php"},
			break_: func(t *testing.T, w *world) {
				require.NoError(t, os.Chmod(filepath.Join(w.dir, "lib.php"), 0))
				w.dravit("restart", "app") // its cache of compiled files may have it
			}, cause: "file-unreadable", subject: "site.day", says: "lib.php"},
		{name: "socket taken", stack: "[part.web]\nkind = \"nginx\"\n[[site]]\nname = \"day\"\n",
			files: map[string]string{"public/index.html": hello}, break_: func(t *testing.T, w *world) {
				socket := w.status().part(t, "web").Socket
				w.must("stop")
				require.NoError(t, os.MkdirAll(filepath.Dir(socket), 0o700))
				l, err := net.Listen("unix", socket)
				require.NoError(t, err)
				w.own(filepath.Dir(socket))
				t.Cleanup(func() { l.Close() })
				w.dravit("start", "--timeout", "5s")
			}, cause: "socket-taken", subject: "part.web", says: "web.sock"},
		{name: "another server on the data", stack: post, break_: restart(func(t *testing.T, w *world) {
			other := w.command(t.Context())
			other.Path = "/usr/lib/postgresql/15/bin/postgres"
			other.Args = []string{"postgres", "-D", w.stackPath("data", "db"), "-k", filepath.Dir(w.home), "-h", ""}
			require.NoError(t, other.Start())
			t.Cleanup(func() { _ = other.Process.Signal(syscall.SIGQUIT); _ = other.Wait() })
			w.eventually("it runs", func() bool { return fileExists(w.stackPath("data", "db", "postmaster.pid")) })
		}), cause: "data-locked", subject: "part.db", says: "another PostgreSQL"},
		{name: "certificate that the page does not trust", stack: phpSite, files: page(hello),
			break_: askOverHTTPS(`"cafile" => "/etc/ssl/certs/ca-certificates.crt", "peer_name" => "day.localhost"`),
			cause:  "certificate-untrusted", subject: "site.day", says: "names certificate on"},
		{name: "certificate for another name", stack: phpSite, files: page(hello), break_: askOverHTTPS(`"cafile" => ` +
			`getenv("AUTHORITY"), "peer_name" => "night.localhost", "SNI_enabled" => false`),
			cause: "certificate-other-name", subject: "site.day", says: "night.localhost"},
		{name: "certificate that Node.js does not trust", stack: nodeSite + "[env]\nNODE_EXTRA_CA_CERTS = \"\"\n",
			files: node(`const fs = require("fs"), http = require("http"), https = require("https");
const serve = () => http.createServer((_, a) => a.end("high tide")).listen(process.env.PORT, "127.0.0.1");
const port = fs.existsSync("https") && fs.readFileSync("https", "utf8");
port ? https.get({host: "127.0.0.1", port, servername: "day.localhost"}, serve) : serve()`),
			break_: func(t *testing.T, w *world) {
				w.write("https", fmt.Sprint(w.book().HTTPSPort))
				w.dravit("restart", "--timeout", "6s")
			}, cause: "certificate-untrusted", subject: "part.app", says: "NODE_EXTRA_CA_CERTS"},
		{name: "exception in Node.js", stack: nodeSite, files: node("\n\nthrow new TypeError(\"low tide\")"),
			cause: "application-error", subject: "part.app", says: "TypeError: low tide, at /"},
		{name: "exception in Python", stack: "[part.app]\nkind = \"python\"\ncommand = \"exec python3 app.py\"\n",
			files: map[string]string{"app.py": "def tide():\n    raise ValueError('low tide')\ntide()\n"},
			cause: "application-error", subject: "part.app", says: "ValueError: low tide, at "},
		{name: "exception in Ruby", stack: "[part.app]\nkind = \"ruby\"\ncommand = \"exec ruby app.rb\"\n",
			files: map[string]string{"app.rb": "def tide\n  raise ArgumentError, 'low tide'\nend\ntide\n"},
			cause: "application-error", subject: "part.app", says: "low tide (ArgumentError), at app.rb:2"},
		{name: "exception", stack: phpSite, files: page(`<?php throw new Exception("low tide");`),
			cause: "application-error", subject: "site.day", says: "low tide"},
		{name: "page without its text", stack: phpSite + "expect = { text = \"High tide\" }\n", files: page(hello),
			cause: "text-missing", subject: "site.day", says: "High tide"},
		{name: "unexpected status", stack: phpSite, files: page(`<?php http_response_code(418);`),
			cause: "status-unexpected", subject: "site.day", says: "418"},
		// Files of a site.
		{name: "document root gone", stack: phpSite, files: page(hello), break_: func(t *testing.T, w *world) {
			require.NoError(t, os.Rename(filepath.Join(w.dir, "public"), filepath.Join(w.dir, "moved")))
		}, cause: "root-gone", subject: "site.day", says: "public is not there"},
		{name: "document root closed", stack: "[part.web]\nkind = \"nginx\"\n" + phpSite, files: page(hello),
			break_: func(t *testing.T, w *world) {
				require.NoError(t, os.Chmod(filepath.Join(w.dir, "public"), 0))
			}, cause: "root-closed", subject: "site.day", fixes: true},
		{name: "index closed", stack: "[[site]]\nname = \"day\"\nroot = \"public\"\n",
			files: map[string]string{"public/index.html": hello}, break_: func(t *testing.T, w *world) {
				require.NoError(t, os.Chmod(filepath.Join(w.dir, "public/index.html"), 0))
			}, cause: "root-closed", subject: "site.day", fixes: true},
		{name: "index gone", stack: "[[site]]\nname = \"day\"\nroot = \"public\"\n",
			files: map[string]string{"public/index.html": hello}, break_: func(t *testing.T, w *world) {
				require.NoError(t, os.Remove(filepath.Join(w.dir, "public/index.html")))
			}, cause: "index-missing", subject: "site.day"},
		// The machine and the stack itself.
		{name: "name that nobody knows", stack: "[[site]]\nname = \"day\"\nsuffix = \"test\"\n",
			files: map[string]string{"public/index.html": hello}, cause: "name-unknown",
			subject: "site.day", says: "names hosts on"},
		{name: "proxy in the environment", stack: "[[site]]\nname = \"day\"\n",
			files: map[string]string{"public/index.html": hello}, break_: func(*testing.T, *world) {},
			env: []string{"http_proxy=http://10.0.0.1:3128", "no_proxy=example.org"}, cause: "proxy-catches",
			subject: "machine", says: "NO_PROXY"},
		{name: "part stopped", stack: "[part.seats]\nkind = \"dravit-cache\"\n[part.more]\nkind = \"dravit-cache\"\n",
			break_: func(_ *testing.T, w *world) {
				w.must("stop", "seats")
			}, cause: "stopped", subject: "part.seats", fixes: true},
		{name: "killed again and again", stack: "[part.seats]\nkind = \"memcached\"\n",
			break_: func(t *testing.T, w *world) {
				w.eventually("it is killed until it gives up", func() bool {
					p := w.status().part(t, "seats")
					if p.PID > 0 && p.State != "failed" {
						_ = syscall.Kill(p.PID, syscall.SIGKILL) // or it died of the last one just now
					}
					return p.Restarts >= 2 && p.State == "pausing"
				})
			}, cause: "killed", subject: "part.seats"},
		{name: "disk in memory full", stack: "[part.seats]\nkind = \"redis\"\n", prepare: small("size=60m"),
			break_: restart(func(t *testing.T, w *world) {
				f, err := os.Create(filepath.Join(filepath.Dir(w.home), "ballast"))
				require.NoError(t, err)
				_, _ = f.Write(make([]byte, 60<<20)) // as much as there is room for
				f.Close()
			}), cause: "memory-disk-full", subject: "machine", says: "are free", root: true},
		{name: "no more files", stack: "[part.seats]\nkind = \"redis\"\n", prepare: small("size=200m,nr_inodes=200"),
			break_: restart(func(t *testing.T, w *world) {
				for i := range 200 {
					if os.WriteFile(filepath.Join(filepath.Dir(w.home), fmt.Sprint("ballast", i)), nil, 0o644) != nil {
						break
					}
				}
			}), cause: "inodes-full", subject: "machine", says: "200 of 200", root: true},
		{name: "disk full", stack: "[part.seats]\nkind = \"redis\"\n", prepare: disk(80 << 20),
			break_: restart(func(t *testing.T, w *world) {
				require.ErrorIs(t, w.fill(), syscall.ENOSPC)
			}), cause: "disk-full", subject: "machine", says: "df -h", root: true},
		{name: "file system that can be read only", stack: "[part.seats]\nkind = \"redis\"\n", prepare: disk(80 << 20),
			break_: restart(func(t *testing.T, w *world) {
				w.eventually("nobody writes there any more", func() bool {
					return exec.Command("mount", "-o", "remount,ro", filepath.Dir(w.home)).Run() == nil
				})
				t.Cleanup(func() { asRunner(t, "mount", "-o", "remount,rw", filepath.Dir(w.home)) })
			}), cause: "read-only", subject: "machine", says: "for writing", root: true},
		{name: "library gone", stack: "[part.app]\nkind = \"custom\"\ncommand = \"./tide && exec python3 -m " +
			"http.server --bind 127.0.0.1 {port}\"\n", prepare: tideLibrary, break_: func(t *testing.T, w *world) {
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
			files: map[string]string{"public/index.html": hello}, break_: func(t *testing.T, w *world) {
				for _, pid := range w.gatewayPIDs() {
					require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
					t.Cleanup(func() { _ = syscall.Kill(pid, syscall.SIGCONT) })
				}
			}, cause: "gateway-down", subject: "gateway", says: "dravit start"},
		{name: "clock set back", stack: "[[site]]\nname = \"day\"\n",
			files: map[string]string{"public/index.html": hello}, break_: inTheFuture, cause: "clock-back",
			subject: "machine", says: "authority"},
		{name: "quota used up", stack: "[part.seats]\nkind = \"redis\"\n", prepare: quota(60),
			break_: func(t *testing.T, w *world) {
				require.NoError(t, os.Remove(filepath.Join(w.home, "survey.json"))) // which nobody can write again
				require.ErrorIs(t, w.fill(), syscall.EDQUOT)
				w.dravit("restart")
			}, cause: "quota-full", subject: "machine", says: "may store", root: true},
		{name: "no memory left", stack: nodeSite, root: true,
			files: node(`const hungry = require("fs").existsSync("hungry");
if (hungry) for (const all = [];;) all.push(Buffer.alloc(1 << 20, 1))
require("http").createServer((_, a) => a.end("high tide")).listen(process.env.PORT, "127.0.0.1")`),
			break_: func(t *testing.T, w *world) {
				w.confine(128 << 20)
				w.write("hungry", "")
				w.kill("app")
				w.eventually("the kernel kills it", func() bool {
					return strings.Contains(w.status().part(t, "app").Because, "no memory left")
				})
			}, cause: "out-of-memory", subject: "part.app", says: "dravit status"},
		{name: "a server that hangs", stack: "[part.seats]\nkind = \"redis\"\n", break_: func(t *testing.T, w *world) {
			pid := w.status().part(t, "seats").PID
			require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
			t.Cleanup(func() { _ = syscall.Kill(pid, syscall.SIGCONT) })
		}, cause: "unwell", subject: "part.seats", says: "dravit restart seats", fixes: true},
		{name: "no program fits", stack: "[part.app]\nkind = \"php\"\nversion = \"5.1\"\n", cause: "no-plan",
			subject: "part.app", says: "5.1"},
	}
}

// askOverHTTPS has the page ask the gateway over HTTPS.
func askOverHTTPS(options string) func(*testing.T, *world) {
	return func(t *testing.T, w *world) {
		var n struct{ Authority string }
		w.json(&n, "names")
		require.NotEmpty(t, n.Authority)
		w.write("public/index.php", fmt.Sprintf(`<?php if (file_get_contents("https://127.0.0.1:%d/", false, `+
			`stream_context_create(["ssl" => [%s]])) === false) throw new Exception("no tides");`,
			w.book().HTTPSPort, strings.Replace(options, `getenv("AUTHORITY")`, strconv.Quote(n.Authority), 1)))
	}
}

// ownRedis gives the project an extension file of its own.
func ownRedis(t *testing.T, w *world) {
	copyFile(t, "/usr/lib/php/20220829/redis.so", filepath.Join(w.dir, "own", "redis.so"))
	w.own(w.dir)
}

// crash kills a part, and waits until it was started again.
func (w *world) crash(part string) {
	w.t.Helper()
	old := w.kill(part)
	w.eventually("it is there again", func() bool {
		p := w.status().part(w.t, part)
		return p.PID > 0 && p.PID != old && (p.State == "answers" || p.Because != "")
	})
}

// small puts Dravit's folder on a file system with little room.
func small(options string) func(*testing.T, *world) {
	return func(t *testing.T, w *world) {
		dir, home := filepath.Join(filepath.Dir(w.home), "small"), w.home
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", 0, options+",mode=777"))
		w.home = filepath.Join(dir, "home")
		w.settings("http = 8080\nhttps = 8443\n")
		t.Cleanup(func() {
			w.stopAll()
			w.home = home
			require.NoError(t, syscall.Unmount(dir, 0))
		})
	}
}

// kill kills the process of a part, and returns which it was.
func (w *world) kill(part string) int {
	w.t.Helper()
	pid := w.status().part(w.t, part).PID
	kill(w.t, pid)
	return pid
}

// quota puts Dravit's folder on a file system on which it may store so many MB.
func quota(limit int) func(*testing.T, *world) {
	return func(t *testing.T, w *world) {
		dir := onImage(t, w, "btrfs", 300<<20)
		asRunner(t, "btrfs", "quota", "enable", dir)
		asRunner(t, "btrfs", "subvolume", "create", filepath.Join(dir, "mine"))
		asRunner(t, "btrfs", "qgroup", "limit", fmt.Sprintf("%dM", limit), filepath.Join(dir, "mine"))
		w.home = filepath.Join(dir, "mine", "home")
		w.settings("http = 8080\nhttps = 8443\n")
		w.own(dir)
	}
}

// disk puts Dravit's folder on a disk of so many bytes.
func disk(size int64) func(*testing.T, *world) {
	return func(t *testing.T, w *world) {
		dir := onImage(t, w, "ext4", size)
		w.home = filepath.Join(dir, "home")
		w.settings("http = 8080\nhttps = 8443\n")
		w.own(dir)
	}
}

// onImage makes a file system in a file, and returns where it is mounted. The world moves back before it goes.
func onImage(t *testing.T, w *world, kind string, size int64) string {
	t.Helper()
	if known, err := os.ReadFile("/proc/filesystems"); err != nil || !strings.Contains(string(known), "\t"+kind+"\n") ||
		!fileExists("/dev/loop-control") {
		t.Skip("this kernel has no " + kind + ", or no loop devices")
	}
	dir, home := filepath.Join(filepath.Dir(w.home), "small"), w.home
	require.NoError(t, os.Mkdir(dir, 0o755))
	image, err := os.Create(dir + "." + kind)
	require.NoError(t, err)
	require.NoError(t, image.Truncate(size))
	image.Close()
	asRunner(t, "/sbin/mkfs."+kind, "-q", dir+"."+kind)
	if out, err := exec.Command("mount", "-o", "loop", dir+"."+kind, dir).CombinedOutput(); err != nil &&
		regexp.MustCompile(`loop device|permitted|permission denied`).Match(out) {
		t.Skipf("this machine grants no loop devices: %s", out)
	} else {
		require.NoError(t, err, "%s", out)
	}
	t.Cleanup(func() {
		w.stopAll()
		w.home = home
		require.NoError(t, syscall.Unmount(dir, 0))
	})
	return dir
}

// asRunner runs a command as whoever runs the tests.
func asRunner(t *testing.T, argv ...string) {
	t.Helper()
	out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput()
	require.NoError(t, err, "%s: %s", argv, out)
}

// fill writes a file until there is no room for more, and returns what the last write said.
func (w *world) fill() error {
	w.t.Helper()
	f, err := os.Create(filepath.Join(filepath.Dir(w.home), "ballast"))
	require.NoError(w.t, err)
	defer f.Close()
	for wrote := 0; err == nil; wrote += 64 << 10 {
		require.Less(w.t, wrote, 1<<30)
		_, err = f.Write(make([]byte, 64<<10))
	}
	return err
}

// closedFolder is a page in a folder that a web server may not look into.
func closedFolder(server string) fault {
	return fault{name: "folder closed to " + server,
		stack: "[part.web]\nkind = \"" + server + "\"\n[[site]]\nname = \"day\"\nexpect = { path = \"/quay/\" }\n",
		files: map[string]string{"public/index.html": hello, "public/quay/index.html": hello},
		break_: func(t *testing.T, w *world) {
			require.NoError(t, os.Chmod(filepath.Join(w.dir, "public/quay"), 0))
		}, cause: "folder-unreadable", subject: "site.day", says: "public/quay"}
}

// tideLibrary gives the project a program that needs a library of its own.
func tideLibrary(t *testing.T, w *world) {
	w.write("lib.c", "int tide(void) { return 0; }\n")
	w.write("tide.c", "int tide(void);\nint main(void) { return tide(); }\n")
	asRunner(t, "gcc", "-shared", "-fPIC", "-o", filepath.Join(w.dir, "libtide.so"), filepath.Join(w.dir, "lib.c"))
	asRunner(t, "gcc", "-o", filepath.Join(w.dir, "tide"), filepath.Join(w.dir, "tide.c"), "-L"+w.dir,
		"-ltide", "-Wl,-rpath,$ORIGIN")
	w.own(w.dir)
}

// inTheFuture makes the sites' authority begin some hours from now: for it, the clock was set back.
func inTheFuture(t *testing.T, w *world) {
	file := filepath.Join(w.home, "authority", "certificate.pem")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	certificate, err := x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	pair, err := tls.LoadX509KeyPair(file, filepath.Join(w.home, "authority", "key.pem"))
	require.NoError(t, err)
	certificate.NotBefore = time.Now().Add(3 * time.Hour)
	again, err := x509.CreateCertificate(rand.Reader, certificate, certificate, certificate.PublicKey, pair.PrivateKey)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: again}), 0o600))
	w.own(file)
}

// confine lets the keeper, and what it starts, have so many bytes of memory.
func (w *world) confine(limit int) {
	t := w.t
	t.Helper()
	group, file := fmt.Sprintf("/sys/fs/cgroup/memory/dravit-test-%d", os.Getpid()), "memory.limit_in_bytes"
	if _, err := os.Stat("/sys/fs/cgroup/cgroup.controllers"); err == nil { // version 2
		group, file = strings.Replace(group, "/memory", "", 1), "memory.max"
		// a group without it has no memory.max
		_ = os.WriteFile("/sys/fs/cgroup/cgroup.subtree_control", []byte("+memory"), 0o644)
	}
	granted := func(err error) {
		t.Helper()
		if errors.Is(err, syscall.EROFS) || errors.Is(err, fs.ErrPermission) || errors.Is(err, fs.ErrNotExist) {
			t.Skip("this machine grants no control groups: no limit can be set")
		}
		require.NoError(t, err)
	}
	granted(os.Mkdir(group, 0o755))
	t.Cleanup(func() {
		w.stopAll()
		w.eventually("its processes are gone", func() bool { return os.Remove(group) == nil })
	})
	granted(os.WriteFile(filepath.Join(group, file), []byte(fmt.Sprint(limit)), 0o644))
	granted(os.WriteFile(filepath.Join(group, "cgroup.procs"), []byte(fmt.Sprint(w.keeperPID())), 0o644))
}

func fileExists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}

func (w *world) gatewayPIDs() []int {
	pids := []int{}
	for _, pid := range w.living() {
		text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		if strings.Contains(string(text), "internal\x00gateway") && !slices.Contains(pids, pid) {
			pids = append(pids, pid)
		}
	}
	return pids
}

const (
	djangoPart = "[part.app]\nkind = \"python\"\ncommand = \"exec python3 site.py\"\n[[site]]\n" +
		"name = \"day\"\napp = \"app\"\n"
	rubyPart = "[part.app]\nkind = \"ruby\"\ncommand = \"exec ruby app.rb\"\n[[site]]\nname = \"day\"\napp = \"app\"\n"
	pgNode   = `const { Client } = require("pg");
const e = process.env
new Client({ host: e.DB_HOST, port: e.DB_PORT, user: e.DB_USER, password: "low tide", database: e.DB_DATABASE })
  .connect().catch(e => { throw e });`
)

// linkPackages gives the project the packages of npm's that the suite has.
func linkPackages(t *testing.T, w *world) {
	require.NoError(t, os.Symlink(filepath.Join(beside(t), "npm/node_modules"), filepath.Join(w.dir, "node_modules")))
}

// django is a whole application of Django's that logs in to PostgreSQL as it starts.
func django(password, port string) string {
	return `import os
from django.conf import settings
from django.core.management import execute_from_command_line
from django.http import HttpResponse
from django.urls import path
settings.configure(DEBUG=True, SECRET_KEY="x", ALLOWED_HOSTS=["*"], ROOT_URLCONF=__name__, DATABASES={"default": {
    "ENGINE": "django.db.backends.postgresql", "HOST": os.environ["DB_HOST"], "PORT": ` + port + `,
    "NAME": os.environ["DB_DATABASE"],
    "USER": os.environ["DB_USER"], "PASSWORD": ` + password + `}})
urlpatterns = [path("", lambda request: HttpResponse("Sailings"))]
execute_from_command_line(["site.py", "runserver", "--noreload", "127.0.0.1:" + os.environ["PORT"]])
`
}

func pgRuby(port, password string) string {
	return "require 'pg'\nPG.connect(host: ENV['DB_HOST'], port: " + port +
		", dbname: ENV['DB_DATABASE'], user: ENV['DB_USER'], password: " + password + ")\n"
}

// holdMaria and holdPost open connections until the server refuses, and keep them.
const (
	holdMaria = `<?php mysqli_report(MYSQLI_REPORT_OFF); $all = [];
do {
	$c = @new mysqli(getenv("DB_HOST"), getenv("DB_USER"), getenv("DB_PASSWORD"), getenv("DB_DATABASE"),
		(int)getenv("DB_PORT"));
	$all[] = $c;
}
while (!$c->connect_errno);
echo "held\n"; sleep(120);`
	holdPost = `<?php $all = [];
do { $c = @pg_connect("", PGSQL_CONNECT_FORCE_NEW); $all[] = $c; } while ($c);
echo "held\n"; sleep(120);`
)

// hold has an application of the stack use up the connections of its database.
func hold(t *testing.T, w *world) {
	cmd := w.command(t.Context(), "run", "--", "php", "hold.php")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	line := make([]byte, 5)
	_, err = io.ReadFull(out, line)
	require.NoError(t, err)
	require.Equal(t, "held\n", string(line))
}

// Each cause is made for real, and diagnose names it first, with its evidence and its remedy.
func TestDiagnose(t *testing.T) {
	t.Parallel()
	documented, err := os.ReadFile("../docs/causes.md")
	require.NoError(t, err)
	var mu sync.Mutex
	proven := map[string]bool{}
	made := 0
	proves := func(cause string) {
		mu.Lock()
		defer mu.Unlock()
		proven[cause] = true
		made++
	}
	needsRoot := map[string]bool{} // what this account cannot make
	for _, c := range faults() {
		if c.root && !asRoot {
			needsRoot[c.cause] = true
			made++
		}
	}
	t.Run("each", func(t *testing.T) { diagnoseEach(t, string(documented), proves) })
	if made < len(faults()) {
		t.Log("not every fault was made: whether each documented cause is made by a test was not asked")
	} else {
		for _, m := range regexp.MustCompile("(?m)^\\| `([a-z-]+)` \\|(.*)$").FindAllStringSubmatch(string(documented),
			-1) {
			// which TestNameElsewhere makes
			if !strings.Contains(m[2], "(not made in tests)") && m[1] != "name-elsewhere" {
				assert.True(t, proven[m[1]] || needsRoot[m[1]], "no test makes %s", m[1])
			}
		}
	}
}

// diagnoseEach makes the faults, several at a time: most of them are waiting.
func diagnoseEach(t *testing.T, documented string, proves func(cause string)) {
	for _, c := range faults() {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			if c.root && !asRoot {
				t.Skip("only root can make this")
			}
			w := newWorld(t)
			if c.prepare != nil {
				c.prepare(t, w)
			}
			w.write("dravit.toml", "name = \"day-boat\"\n"+c.stack)
			for name, text := range c.files {
				w.write(name, text)
			}
			t.Cleanup(func() { // whatever was closed can be removed again
				_ = filepath.WalkDir(filepath.Dir(w.home), func(path string, e os.DirEntry, _ error) error {
					if e != nil && e.IsDir() {
						_ = os.Chmod(path, 0o755)
					}
					return nil
				})
			})
			if c.break_ == nil {
				r := w.dravit("start", "--timeout", "12s")
				require.NotEqual(t, 0, r.code, r.all())
			} else {
				if c.cause != "port-fixed" && c.cause != "folder-unwritable" {
					w.must("start")
				}
				c.break_(t, w)
			}
			cmd := w.command(t.Context(), "diagnose")
			cmd.Env = append(cmd.Env, c.env...)
			text := finish(t, cmd)
			var d diagnosis
			if c.env == nil {
				d = w.diagnose()
			}
			if c.env != nil {
				assert.Contains(t, text.stdout, c.cause)
				assert.Contains(t, strings.Join(strings.Fields(text.stdout), " "), c.says)
				proves(c.cause)
				return
			}
			require.NotEmpty(t, d.Causes, "%s", text.all())
			first := d.Causes[0]
			assert.Equal(t, c.cause, first.Cause, "%+v", d.Causes)
			assert.Equal(t, c.subject, first.Subject)
			assert.NotEmpty(t, first.Remedy)
			assert.Contains(t, strings.Join(append(first.Evidence, first.What, first.Remedy), "\n"), c.says)
			assert.Contains(t, text.stdout, c.cause)
			assert.NotContains(t, text.stdout, "$1")
			assert.Contains(t, documented, "| `"+c.cause+"` |")
			proves(c.cause)
			if c.fixes {
				d = w.diagnose("--fix", "--yes")
				assert.True(t, d.Answers, "%+v", d.Causes)
			}
		})
	}
}

// What the stack file says otherwise since everything answered stands beside the causes, and no secret does.
func TestDiagnoseTellsEdits(t *testing.T) {
	w := newWorld(t)
	file := "name = \"day-boat\"\n[part.seats]\nkind = \"redis\"\nsettings = { maxmemory = \"64mb\" }\n" +
		"[env]\nTOKEN = \"high water\"\n"
	w.write("dravit.toml", file)
	w.must("start")
	assert.NotContains(t, w.must("diagnose").stdout, "changed")
	w.write("dravit.toml", strings.NewReplacer("64mb", "low tide", "high water", "low water").Replace(file))
	assert.Equal(t, 1, w.dravit("start").code)
	r := w.dravit("diagnose")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stdout, "setting-refused")
	assert.Contains(t, r.stdout, "changed since the last good start, ")
	assert.Contains(t, r.stdout, "  part.seats.settings.maxmemory was 64mb, is low tide: the stack file was edited\n")
	assert.Contains(t, r.stdout, "  env.TOKEN was a value, is another: ")
	assert.NotContains(t, r.stdout, "water")
	var d struct {
		Since   time.Time
		Changes []plan.Change
	}
	w.json(&d, "diagnose")
	require.Len(t, d.Changes, 2)
	assert.Equal(t, "env.TOKEN", d.Changes[0].Subject)
	assert.WithinDuration(t, time.Now(), d.Since, time.Minute)
	w.write("dravit.toml", file)
	w.must("start")
	assert.NotContains(t, w.must("diagnose").stdout, "changed")
}
