package e2e

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/diagnose"
	"dravit/internal/requests"
)

// pageFault is a page that fails although its site answers, and what diagnose must say of it.
type pageFault struct {
	path  string
	code  string // what the page does, in the language of its application
	cause string
	says  string // in what, evidence or remedy
	place string // the end of it: FILE:LINE; "" if none is expected
	fix   bool   // diagnose --fix CAUSE mends it
	// mend mends it otherwise: what the remedy says, done literally.
	mend func(w *world)
	body int // bytes that are posted; 0: the page is only asked for
}

// application is an application of several pages, each of which fails in its own way.
type application struct {
	name  string
	stack string
	file  string
	head  string // of its file
	page  string // a page of it: %s are its path and its code
	tail  string
	files map[string]string
	pages []pageFault
	stays string // the path of a page that nothing mends
	needs string // the application whose packages it needs, in the folder vendor; "": none
	part  string // that runs the code of the pages; "": app
}

const shopPHP = `name = "day-boat"
[part.app]
kind = "php"
settings = { memory_limit = "32M", post_max_size = "8M" }
[part.db]
kind = "mariadb"
[part.web]
kind = "nginx"
[[site]]
name = "day"
app = "app"
[[task]]
name = "install"
command = "true"
when = "by-hand"
[[task]]
name = "migrate"
part = "app"
command = "php -r '$p = new PDO(getenv(\"DB_DSN\"), getenv(\"DB_USER\"), getenv(\"DB_PASSWORD\")); ` +
	`$p->exec(\"CREATE TABLE IF NOT EXISTS boats (id INT, seats INT); ALTER TABLE boats ADD COLUMN IF NOT EXISTS ` +
	`seats INT\");'"
when = "by-hand"
[env]
DB_DSN = "mysql:host={db.host};port={db.port};dbname={db.database}"
`

// fromEnv connects to the database as an application does that reads its own .env, whatever the environment says.
const fromEnv = `$e = parse_ini_file(__DIR__ . "/../%s", false, INI_SCANNER_RAW); ` +
	`new PDO("mysql:host=$e[DB_HOST];port=$e[DB_PORT];dbname=$e[DB_DATABASE]", $e["DB_USER"], $e["DB_PASSWORD"]);`

var phpPages = application{name: "PHP", stays: "/silent", stack: shopPHP, file: "public/index.php",
	head: "<?php\nswitch (strtok($_SERVER['REQUEST_URI'], '?')) {\ncase '/': echo '" + hello + "'; break;\n",
	page: "case '%s': %s break;\n", tail: "}\n",
	files: map[string]string{".env": "DB_HOST=127.0.0.1\nDB_PORT=3306\nDB_DATABASE=day_boat\n" +
		"DB_USER=root\nDB_PASSWORD=x\n",
		"broken.php": "<?php\nfunction {\n"},
	pages: []pageFault{
		{path: "/thrown", code: `throw new RuntimeException("no berth");`, cause: "application-error", says: "no berth",
			place: "public/index.php:4", mend: replace("public/index.php", `throw new RuntimeException("no berth");`,
				"")},
		{path: "/memory", code: `echo strlen(str_repeat("x", 40 << 20));`, cause: "memory-limit", says: "memory_limit",
			place: "public/index.php:5", fix: true},
		{path: "/env", code: fmt.Sprintf(fromEnv, ".env"), cause: "store-elsewhere", says: "DB_PORT is 3306 in .env:2",
			place: ".env:2", fix: true},
		{path: "/columns", code: `$p = new PDO(getenv("DB_DSN"), getenv("DB_USER"), getenv("DB_PASSWORD")); ` +
			`$p->exec("CREATE TABLE IF NOT EXISTS boats (id INT)"); $p->query("SELECT seats FROM boats");`,
			cause: "tables-outdated", says: "dravit task migrate", place: "public/index.php:7", mend: task("migrate")},
		{path: "/service", code: `echo file_get_contents("https://api.tides.example/now");`, cause: "foreign-service",
			says: "api.tides.example"},
		{path: "/class", code: `new Ferry\Boat();`, cause: "code-missing", says: `Ferry\Boat`,
			place: "public/index.php:9"},
		{path: "/syntax", code: `require __DIR__ . "/../broken.php";`, cause: "script-syntax", says: "broken.php",
			place: "broken.php:2", mend: replace("broken.php", "function {", "")},
		{path: "/folder", code: `file_put_contents(__DIR__ . "/../uploads/a.txt", "x");`, cause: "folder-missing",
			says: "uploads", fix: true},
		{path: "/post", code: `echo count($_POST);`, cause: "upload-limit", says: "post_max_size", fix: true,
			body: 9 << 20},
		{path: "/silent", code: `http_response_code(500);`, cause: "page-failed", says: "status 500"},
		{path: "/locked", code: `throw new PDOException("SQLSTATE[40001]: Deadlock found when trying to get lock; ` +
			`try again");`, cause: "database-locked", says: "Deadlock"},
	}}

