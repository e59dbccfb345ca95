package e2e

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// unpack puts a real application, or the packages that one needs, into a folder of the project.
func (w *world) unpack(name, into string) {
	w.t.Helper()
	from := filepath.Join(beside(w.t), "applications", name)
	require.FileExists(w.t, filepath.Join(from, "complete"), "./verify fetches it, or e2e/applications-beside")
	require.NoError(w.t, os.CopyFS(filepath.Join(w.dir, into), os.DirFS(filepath.Join(from, "files"))))
	w.own(w.dir)
}

// visitor is a browser without pictures and scripts: it keeps cookies and follows redirects.
type visitor struct {
	t      *testing.T
	base   string
	client *http.Client
}

// visitor opens the first site of the stack.
func (w *world) visitor() *visitor {
	w.t.Helper()
	var s struct{ Sites []struct{ URL string } }
	w.json(&s, "status")
	require.NotEmpty(w.t, s.Sites)
	jar, err := cookiejar.New(nil)
	require.NoError(w.t, err)
	return &visitor{w.t, strings.TrimSuffix(s.Sites[0].URL, "/"), &http.Client{Jar: jar, Timeout: time.Minute,
		Transport: &http.Transport{DisableKeepAlives: true,
			DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
				_, port, _ := net.SplitHostPort(addr)
				return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+port)
			}}}}
}

