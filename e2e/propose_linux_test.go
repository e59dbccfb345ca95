package e2e

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type proposal struct {
	Shape, Text     string
	Exists, Written bool
	New             []string
	Tables          []struct {
		Path  string
		Lines []struct {
			Key, Certainty string
			Value          any
			Evidence       []struct {
				File string
				Line int
			}
		}
	}
	Plan struct {
		OK    bool
		Parts []struct{ Name, Kind string }
	}
}

// lines returns the lines of a proposal as PATH.KEY VALUE.
func (p proposal) lines() (all []string) {
	for _, t := range p.Tables {
		for _, l := range t.Lines {
			all = append(all, strings.TrimPrefix(t.Path+"."+l.Key, ".")+" "+fmt.Sprint(l.Value))
		}
	}
	return all
}

// startProject writes what Django's own generator writes for a new project.
func (w *world) startProject() {
	w.t.Helper()
	w.runs("/usr/bin/python3", "-m", "django", "startproject", "harbour", w.dir)
}

// What is proposed for folders from packages that nobody here wrote is what a careful reader concludes.
func TestProposals(t *testing.T) {
	t.Parallel()
	for name, want := range map[string][]string{
		"wordpress": {"WordPress", "part.app.kind php", "part.db.kind mariadb", "part.mail.kind dravit-mail",
			"site.root .", "part.app.writable [wp-content/uploads]"},
		"shaarli": {"Shaarli", "part.app.kind php", "part.app.extensions [intl mbstring]", "part.web.kind apache",
			"part.app.writable [data cache pagecache tmp]"},
		"phpmyadmin":   {"phpMyAdmin", "part.db.kind mariadb", "site.root ."},
		"postfixadmin": {"pages of PHP", "site.root public", "part.db.kind mariadb"},
		"tt-rss":       {"pages of PHP", "site.root www", "part.db.kind mariadb", "part.mail.kind dravit-mail"},
		"phpliteadmin": {"pages of PHP", "site.expect map[path:/phpliteadmin.php]"},
		"express-generator": {"Express", "part.app.command npm start", "task.command npm ci",
			"task.if_changed [package-lock.json]"},
		"fastify": {"Fastify with its command line", "part.app.command npm start", "task.command npm install"},
		"nest":    {"NestJS", "part.app.command nest start"},
		"vite":    {"Vite", "part.app.command vite --host 127.0.0.1 --port {port}"},
		"next":    {"Next.js", "part.app.command next dev --hostname 127.0.0.1 --port {port}"},
		"svelte":  {"SvelteKit", "part.app.command vite dev --host 127.0.0.1 --port {port}"},
		"django": {"Django",
			"part.app.command python3 manage.py runserver --noreload 127.0.0.1:{port}",
			"task.command python3 manage.py migrate --no-input"},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			if name == "django" {
				w.startProject()
			} else {
				w.unpack(name, ".")
			}
			var p proposal
			r := w.json(&p, "propose", "--yes")
			require.Equal(t, 0, r.code, r.all())
			assert.Equal(t, want[0], p.Shape)
			assert.Subset(t, withoutOthers(p.lines()), want[1:], p.Text)
			assert.Equal(t, strings.Contains(p.Text, "# its database (sqlite) is a file of its own"),
				name == "django" || name == "phpliteadmin")
			assert.True(t, p.Written)
			assert.Equal(t, p.Text, content(t, filepath.Join(w.dir, "dravit.toml")))
			assert.NotEqual(t, 2, w.dravit("plan").code, "it is a faultless stack file: %s", p.Text)
			for _, table := range p.Tables {
				for _, l := range table.Lines {
					for _, e := range l.Evidence {
						if e.File != "" {
							assert.FileExists(t, filepath.Join(w.dir, e.File))
						}
					}
				}
			}
			r = w.dravit("propose", "--yes")
			assert.Contains(t, r.stdout, "has a dravit.toml already")
		})
	}
}

// suiteExtensions are the extensions of PHP that ./verify installs.
var suiteExtensions = []string{"intl", "mbstring", "mysqli", "pdo_mysql", "pdo_pgsql", "pdo_sqlite", "pgsql", "redis",
	"sqlite3", "xdebug"}

// withoutOthers leaves out of a proposal the extensions that it names only as this machine has them beyond ./verify.
func withoutOthers(lines []string) []string {
	out := slices.Clone(lines)
	for i, line := range out {
		list, ok := strings.CutPrefix(line, "part.app.extensions [")
		if !ok {
			continue
		}
		names := slices.DeleteFunc(strings.Fields(strings.TrimSuffix(list, "]")), func(e string) bool {
			return !slices.Contains(suiteExtensions, e)
		})
		out[i] = "part.app.extensions [" + strings.Join(names, " ") + "]"
	}
	return out
}