var nodePages = application{name: "Node.js", stays: "/large", stack: `name = "day-boat"
[part.app]
kind = "node"
command = "exec node app.js"
[[site]]
name = "day"
app = "app"
[part.db]
kind = "redis"
`, file: "app.js", head: `const http = require("http"), net = require("net"), fs = require("fs");
const fails = (res, e) => { console.error(e); res.statusCode = 500; res.end("error"); };
const pages = {
`, page: "%q: (req, res) => { %s },\n", tail: `};
http.createServer((req, res) => {
  const page = pages[req.url];
  if (!page) return res.end("` + hello + `");
  try { page(req, res); } catch (e) { fails(res, e); }
}).listen(process.env.PORT, process.env.HOST);
`, pages: []pageFault{
	{path: "/thrown", code: `const boat = {}; boat.berth.name;`, cause: "application-error",
		says: "Cannot read properties of undefined", place: "app.js:4", mend: replace("app.js", "boat.berth.name;",
			"res.end();")},
	{path: "/import", code: `require("./tides"); res.end();`, cause: "code-missing", says: "./tides", place: "app.js:5",
		mend: func(w *world) { w.write("tides.js", "") }},
	{path: "/package", code: `require("tides-of-nowhere");`, cause: "packages-missing", says: "tides-of-nowhere",
		place: "app.js:6"},
	{path: "/store", code: `net.connect(5432, "127.0.0.1").on("error", e => fails(res, e));`, cause: "store-lacking",
		says: "postgres"},
	{path: "/host", code: `net.connect(80, "tides.example").on("error", e => fails(res, e));`, cause: "foreign-service",
		says: "tides.example"},
	{path: "/write", code: `fs.writeFileSync(__dirname + "/uploads/a.txt", "x"); res.end();`, cause: "folder-missing",
		says: "uploads", place: "app.js:9", fix: true},
	{path: "/read", code: `res.end(fs.readFileSync(__dirname + "/fares.json"));`, cause: "file-missing",
		says: "fares.json", place: "app.js:10", mend: func(w *world) { w.write("fares.json", "{}") }},
	{path: "/large", code: `fails(res, new Error("PayloadTooLargeError: request entity too large"));`,
		cause: "upload-limit", says: "PayloadTooLargeError"},
	{path: "/proxy", code: `console.log("[vite] http proxy error: /api\nError: connect ECONNREFUSED 127.0.0.1:9"); ` +
		`res.statusCode = 500; res.end();`, cause: "proxy-elsewhere", says: "127.0.0.1:9"},
	{path: "/mail", code: `net.connect(25, "127.0.0.1").on("error", e => fails(res, e));`, cause: "mail-refused",
		says: "dravit-mail"},
	{path: "/closed", code: `req.socket.destroy();`, cause: "page-failed", says: "without an answer"},
}}