func (v *visitor) do(method, path string, form url.Values, header ...string) string {
	v.t.Helper()
	req, err := http.NewRequest(method, v.base+path, strings.NewReader(form.Encode()))
	require.NoError(v.t, err)
	if form != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	req.Header.Set("Referer", v.base+path)
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := v.client.Do(req)
	require.NoError(v.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(v.t, err)
	require.Less(v.t, resp.StatusCode, 400, "%s %s: %s", method, path, text)
	return string(text)
}

func (v *visitor) get(path string) string { v.t.Helper(); return v.do("GET", path, nil) }

// field returns the value of a hidden field of a form.
func (v *visitor) field(page, name string) string {
	v.t.Helper()
	m := regexp.MustCompile(`name="` + name + `" value="([^"]*)"`).FindStringSubmatch(page)
	require.NotNil(v.t, m, "no field %s in %s", name, page)
	return m[1]
}

// keeps asserts that what was put into an application is there again after the stack was stopped and started.
func (w *world) keeps(path, text string) {
	w.t.Helper()
	assert.Contains(w.t, w.visitor().get(path), text)
	w.must("check", "--deep")
	w.must("stop")
	w.must("start")
	assert.Contains(w.t, w.visitor().get(path), text)
	assert.Empty(w.t, w.diagnose().Causes)
}

// WordPress runs on MariaDB: it is installed, and an article is written and read.
func TestWordPress(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.settings("http = 18231\nhttps = 18232\n") // it writes its own address into its database
	w.unpack("wordpress", ".")
	w.write("wp-config.php", `<?php
define('DB_NAME', getenv('DB_DATABASE'));
define('DB_USER', getenv('DB_USER'));
define('DB_PASSWORD', getenv('DB_PASSWORD'));
define('DB_HOST', getenv('DB_HOST') . ':' . getenv('DB_PORT'));
define('DB_CHARSET', 'utf8mb4');
define('WP_HTTP_BLOCK_EXTERNAL', true);
define('DISABLE_WP_CRON', true);
$table_prefix = 'wp_';
defined('ABSPATH') || define('ABSPATH', __DIR__ . '/');
require_once ABSPATH . 'wp-settings.php';
`)
	w.write("dravit.toml", `name = "gazette"
[part.db]
kind = "mariadb"
[part.app]
kind = "php"
extensions = ["mysqli"]
writable = ["wp-content/uploads"]
[part.mail]
kind = "dravit-mail"
[[site]]
name = "gazette"
root = "."
app = "app"
`)
	w.must("start")
	v := w.visitor()
	v.do("POST", "/wp-admin/install.php?step=2", url.Values{"weblog_title": {"Gazette"}, "user_name": {"clerk"},
		"admin_password": {"low-tide-42"}, "admin_password2": {"low-tide-42"}, "pw_weak": {"1"},
		"admin_email": {"clerk@ferry.test"}, "blog_public": {"0"}, "language": {""}})
	v.get("/wp-login.php")
	v.do("POST", "/wp-login.php", url.Values{"log": {"clerk"}, "pwd": {"low-tide-42"}, "wp-submit": {"Log In"},
		"testcookie": {"1"}})
	nonce := v.get("/wp-admin/admin-ajax.php?action=rest-nonce")
	v.do("POST", "/index.php?rest_route=/wp/v2/posts", url.Values{"title": {"The Tern sails again"},
		"content": {"From the east quay."}, "status": {"publish"}}, "X-WP-Nonce", nonce)
	w.keeps("/", "The Tern sails again")
}

// Shaarli keeps its bookmarks in files: it is installed, and a bookmark is added and found.
func TestShaarli(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.unpack("shaarli", ".")
	w.write("dravit.toml", `name = "links"
[part.app]
kind = "php"
extensions = ["intl", "mbstring"]
settings = { include_path = ".:vendor", display_errors = false }
writable = ["data", "cache", "pagecache", "tmp"]
[[site]]
name = "links"
root = "."
app = "app"
`)
	w.must("start")
	v := w.visitor()
	v.do("POST", "/install", url.Values{"setlogin": {"clerk"}, "setpassword": {"low-tide-42"}, "continent": {"Europe"},
		"city": {"London"}, "title": {"Links"}, "language": {"en"}})
	token := v.field(v.get("/login"), "token")
	v.do("POST", "/login", url.Values{"login": {"clerk"}, "password": {"low-tide-42"}, "token": {token}})
	token = v.field(v.get("/admin/shaare?post="), "token")
	v.do("POST", "/admin/shaare", url.Values{"lf_url": {"https://tides.test/"}, "lf_title": {"Tides of Saltmarsh"},
		"lf_description": {""}, "lf_tags": {""}, "token": {token}, "save_edit": {"Save"}})
	w.keeps("/", "Tides of Saltmarsh")
}

// A project of Django's runs on PostgreSQL, with its migrations as tasks: a berth is added on its own pages for the
// administrator.
func TestDjangoProject(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for name, text := range map[string]string{"manage.py": djangoManage, "harbour/__init__.py": "",
		"harbour/settings.py": djangoSettings, "harbour/urls.py": djangoURLs, "berths/__init__.py": "",
		"berths/models.py": djangoModels, "berths/admin.py": djangoAdmin, "berths/migrations/__init__.py": "",
		"berths/migrations/0001_initial.py": djangoMigration} {
		w.write(name, text)
	}
	w.write("dravit.toml", `name = "harbour"
[part.db]
kind = "postgres"
[part.app]
kind = "python"
command = "python3 manage.py runserver --noreload 127.0.0.1:{port}"
[[site]]
name = "harbour"
app = "app"
[[task]]
name = "migrations"
part = "app"
command = "python3 manage.py migrate --no-input"
when = "first-start"
if_changed = ["berths/migrations/*.py"]
[[task]]
name = "administrator"
part = "app"
command = "python3 manage.py createsuperuser --no-input"
when = "first-start"
[task.env]
DJANGO_SUPERUSER_USERNAME = "clerk"
DJANGO_SUPERUSER_PASSWORD = "low-tide-42"
DJANGO_SUPERUSER_EMAIL = "clerk@ferry.test"
`)
	w.must("start")
	v := w.visitor()
	login := v.get("/admin/login/")
	v.do("POST", "/admin/login/", url.Values{"username": {"clerk"}, "password": {"low-tide-42"}, "next": {"/admin/"},
		"csrfmiddlewaretoken": {v.field(login, "csrfmiddlewaretoken")}})
	add := v.get("/admin/berths/berth/add/")
	v.do("POST", "/admin/berths/berth/add/", url.Values{"name": {"East quay 4"}, "_save": {"Save"},
		"csrfmiddlewaretoken": {v.field(add, "csrfmiddlewaretoken")}})
	w.keeps("/", "East quay 4")

	// A new migration runs in the next start.
	w.write("berths/migrations/0002_depth.py", `from django.db import migrations
class Migration(migrations.Migration):
    dependencies = [("berths", "0001_initial")]
    operations = [migrations.RunSQL("UPDATE berths_berth SET name = 'West quay 9'")]
`)
	w.must("start")
	assert.Contains(t, w.visitor().get("/"), "West quay 9")
}

const (
	djangoManage = `import os, sys
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "harbour.settings")
from django.core.management import execute_from_command_line
execute_from_command_line(sys.argv)
`
	djangoSettings = `import os
SECRET_KEY, DEBUG, ROOT_URLCONF, USE_TZ = "made up", True, "harbour.urls", True
ALLOWED_HOSTS = [".localhost", "127.0.0.1"]
INSTALLED_APPS = ["django.contrib." + x for x in ["admin", "auth", "contenttypes", "sessions", "messages",
    "staticfiles"]] + ["berths"]
MIDDLEWARE = ["django.contrib.sessions.middleware.SessionMiddleware", "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware", "django.contrib.messages.middleware.MessageMiddleware"]
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True, "OPTIONS": {
    "context_processors": ["django.template.context_processors.request", "django.contrib.auth.context_processors.auth",
        "django.contrib.messages.context_processors.messages"]}}]
STATIC_URL, DEFAULT_AUTO_FIELD = "/static/", "django.db.models.AutoField"
DATABASES = {"default": {"ENGINE": "django.db.backends.postgresql", "NAME": os.environ["DB_DATABASE"],
    "USER": os.environ["DB_USER"], "PASSWORD": os.environ["DB_PASSWORD"], "HOST": os.environ["DB_HOST"],
    "PORT": os.environ["DB_PORT"]}}
`
	djangoURLs = `from django.contrib import admin
from django.http import HttpResponse
from django.urls import path
from berths.models import Berth
def berths(request):
    return HttpResponse(", ".join(b.name for b in Berth.objects.all()))
urlpatterns = [path("admin/", admin.site.urls), path("", berths)]
`
	djangoModels = `from django.db import models
class Berth(models.Model):
    name = models.CharField(max_length=40)
`
	djangoAdmin = `from django.contrib import admin
from .models import Berth
admin.site.register(Berth)
`
	djangoMigration = `from django.db import migrations, models
class Migration(migrations.Migration):
    initial = True
    operations = [migrations.CreateModel("Berth", [("id", models.AutoField(primary_key=True, auto_created=True)),
        ("name", models.CharField(max_length=40))])]
`
)

// An application of Sinatra's has its tables made by a task, and keeps crews in them.
func TestSinatraApplication(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.unpack("sinatra", "vendor")
	w.write("tables.rb", "require 'pg'\nPG.connect(ENV['DATABASE_URL']).exec('CREATE TABLE crews (name text)')\n")
	w.write("app.rb", `require 'sinatra'
require 'pg'
set bind: ENV['HOST'], port: ENV['PORT'], server: 'webrick'
get('/') { PG.connect(ENV['DATABASE_URL']).exec('SELECT name FROM crews').map { |r| r['name'] }.join(', ') }
post('/crews') do
  PG.connect(ENV['DATABASE_URL']).exec_params('INSERT INTO crews VALUES ($1)', [params['name']])
  redirect to('/')
end
`)
	w.write("dravit.toml", `name = "crews"
[part.db]
kind = "postgres"
[part.app]
kind = "ruby"
command = "ruby -Ivendor app.rb"
[[site]]
name = "crews"
app = "app"
[[task]]
name = "tables"
part = "app"
command = "ruby tables.rb"
when = "first-start"
`)
	w.must("start")
	assert.Contains(t, w.visitor().do("POST", "/crews", url.Values{"name": {"Ada of the Tern"}}), "Ada of the Tern")
	w.keeps("/", "Ada of the Tern")
}

// An application of Express's hands bookings to workers over Redis. A task installs its packages.
func TestExpressApplication(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.unpack("express", ".")
	cache := filepath.Join(beside(t), "applications", "express", "cache")
	require.NoError(t, os.CopyFS(filepath.Join(w.dir, "cache"), os.DirFS(cache)))
	w.write("app.js", `const express = require('express')
const db = require('redis').createClient({ url: process.env.REDIS_URL })
const app = express().use(express.urlencoded({ extended: false }))
app.get('/', async (_, res) => res.send((await db.lRange('tickets', 0, -1)).join(', ')))
app.post('/bookings', async (req, res) => { await db.lPush('bookings', req.body.name); res.send('booked') })
db.connect().then(() => app.listen(process.env.PORT, process.env.HOST))
`)
	w.write("worker.js", `const db = require('redis').createClient({ url: process.env.REDIS_URL })
db.connect().then(async () => {
  for (;;) {
    const job = await db.brPop('bookings', 1)
    if (job) await db.lPush('tickets', 'ticket for ' + job.element)
    require('fs').writeFileSync('lives', '')
  }
})
`)
	w.write("dravit.toml", `name = "bookings"
[part.queue]
kind = "redis"
[part.app]
kind = "node"
command = "node app.js"
[part.tickets]
kind = "node"
command = "node worker.js"
listens = false
processes = 2
proof = { file = "lives", within = "20s" }
[[site]]
name = "bookings"
app = "app"
[[task]]
name = "packages"
part = "app"
command = "npm ci --offline --cache cache --no-audit --no-fund"
when = "first-start"
if_changed = ["package-lock.json"]
`)
	w.must("start")
	v := w.visitor()
	v.do("POST", "/bookings", url.Values{"name": {"Grace"}})
	w.eventually("a worker writes the ticket", func() bool { return strings.Contains(v.get("/"), "ticket for Grace") })
	w.keeps("/", "ticket for Grace")
}

// A console of the developer's own, one PHP file, is a site like others.
func TestConsoleOfOnesOwn(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", `name = "harbour"
[part.app]
kind = "php"
[part.db]
kind = "mariadb"
[[site]]
name = "tables"
root = "tables"
app = "app"
`)
	w.unpack("adminer", "tables")
	w.must("start")
	w.write("old.sql", fleet(3))
	w.must("db", "load", "old.sql")
	var access struct {
		Host, User, Password, Database string
		Port                           int
	}
	w.json(&access, "db", "access", "--password")
	page := w.visitor().do("POST", "/", url.Values{"auth[driver]": {"server"}, "auth[username]": {access.User},
		"auth[server]": {fmt.Sprintf("%s:%d", access.Host, access.Port)}, "auth[password]": {access.Password},
		"auth[db]": {access.Database}})
	assert.Contains(t, page, "select=boats")
}