// Applications run from their proposal alone, with one command in a folder without a stack file.
func TestStartFromAProposal(t *testing.T) {
	t.Parallel()
	t.Run("Shaarli", func(t *testing.T) {
		w := newWorld(t)
		w.unpack("shaarli", ".")
		// what its comment about Debian's libraries would say
		w.write(".user.ini", "include_path = .:vendor\ndisplay_errors = 0\n")
		w.must("start", "--yes")
		v := w.visitor()
		v.do("POST", "/install", url.Values{"setlogin": {"clerk"}, "setpassword": {"low-tide-42"},
			"continent": {"Europe"}, "city": {"London"}, "title": {"Links of the pier"}, "language": {"en"}})
		assert.Contains(t, v.get("/"), "Links of the pier")
	})
	t.Run("WordPress", func(t *testing.T) {
		w := newWorld(t)
		w.unpack("wordpress", ".")
		w.must("start", "--yes")
		env := w.environment(w.dir)
		v := w.visitor() // as the comment in the proposal says
		v.do("POST", "/wp-admin/setup-config.php?step=2", url.Values{"dbname": {env["DB_DATABASE"]},
			"uname": {env["DB_USER"]}, "pwd": {env["DB_PASSWORD"]}, "dbhost": {env["DB_HOST"] + ":" + env["DB_PORT"]},
			"prefix": {"wp_"}, "language": {""}})
		v.do("POST", "/wp-admin/install.php?step=2", url.Values{"weblog_title": {"Gazette of the pier"},
			"user_name": {"clerk"}, "admin_password": {"low-tide-42"}, "admin_password2": {"low-tide-42"},
			"pw_weak": {"1"}, "admin_email": {"clerk@ferry.test"}, "blog_public": {"0"}, "language": {""}})
		assert.Contains(t, v.get("/"), "Gazette of the pier")
	})
	t.Run("Django", func(t *testing.T) {
		w := newWorld(t)
		w.startProject()
		w.must("start", "--yes")
		page := w.visitor().get("/admin/login/")
		assert.Contains(t, page, "Django administration", "the tables of sessions are there")
	})
	t.Run("Express", func(t *testing.T) {
		w := newWorld(t)
		w.unpack("express-generator", ".")
		cache := filepath.Join(beside(t), "applications", "express-generator", "cache")
		require.NoError(t, os.CopyFS(filepath.Join(w.dir, "cache"), os.DirFS(cache)))
		w.write(".npmrc", "offline=true\ncache=cache\naudit=false\nfund=false\n")
		w.must("start", "--yes")
		assert.Contains(t, w.visitor().get("/"), "Welcome to Express")
	})
	t.Run("phpLiteAdmin", func(t *testing.T) {
		w := newWorld(t)
		w.unpack("phpliteadmin", ".")
		w.must("start", "--yes")
		assert.Contains(t, w.visitor().get("/phpliteadmin.php"), "phpLiteAdmin")
	})
	t.Run("several sites", func(t *testing.T) {
		w := newWorld(t)
		w.write("north/index.html", "<h1>North pier</h1>")
		w.write("south/index.php", "<?php echo 'South pier';")
		w.must("start", "--yes")
		w.dir = filepath.Join(w.dir, "south")
		assert.Contains(t, w.must("status").stdout, "http://north.localhost:")
		w.dir = filepath.Dir(w.dir)
	})
}

// In a folder without a stack file, start asks before it writes one, and propose overwrites nothing.
func TestStartWithoutAStackFile(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must("demo", filepath.Join(w.dir, "demo"))
	w.must("stop", "-C", filepath.Join(w.dir, "demo"))
	w.dir = filepath.Join(w.dir, "demo")
	text := content(t, filepath.Join(w.dir, "dravit.toml"))
	require.NoError(t, os.Remove(filepath.Join(w.dir, "dravit.toml")))
	r := w.dravit("start")
	assert.Equal(t, 2, r.code, "nobody can be asked")
	assert.Contains(t, r.stderr, "dravit propose")
	shown, _ := w.atTerminal("n", "start")
	assert.Contains(t, shown, "Several databases fit. Which one should it be? mariadb, sqlite [mariadb]")
	assert.Contains(t, shown, "Write this to")
	assert.NoFileExists(t, filepath.Join(w.dir, "dravit.toml"))
	w.must("propose", "--yes")
	assert.Contains(t, content(t, filepath.Join(w.dir, "dravit.toml")), `seed = "data/timetable.sql"`)
	w.write("dravit.toml", text)
	assert.Equal(t, 0, w.dravit("propose", "--yes").code)
	assert.Equal(t, text, content(t, filepath.Join(w.dir, "dravit.toml")), "nothing is overwritten")
	w.must("propose", "--yes", "--force")
	assert.NotEqual(t, text, content(t, filepath.Join(w.dir, "dravit.toml")))
}

// What a stack file lacks is named, and a folder that is no project gets a sentence and no file.
func TestProposeBeside(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	r := w.dravit("propose", "--yes")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, flat(r.stderr), "the folder is empty")
	assert.NoFileExists(t, filepath.Join(w.dir, "dravit.toml"))
	w.write("index.php", "<?php mb_strlen('x'); new Redis();")
	w.write("dravit.toml", "name = \"quay\"\n[part.app]\nkind = \"php\"\nextensions = [\"redis\"]\n")
	var p proposal
	w.json(&p, "propose")
	assert.True(t, p.Exists)
	assert.Equal(t, []string{"extension mbstring of part app", `[part.cache] kind = "redis" or "dravit-cache"`}, p.New)
	assert.Contains(t, w.must("propose").stdout, "it lacks  extension mbstring")

	// On consent it is added, and comments and order stay.
	w.write("dravit.toml", "# the quay\nname = \"quay\"\n[part.app]\nkind = \"php\" # ours\nextensions = [\"redis\"]\n")
	w.must("propose", "--yes")
	assert.Equal(t, "# the quay\nname = \"quay\"\n[part.app]\nkind = \"php\" # ours\n"+
		"extensions = [\"redis\", \"mbstring\"]\n\n"+
		"[part.cache]\nkind = [\"redis\", \"dravit-cache\"]        # index.php:1 uses the class redis\n",
		content(t, filepath.Join(w.dir, "dravit.toml")))
	w.must("start")
	assert.Contains(t, w.must("propose", "--yes").stdout, "it has every part and extension")

	w.write("dravit.toml", "[part.app]\nkind = \"tide\"\n")
	assert.Equal(t, 2, w.dravit("propose", "--yes").code, "the file is faulty")
	w.must("propose", "--yes", "--force")
	w.must("plan")
}