var pythonPages = application{name: "Python", stack: `name = "day-boat"
[part.app]
kind = "python"
command = "exec python3 app.py"
[[site]]
name = "day"
app = "app"
`, file: "app.py", head: `import os, sqlite3, sys, traceback, urllib.request, http.server
def hello(): pass
pages = {"/": hello}
def page(path):
    return lambda f: pages.__setitem__(path, f)
`, page: "@page(%q)\ndef f(): %s\n", tail: `
class Handler(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        status = 200
        try: pages[self.path]()
        except Exception:
            print("Internal Server Error:", self.path, file=sys.stderr)
            traceback.print_exc()
            status = 500
        self.send_response(status)
        self.end_headers()
        self.wfile.write(b"` + hello + `")
http.server.ThreadingHTTPServer((os.environ["HOST"], int(os.environ["PORT"])), Handler).serve_forever()
`, files: map[string]string{"ferry/__init__.py": "", "schema/boats.sql": "CREATE TABLE `boats` (id INT);\n"},
	pages: []pageFault{
		{path: "/thrown", code: `{}["monday"]`, cause: "application-error", says: "KeyError: 'monday'",
			place: "app.py:7",
			mend:  replace("app.py", `{}["monday"]`, "None")},
		{path: "/variable", code: `os.environ["MOOR_KEY"]`, cause: "variable-missing", says: "MOOR_KEY",
			place: "app.py:9",
			mend:  addEnv("MOOR_KEY")},
		{path: "/package", code: `__import__("tides_of_nowhere")`, cause: "packages-missing", says: "tides_of_nowhere",
			place: "app.py:11"},
		{path: "/module", code: `exec("import ferry.tides")`, cause: "code-missing", says: "ferry/tides.py",
			mend: func(w *world) { w.write("ferry/tides.py", "") }},
		{path: "/table", code: `sqlite3.connect(":memory:").execute("SELECT * FROM boats")`, cause: "tables-missing",
			says: "dravit db load schema/boats.sql", place: "app.py:15"},
		{path: "/closed", code: `open("/etc/shadow")`, cause: "folder-unwritable", says: "/etc/shadow",
			place: "app.py:17"},
		{path: "/host", code: `raise Exception("Invalid HTTP_HOST header: 'day.localhost'. You may need to add it")`,
			cause: "host-refused", says: "ALLOWED_HOSTS"},
		{path: "/expired", code: `raise Exception("certificate verify failed: certificate has expired for ` +
			`HTTPSConnectionPool(host='tides.example', port=443)")`, cause: "foreign-service", says: "has expired"},
		{path: "/old", code: `raise Exception("x509: certificate has expired or is not yet valid")`,
			cause: "certificate-expired", says: "set the clock"},
	}}

// djangoPages fail in the views of a real Django.
var djangoPages = application{name: "Django", stack: `name = "day-boat"
[part.app]
kind = "python"
command = "python3 manage.py runserver --noreload 127.0.0.1:{port}"
[[site]]
name = "day"
app = "app"
[[task]]
name = "migrate"
part = "app"
command = "python3 manage.py migrate --no-input"
when = "first-start"
`, file: "harbour/urls.py", head: `import urllib.request
from django.conf import settings
from django.core.mail import send_mail
from django.db import connection
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import path, reverse
from django.views.decorators.csrf import csrf_exempt
from berths.models import Berth
urlpatterns = [path("", lambda request: HttpResponse("` + hello + `"))]
def page(at):
    return lambda f: urlpatterns.append(path(at[1:], csrf_exempt(f)))
`, page: "@page(%q)\ndef f(request):\n    %s\n    return HttpResponse('done')\n", files: map[string]string{
	"manage.py": djangoManage, "harbour/__init__.py": "", "berths/__init__.py": "", "berths/models.py": djangoModels,
	"berths/migrations/__init__.py": "", "berths/migrations/0001_initial.py": djangoMigration,
	"requirements.txt": "Django\n", "harbour/settings.py": `import os
SECRET_KEY, DEBUG, ROOT_URLCONF, USE_TZ, ALLOWED_HOSTS = "made up", True, "harbour.urls", True, ["*"]
INSTALLED_APPS = ["berths"]
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}]
DATABASES = {"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": "berths.sqlite"}}
`},
	pages: []pageFault{
		{path: "/division", code: `1 / len(request.GET)`, cause: "application-error", says: "ZeroDivisionError",
			place: "harbour/urls.py:15", mend: replace("harbour/urls.py", "1 / len(request.GET)", "pass")},
		{path: "/template", code: `return render(request, "berths/list.html")`, cause: "code-missing",
			says: "berths/list.html", place: "harbour/urls.py:19",
			mend: func(w *world) { w.write("berths/templates/berths/list.html", "none") }},
		{path: "/name", code: `from berths import tides`, cause: "code-missing", says: "'tides' from 'berths'",
			place: "harbour/urls.py:23", mend: func(w *world) { w.write("berths/tides.py", "") }},
		{path: "/package", code: `import tide_tables`, cause: "packages-missing",
			says: "add the line tide-tables to requirements.txt", place: "harbour/urls.py:27"},
		{path: "/setting", code: `settings.MOOR_KEY`, cause: "application-error", says: "MOOR_KEY",
			place: "harbour/urls.py:31", mend: replace("harbour/settings.py", "import os\n", "MOOR_KEY = 1\n")},
		{path: "/reverse", code: `reverse("timetable")`, cause: "application-error", says: "timetable",
			place: "harbour/urls.py:35"},
		{path: "/local", code: `urllib.request.urlopen("http://127.0.0.1:9/tides")`, cause: "foreign-service",
			says: "start what is to answer there", place: "harbour/urls.py:39"},
		{path: "/mail", code: `send_mail("Booked", "Day boat", "office@ferry.test", ["ada@ferry.test"])`,
			cause: "mail-refused", says: `kind = "dravit-mail"`, place: "harbour/urls.py:43"},
		{path: "/column", code: `connection.cursor().execute("SELECT depth FROM berths_berth")`,
			cause: "tables-outdated", says: "dravit task migrate", place: "harbour/urls.py:47", mend: func(w *world) {
				w.write("berths/migrations/0002_depth.py", djangoDepth)
				w.must("task", "migrate")
			}},
		{path: "/upload", code: `request.body`, cause: "upload-limit", says: "DATA_UPLOAD_MAX_MEMORY_SIZE",
			body: 3 << 20},
	}}

