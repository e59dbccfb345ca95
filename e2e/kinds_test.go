package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func itoa(n int) string { return strconv.Itoa(n) }

// office is a stack of every kind of server that came with the runtimes.
const office = `name = "office"
[part.web]
kind = "apache"
[part.app]
kind = "php"
extensions = []
[part.db]
kind = "postgres"
database = "bookings"
[part.seats]
kind = "memcached"
[part.api]
kind = "node"
command = "node api.js"
[part.tides]
kind = "python"
command = "python3 -m http.server --bind 127.0.0.1 {port} --directory tides"
[part.crew]
kind = "ruby"
command = "ruby crew.rb"
[[site]]
name = "office"
app = "app"
expect = { text = "Office" }
[[site]]
name = "api"
app = "api"
expect = { text = "api v" }
[[site]]
name = "tides"
app = "tides"
expect = { text = "high water" }
[[site]]
name = "crew"
app = "crew"
expect = { text = "crew 3" }
`

func (w *world) office() {
	w.write("dravit.toml", office)
	w.write("public/index.php", `<h1>Office</h1><?php
$where = 'pgsql:host=' . getenv('DB_HOST') . ';port=' . getenv('DB_PORT') . ';dbname=' . getenv('DB_DATABASE');
$db = new PDO($where, getenv('DB_USER'), getenv('DB_PASSWORD'));
$db->exec('CREATE TABLE IF NOT EXISTS bookings (name text)');
if (isset($_GET['book'])) $db->prepare('INSERT INTO bookings VALUES (?)')->execute([$_GET['book']]);
echo implode(',', $db->query('SELECT name FROM bookings ORDER BY name')->fetchAll(PDO::FETCH_COLUMN));
`)
	w.write("public/.htaccess",
		"RewriteEngine On\nRewriteRule ^old-timetable$ /new-timetable [R=302,L]\nHeader set X-Quay \"west\"\n")
	w.write("public/plain.txt", "plain")
	w.write("api.js", `require("http").createServer((q, r) => r.end("api " + process.version + " " + q.url + " " + `+
		`process.env.DATABASE_URL)).listen(process.env.PORT, "127.0.0.1")`)
	w.write("tides/index.html", "high water at noon")
	w.write("crew.rb", `require "socket"
server = TCPServer.new("127.0.0.1", ENV["PORT"].to_i)
loop do
  c = server.accept
  while (line = c.gets) && line != "\r\n"; end
  body = "crew #{RUBY_VERSION}"
  c.write "HTTP/1.1 200 OK\r\nContent-Length: #{body.size}\r\nConnection: close\r\n\r\n#{body}"
  c.close
end
`)
}

// Apache, PostgreSQL, memcached, Node.js, Python and Ruby work together, and Apache honours a project's .htaccess.
func TestOtherKinds(t *testing.T) {
	w := newWorld(t)
	w.office()
	w.must("start")
	w.must("check")
	sites := map[string]string{}
	for _, s := range w.status().Sites {
		sites[s.Name] = s.URL
	}
	_, body, head := get(t, "GET", sites["office"]+"?book=Ada", nil)
	assert.Contains(t, body, "Ada", "PHP got a client for the database that its list left out")
	assert.Equal(t, "west", head.Get("X-Quay"))
	code, _, head := get(t, "GET", sites["office"]+"old-timetable", nil)
	assert.Equal(t, 302, code)
	assert.True(t, strings.HasSuffix(head.Get("Location"), "/new-timetable"), head.Get("Location"))
	code, _, _ = get(t, "GET", sites["office"]+".htaccess", nil)
	assert.Equal(t, 404, code)
	_, body, _ = get(t, "GET", sites["api"]+"x?y=1", nil)
	assert.Contains(t, body, "/x?y=1 postgres://bookings:")
	for command, want := range map[string]string{
		`psql "$DATABASE_URL" -At -c "SELECT name FROM bookings"`:   "Ada",
		`psql -At -c "SELECT current_user, count(*) FROM bookings"`: "bookings|1",
		`printf 'version\r\nquit\r\n' | python3 -c 'import os,socket,sys; s=socket.socket(socket.AF_UNIX); ` +
			`s.connect(os.environ["MEMCACHED_SOCKET"]); s.sendall(sys.stdin.buffer.read()); ` +
			`print(s.recv(100))'`: "VERSION",
		`env | grep -c SEATS_PASSWORD || true`: "0",
	} {
		assert.Contains(t, w.must("run", "--", "sh", "-c", command).stdout, want, command)
	}
	info, err := os.Stat(w.status().part(t, "seats").Socket)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm(), "who reaches a cache without a password is its owner alone")

	// Only the master dies; its children would keep answering.
	for _, name := range []string{"db", "web", "seats", "api"} {
		before := w.status().part(t, name)
		kill(t, before.PID)
		w.eventually(name+" comes back", func() bool {
			now := w.status().part(t, name)
			return now.State == "answers" && now.PID != before.PID
		})
	}
	w.eventually("everything answers again", func() bool { return w.dravit("check").code == 0 })
	_, body, _ = get(t, "GET", sites["office"], nil)
	assert.Contains(t, body, "Ada", "what was written is there after a crash")
	w.must("stop")
	w.must("start")
	_, body, _ = get(t, "GET", sites["office"], nil)
	assert.Contains(t, body, "Ada")
}