// djangoDepth is a migration that was pulled, and has not run.
const djangoDepth = `from django.db import migrations, models
class Migration(migrations.Migration):
    dependencies = [("berths", "0001_initial")]
    operations = [migrations.AddField("Berth", "depth", models.IntegerField(default=3))]
`

// sinatraPages fail in the routes of a real Sinatra.
var sinatraPages = application{name: "Sinatra", needs: "sinatra", stack: `name = "day-boat"
[part.app]
kind = "ruby"
command = "exec ruby -Ivendor app.rb"
[part.db]
kind = "postgres"
[[site]]
name = "day"
app = "app"
`, file: "app.rb", head: `require 'sinatra'
require 'pg'
require 'net/http'
set bind: ENV['HOST'], port: ENV['PORT'], server: 'webrick'
set show_exceptions: false, raise_errors: false, dump_errors: true
get('/') { '` + hello + `' }
`, page: "get('%s') { %s }\n", files: map[string]string{"Gemfile": "source 'x'\ngem 'sinatra'\ngem 'pg'\n"},
	pages: []pageFault{
		{path: "/nil", code: `[].first.name`, cause: "application-error", says: "undefined method", place: "app.rb:7",
			mend: replace("app.rb", "[].first.name", "''")},
		{path: "/constant", code: `Tides::Table.new`, cause: "code-missing", says: "the constant Tides",
			place: "app.rb:8", mend: replace("app.rb", "Tides::Table.new", "''")},
		{path: "/gem", code: `require 'tides'`, cause: "packages-missing", says: "bundle add tides",
			place: "app.rb:9"},
		{path: "/relative", code: `require_relative 'fares'; ''`, cause: "code-missing", says: "fares",
			place: "app.rb:10", mend: func(w *world) { w.write("fares.rb", "") }},
		{path: "/template", code: `erb :boats`, cause: "file-missing", says: "views/boats.erb", place: "app.rb:11",
			mend: func(w *world) { w.write("views/boats.erb", "boats") }},
		{path: "/key", code: `ENV.fetch('MOOR_KEY')`, cause: "variable-missing", says: "MOOR_KEY", place: "app.rb:12",
			mend: addEnv("MOOR_KEY")},
		{path: "/local", code: `Net::HTTP.get(URI('http://127.0.0.1:9/tides'))`, cause: "foreign-service",
			says: "start what is to answer there", place: "app.rb:13"},
		{path: "/query", code: `PG.connect(ENV['DATABASE_URL']).exec('SELEC 1'); ''`, cause: "application-error",
			says: "syntax error at or near", place: "app.rb:14", mend: replace("app.rb", "SELEC 1", "SELECT 1")},
		{path: "/password", code: `PG.connect(host: ENV['DB_HOST'], port: ENV['DB_PORT'], user: ENV['DB_USER'], ` +
			`password: 'x', dbname: ENV['DB_DATABASE']); ''`, cause: "wrong-password", says: `ENV["DB_PASSWORD"]`,
			place: "app.rb:15", mend: replace("app.rb", "password: 'x'", `password: ENV["DB_PASSWORD"]`)},
		{path: "/folder", code: `File.write(File.join(__dir__, 'uploads/a.txt'), 'x'); ''`, cause: "folder-missing",
			says: "uploads", place: "app.rb:16", fix: true},
	}}

// frontPages fail in an API, and in the proxy of the front end before it.
var frontPages = application{name: "front end", part: "api", stack: `name = "day-boat"
[part.api]
kind = "node"
command = "cd api && exec node server.js"
[part.front]
kind = "node"
command = "cd front && exec node server.js"
[part.db]
kind = "postgres"
[[site]]
name = "day"
app = "front"
`, file: "api/server.js", head: `const http = require("http"), net = require("net")
const after = () => new Promise(resolve => setTimeout(resolve, 5))
const pages = {
`, page: "%q: async () => {\n    %s\n  },\n", tail: `}
http.createServer(async (req, res) => {
  const page = pages[req.url]
  if (!page) return res.end("boats")
  try { await page() } catch (e) { console.error(e); res.statusCode = 500 }
  res.end("done")
}).listen(process.env.PORT, process.env.HOST)
`, files: map[string]string{"front/proxy.config.js": `module.exports = {
  "/api": process.env.API_URL,
  "/old": "http://localhost:4000",
}
`, "front/server.js": `const http = require("http"), rules = require("./proxy.config.js")
http.createServer((req, res) => {
  const rule = Object.keys(rules).find(prefix => req.url.startsWith(prefix))
  if (!rule) return res.end("` + hello + `")
  http.get(new URL(req.url, rules[rule]), { headers: { connection: "close" } }, answer => {
    res.statusCode = answer.statusCode
    answer.pipe(res)
  }).on("error", e => {
    console.error("[front] http proxy error: " + req.url + "\n" + e.stack)
    res.statusCode = 500
    res.end()
  })
}).listen(process.env.PORT, process.env.HOST)
`},
	pages: []pageFault{
		{path: "/api/thrown", code: `await after(); undefined.seats`, cause: "application-error", says: "'seats'",
			place: "api/server.js:5", mend: replace("api/server.js", "undefined.seats", "")},
		{path: "/api/tides", code: `await fetch("http://localhost:9/tides")`, cause: "foreign-service",
			says: "start what is to answer there", place: "api/server.js:8"},
		{path: "/api/import", code: `require("./fares")`, cause: "code-missing", says: "./fares",
			place: "api/server.js:11", mend: func(w *world) { w.write("api/fares.js", "") }},
		{path: "/old", code: "", cause: "proxy-elsewhere", says: "API_URL", place: "front/proxy.config.js:3",
			mend: func(w *world) {
				replace("front/proxy.config.js", `"http://localhost:4000"`, "process.env.API_URL")(w)
				w.must("restart", "front")
			}},
		{path: "/api/store", code: `await new Promise((_, no) => net.connect(5432, "127.0.0.1").on("error", no))`,
			cause: "store-elsewhere", says: "in api/server.js:17, read it from the environment: process.env.DB_PORT",
			place: "api/server.js:17", mend: replace("api/server.js", `net.connect(5432, "127.0.0.1").on("error", no)`,
				`net.connect(process.env.DB_PORT, process.env.DB_HOST, _)`)},
	}}

// replace changes the text of a file of the project.
func replace(file, old, new string) func(w *world) {
	return func(w *world) {
		text, err := os.ReadFile(filepath.Join(w.dir, file))
		require.NoError(w.t, err)
		require.Contains(w.t, string(text), old)
		w.write(file, strings.Replace(string(text), old, new, 1))
	}
}

// task runs a task of the stack file.
func task(name string) func(w *world) { return func(w *world) { w.must("task", name) } }

// addEnv sets a variable in the stack file.
func addEnv(name string) func(w *world) {
	return func(w *world) {
		text, err := os.ReadFile(filepath.Join(w.dir, "dravit.toml"))
		require.NoError(w.t, err)
		w.write("dravit.toml", string(text)+"[env]\n"+name+" = \"VALUE\"\n")
	}
}