// A start says in the server's own words why a part does not answer.
func TestOtherKindsExplain(t *testing.T) {
	for name, c := range map[string]struct{ part, file, text, because, next string }{
		"postgres setting": {"db", "", "[part.db]\nkind = \"postgres\"\nsettings = { low_tide = \"3\" }\n",
			`unrecognized configuration parameter "low_tide"`, "settings in dravit.toml"},
		"apache htaccess": {"", "public/.htaccess", "LowTide on\n",
			"Apache does not accept a directive of a .htaccess", ""},
		"node module": {"api", "api.js", `require("barnacle")`, "the module barnacle is not installed", "npm install"},
		"python package": {"tides", "tides.py", "import barnacle\n",
			"the package barnacle is not installed", "pip install barnacle"},
		"ruby library": {"crew", "crew.rb", "require 'barnacle'\n",
			"the library barnacle is not installed", "bundle install"},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			file := "name = \"wrong\"\n"
			switch c.part {
			case "db":
				file += c.text
			case "":
				file += "[part.web]\nkind = \"apache\"\n[[site]]\nname = \"day\"\n"
				w.write("public/index.html", "day")
				w.write(c.file, c.text)
			default:
				kinds := map[string]string{"api": "node", "tides": "python", "crew": "ruby"}
				programs := map[string]string{"api": "node", "tides": "python3", "crew": "ruby"}
				file += "[part." + c.part + "]\nkind = \"" + kinds[c.part] + "\"\ncommand = \"" + programs[c.part] +
					" " + c.file + "\"\n"
				w.write(c.file, c.text)
			}
			w.write("dravit.toml", file)
			r := w.dravit("start", "--timeout", "20s")
			assert.Equal(t, 1, r.code, r.all())
			assert.Contains(t, flat(r.stderr), c.because)
			assert.Contains(t, flat(r.stderr), c.next)
		})
	}
}

// Data of an older version are converted only with consent, and after a copy. Data of a newer one, or of another major
// release that the server cannot read, are rejected.
func TestDataOfOtherVersions(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"ages\"\n[part.db]\nkind = \"mariadb\"\n[part.books]\nkind = \"postgres\"\n")
	w.must("start")
	w.must("run", "--", "sh", "-c", `mariadb -h"$DB_HOST" -P"$DB_PORT" -u"$DB_USER" -p"$DB_PASSWORD" "$DB_DATABASE" `+
		`-e "CREATE TABLE boats (name TEXT); INSERT INTO boats VALUES ('Dunlin')"`)
	w.must("stop")
	dirs, err := filepath.Glob(filepath.Join(w.home, "stacks/*/data"))
	require.NoError(t, err)
	written := func(part, kind, version string) {
		file := filepath.Join(dirs[0], part+".json")
		require.NoError(t, os.WriteFile(file, []byte(`{"kind":"`+kind+`","version":"`+version+`"}`), 0o600))
		w.own(file)
	}
	for _, c := range []struct{ version, want string }{
		{"99.1.0", "an older server would damage it"},
		{"10.5.23", "to which you have not agreed"},
	} {
		written("db", "mariadb", c.version)
		r := w.dravit("start")
		assert.Equal(t, 3, r.code, r.all())
		assert.Contains(t, strings.Join(strings.Fields(r.stderr), " "), c.want)
	}
	assert.NoDirExists(t, filepath.Join(dirs[0], "db.marks"))
	r := w.must("start", "--upgrade", "db")
	assert.Contains(t, r.all(), "answers")
	assert.Contains(t, w.must("db", "marks", "--part", "db").stdout, "before-upgrade-from-10.5.23")
	assert.Contains(t, w.must("run", "--", "sh", "-c", `mariadb -h"$DB_HOST" -P"$DB_PORT" -u"$DB_USER" `+
		`-p"$DB_PASSWORD" "$DB_DATABASE" -e "SELECT * FROM boats"`).stdout, "Dunlin")
	w.must("start") // without consent: there is nothing to change any more
	w.must("stop")

	written("books", "postgres", "13.4")
	r = w.dravit("start")
	assert.Equal(t, 3, r.code, r.all())
	assert.Contains(t, strings.Join(strings.Fields(r.stderr), " "), "which it cannot read")
	written("books", "postgres", "15.1")
	w.must("start")
}

// Compiled modules that were built for another runtime are found before a start, and explain a start that fails.
func TestOwnModulesOfAnotherRuntime(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"own\"\n[part.api]\nkind = \"node\"\ncommand = \"node api.js\"\n[part.tides]\n"+
		"kind = \"python\"\ncommand = \"python3 -m http.server --bind 127.0.0.1 {port}\"\n")
	w.write("kelp.c", "void node_register_module_v93(void) {}")
	w.write("node_modules/kelp/build/Release/.keep", "")
	module := filepath.Join(w.dir, "node_modules/kelp/build/Release/kelp.node")
	out, err := exec.Command("gcc", "-shared", "-fPIC", "-o", module, filepath.Join(w.dir, "kelp.c")).CombinedOutput()
	require.NoError(t, err, string(out))
	w.write("api.js", `require("./node_modules/kelp/build/Release/kelp.node")`)
	w.write(".venv/pyvenv.cfg", "home = /usr/bin\nversion = 3.6.1\n")
	w.write(".venv/lib/python3.6/site-packages/whelk/_whelk.cpython-36m-x86_64-linux-gnu.so", "")
	w.write("requirements.txt", "barnacle==1.0\n")
	r := w.must("extensions")
	text := strings.Join(strings.Fields(r.stdout), " ")
	for _, want := range []string{"unfit kelp", "it was built for module ABI 93, and node", "unfit whelk",
		"it was built for ABI cpython-36m, and python", "unfit barnacle", "it is not installed in .venv"} {
		assert.Contains(t, text, want)
	}
	r = w.dravit("start", "--timeout", "20s")
	assert.Equal(t, 1, r.code, r.all())
	assert.Contains(t, strings.Join(strings.Fields(r.stderr), " "), "was built for another Node.js")
	assert.Contains(t, r.stderr, "npm rebuild")
	assert.Equal(t, "answers", w.status().part(t, "tides").State, "the rest runs on")
}