// ask asks for a page, and returns its status.
func (w *world) ask(f pageFault) int {
	w.t.Helper()
	var body io.Reader
	method := http.MethodGet
	if f.body > 0 {
		method, body = http.MethodPost, bytes.NewReader(make([]byte, f.body))
	}
	status, _, _ := get(w.t, method, strings.TrimSuffix(w.siteURL("day"), "/")+f.path, body, func(r *http.Request) {
		if f.body > 0 {
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
	})
	return status
}

func (w *world) siteURL(name string) string {
	w.t.Helper()
	for _, s := range w.status().Sites {
		if s.Name == name {
			return s.URL
		}
	}
	require.Fail(w.t, "no site "+name)
	return ""
}

// causeOf waits until diagnose explains a page, and returns the cause.
func (w *world) causeOf(f pageFault) (found diagnose.Cause) {
	w.t.Helper()
	w.eventually(f.path+" is explained", func() bool {
		for _, c := range w.diagnose().Causes {
			if slices.ContainsFunc(c.Pages, func(p diagnose.Page) bool { return p.Path == f.path }) {
				found = c
				return true
			}
		}
		return false
	})
	return found
}

func TestFailedPagesOfPHP(t *testing.T)     { failedPages(t, phpPages) }
func TestFailedPagesOfNode(t *testing.T)    { failedPages(t, nodePages) }
func TestFailedPagesOfPython(t *testing.T)  { failedPages(t, pythonPages) }
func TestFailedPagesOfDjango(t *testing.T)  { failedPages(t, djangoPages) }
func TestFailedPagesOfSinatra(t *testing.T) { failedPages(t, sinatraPages) }
func TestFailedPagesBehind(t *testing.T)    { failedPages(t, frontPages) }

// failedPages asks for the pages of an application that answers: each one's cause is found, with its place, and what
// the remedy says mends it.
func failedPages(t *testing.T, app application) {
	w := newWorld(t)
	text := app.head
	for _, f := range app.pages {
		text += fmt.Sprintf(app.page, f.path, f.code)
	}
	w.write(app.file, text+app.tail)
	if app.needs != "" {
		w.unpack(app.needs, "vendor")
	}
	for name, text := range app.files {
		w.write(name, text)
	}
	w.write("dravit.toml", app.stack)
	w.must("start")
	assert.Empty(t, w.diagnose().Causes, "nothing was asked for yet")
	for _, f := range app.pages {
		w.ask(f)
		time.Sleep(200 * time.Millisecond) // as a person would: a busy machine may see late whose words are whose
	}
	for _, f := range app.pages {
		c := w.causeOf(f)
		said := c.What + "\n" + strings.Join(c.Evidence, "\n") + "\n" + c.Remedy
		assert.EqualValues(t, f.cause, c.Cause, "%s: %+v", f.path, c)
		assert.Contains(t, said, f.says, f.path)
		if f.place != "" {
			assert.Equal(t, f.place, c.Place, "%s: %+v", f.path, c)
		}
		assert.Equal(t, "site.day", c.Subject.String(), f.path)
	}
	assert.Contains(t, w.must("status").stdout, fmt.Sprintf("%d pages failed in the last 10 minutes", len(app.pages)))
	w.mendPages(app)
}

// mendPages does what the remedies say, one page after the other, and then sees the pages answer.
func (w *world) mendPages(app application) {
	var mended []pageFault
	for _, f := range app.pages {
		if !f.fix && f.mend == nil {
			continue
		}
		w.ask(f)
		c := w.causeOf(f)
		assert.EqualValues(w.t, f.cause, c.Cause, "%s: %+v", f.path, c)
		if f.fix {
			out := w.dravit("diagnose", "--fix", f.cause, "--yes")
			assert.Contains(w.t, out.stdout, "  + ", "%s: the difference is shown: %s", f.path, out.all())
			assert.Contains(w.t, out.stdout, app.stays, "what is not mended is not forgotten")
		} else {
			f.mend(w)
		}
		mended = append(mended, f)
	}
	if app.name != "PHP" { // else the next request runs the new code
		w.must("restart", cmp.Or(app.part, "app"))
	}
	for _, f := range mended {
		w.ask(f)
		w.eventually(f.path+" is mended", func() bool {
			return !slices.ContainsFunc(w.diagnose().Causes, func(c diagnose.Cause) bool {
				return slices.ContainsFunc(c.Pages, func(p diagnose.Page) bool { return p.Path == f.path })
			})
		})
	}
}

// What is noisy and healthy is not said to be wrong; a worker that fails at its jobs is; the log of requests has all.
func TestHealthyPages(t *testing.T) {
	w := newWorld(t)
	w.write("app.js", `const http = require("http");
console.error("Error: connect ECONNREFUSED 127.0.0.1:6379, retrying in 100 ms\n    at Socket (net.js:1:1)");
http.createServer((req, res) => {
  console.log(req.method, req.url);
  console.error("(node:1) Warning: a deprecated thing\n    at x (/lib/x.js:1:1)");
  if (req.url.startsWith("/none")) res.statusCode = 404;
  if (req.url.startsWith("/handled")) console.error(new Error("a handled error"));
  setTimeout(() => res.end("`+hello+`"), req.url.startsWith("/slow") ? 600 : 0);
}).listen(process.env.PORT, process.env.HOST);
`)
	w.write("worker.py", `import time, traceback
began = time.time()
while True:
    try:
        if time.time() - began < 2: raise ConnectionError("not there yet, trying again")
        if open("fails").read() == "yes": raise ValueError("no berth")
    except Exception: traceback.print_exc()
    time.sleep(0.3)
`)
	w.write("fails", "no")
	w.write("dravit.toml", "name = \"day-boat\"\n[part.app]\nkind = \"node\"\ncommand = \"exec node "+
		"app.js\"\nuses = []\n"+
		"[part.worker]\nkind = \"python\"\ncommand = \"exec python3 -u worker.py\"\nlistens = false\nuses = []\n"+
		"[[site]]\nname = \"day\"\napp = \"app\"\n")
	w.must("start")
	for _, path := range []string{"/", "/none?secret=1", "/handled", "/slow", "/"} {
		w.ask(pageFault{path: path})
	}
	time.Sleep(4 * time.Second) // the worker has settled
	assert.Contains(t, w.must("diagnose").stdout, "nothing is wrong")
	assert.NotContains(t, w.must("status").stdout, "failed in the last")

	var log struct{ Requests []requests.Request }
	w.json(&log, "logs", "--requests")
	var paths []string
	for _, r := range log.Requests {
		paths = append(paths, fmt.Sprint(r.Method, " ", r.Path, " ", r.Status))
		assert.Equal(t, "day app", r.Site+" "+r.App)
	}
	assert.Equal(t, []string{"GET / 200", "GET /none 404", "GET /handled 200", "GET /slow 200", "GET / 200"}, paths,
		"without Dravit's own checks, and without queries")
	assert.NotContains(t, w.must("logs", "--requests").stdout, "secret")
	assert.Equal(t, 2, strings.Count(w.must("logs", "gateway", "--status", "4xx").stdout, "\n"), "a head and a line")
	assert.Equal(t, 2, strings.Count(w.must("logs", "--requests", "--slower", "500ms").stdout, "\n"))
	assert.Equal(t, 2, w.dravit("logs", "--requests", "--status", "fog").code)
	assert.NotEqual(t, 0, w.dravit("logs", "--requests", "--site", "fog").code)

	w.write("fails", "yes")
	w.eventually("the worker's jobs are seen to fail", func() bool {
		return slices.ContainsFunc(w.diagnose().Causes, func(c diagnose.Cause) bool {
			return c.Cause == "application-error" && c.Subject.String() == "part.worker" && c.Place == "worker.py:6"
		})
	})
	out := w.dravit("diagnose")
	assert.Equal(t, 1, out.code)
	assert.Contains(t, out.stdout, "jobs of the worker worker fail: ValueError: no berth")
}

// follows starts a command that goes on until the test ends, and returns what it has written.
func (w *world) follows(args ...string) func() string {
	w.t.Helper()
	cmd := w.command(w.t.Context(), args...)
	file := filepath.Join(w.t.TempDir(), "out")
	out, err := os.Create(file)
	require.NoError(w.t, err)
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(w.t, cmd.Start())
	w.t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait() // it exits with the code of an interrupt
		out.Close()
	})
	return func() string {
		text, _ := os.ReadFile(file)
		return string(text)
	}
}

// A watch and the logs say of a page that fails why, as it happens.
func TestFailedPageIsSaid(t *testing.T) {
	w := newWorld(t)
	w.write("public/index.php", "<?php if ($_SERVER['REQUEST_URI'] == '/fog') throw new Exception('fog'); echo "+
		"'"+hello+"';\n")
	w.write("dravit.toml", "name = \"day-boat\"\n"+phpSite)
	w.must("start")
	watch, logs := w.follows("check", "--watch=1h"), w.follows("logs", "--requests", "--follow")
	time.Sleep(500 * time.Millisecond)
	for range 50 { // more than can be explained one by one
		w.ask(pageFault{path: "/fog"})
	}
	for _, said := range []func() string{watch, logs} {
		w.eventually("it is said", func() bool {
			return strings.Contains(said(), "GET /fog failed  application-error")
		})
	}
	var c struct {
		Pages []requests.Failure `json:"failed_pages"`
	}
	w.eventually("all are counted", func() bool {
		r := w.dravit("status", "--json")
		c.Pages = nil
		return json.Unmarshal([]byte(r.stdout), &c) == nil && len(c.Pages) == 1 && c.Pages[0].Count == 50
	})
	assert.Empty(t, c.Pages[0].Said, "a list has no logs")
	assert.Equal(t, "public/index.php:1", c.Pages[0].Place)
	w.write("public/index.php", "<?php echo '"+hello+"';\n")
	w.ask(pageFault{path: "/fog"})
	w.eventually("it is mended", func() bool { return !strings.Contains(w.must("status").stdout, "failed in") })
}

// A page that fails as fast as it is asked for, beside a log that grows by many MB a second, costs neither memory nor
// the other pages' time.
func TestFailsFast(t *testing.T) {
	w := newWorld(t)
	w.write("app.js", `const http = require("http");
const noise = "noise ".repeat(200000) + "\n";
http.createServer((req, res) => {
  if (req.url == "/noise") { process.stdout.write(noise); return res.end("noise"); }
  if (req.url == "/fog") { console.error(new Error("fog")); res.statusCode = 500; return res.end(); }
  res.end("`+hello+`");
}).listen(process.env.PORT, process.env.HOST);
`)
	w.write("dravit.toml", "name = \"day-boat\"\n"+nodeSite)
	w.must("start")
	url := strings.TrimSuffix(w.siteURL("day"), "/")
	ctx, cancel := context.WithTimeout(t.Context(), 6*time.Second)
	defer cancel()
	var asking sync.WaitGroup
	for _, path := range []string{"/fog", "/fog", "/noise"} {
		asking.Go(func() {
			client := throughGateway()
			for ctx.Err() == nil {
				if resp, err := client.Get(url + path); err == nil {
					_, _ = io.Copy(io.Discard, resp.Body)
					resp.Body.Close()
				}
			}
		})
	}
	var slowest time.Duration
	for ctx.Err() == nil {
		began := time.Now()
		assert.Equal(t, 200, w.ask(pageFault{path: "/"}))
		slowest = max(slowest, time.Since(began))
		time.Sleep(20 * time.Millisecond)
	}
	asking.Wait()
	assert.Less(t, slowest, 3*time.Second, "other pages do not wait")
	c := w.causeOf(pageFault{path: "/fog"})
	assert.Contains(t, []string{"application-error", "page-failed"}, string(c.Cause),
		"its words may be rotated away already")
	assert.Greater(t, c.Pages[0].Count, 100)
	for _, pid := range append(w.gatewayPIDs(), w.keeperPID()) {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		require.NoError(t, err)
		_, rest, _ := strings.Cut(string(text), "VmHWM:")
		most, err := strconv.Atoi(strings.Fields(rest)[0])
		require.NoError(t, err)
		assert.Less(t, most, 200<<10, "kB of memory, at most, of process %d", pid)
	}
}

// throughGateway returns a client that reuses its connections to the gateway, whatever name it asks for.
func throughGateway() *http.Client {
	return &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{
		DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
			_, port, _ := net.SplitHostPort(addr)
			return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+port)
		},
	}}
}
