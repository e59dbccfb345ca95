package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hostile is a repository that attacks the user who only looks at it. $CANARY is the path of a file that must not be
// created: nothing of the repository may run. SECRET is outside it, and must not be printed.
type hostile struct {
	name  string
	make  func(t *testing.T, w *world, outside string)
	code  int    // of plan; -1: whatever
	says  string // plan
	start int    // the code of start, 0: not tried
}

func link(t *testing.T, w *world, target, name string) {
	path := filepath.Join(w.dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.Symlink(target, path))
}

func pipe(t *testing.T, w *world, name string) {
	require.NoError(t, syscall.Mkfifo(filepath.Join(w.dir, name), 0o644))
}

const hostileSite = "name = \"trap\"\n[[site]]\nname = \"day\"\n"

// lyingProgram makes a program in the project that leaves a trace when it runs, and a stack file that requires it.
func lyingProgram(name string) func(t *testing.T, w *world, outside string) {
	return func(t *testing.T, w *world, outside string) {
		w.write("dravit.toml", hostileSite+"[requires]\n"+filepath.Base(name)+" = \"\"\n")
		w.write("index.html", "x")
		w.write(name, tellTale)
		require.NoError(t, os.Chmod(filepath.Join(w.dir, name), 0o755))
	}
}

// tellTale is a program that leaves a trace when it runs.
const tellTale = "#!/bin/sh\ntouch \"$(dirname \"$0\")/canary\" 2>/dev/null; touch " +
	"/tmp/dravit-canary-$(id -u)\necho 9.9.9\n"

// stackFile makes a project of a stack file, in which OUTSIDE stands for a folder beside the project.
func stackFile(text string) func(t *testing.T, w *world, outside string) {
	return func(t *testing.T, w *world, outside string) {
		w.write("index.html", "x")
		w.write("dravit.toml", strings.ReplaceAll(text, "OUTSIDE", outside))
	}
}

// stackFileWith makes a project of a stack file and more.
func stackFileWith(text string, more func(t *testing.T, w *world, outside string)) func(*testing.T, *world, string) {
	return func(t *testing.T, w *world, outside string) {
		stackFile(text)(t, w, outside)
		more(t, w, outside)
	}
}

// hostiles are repositories made to do harm.
var hostiles = []hostile{
	{
		name: "a program with arguments",
		make: stackFile(hostileSite + "[requires]\ncp = { ask = \"/etc/hostname OUTSIDE/canary\" }\n"),
		code: 2,
		says: "is not asked with",
	},
	{
		name: "an interpreter with a program",
		make: stackFile(hostileSite + "[requires]\npython3 = { ask = \"-c open('OUTSIDE/canary','w')\" }\n"),
		code: 2,
	},
	{name: "a tool below node_modules", make: lyingProgram("node_modules/.bin/tsc"), code: -1},
	{name: "a tool below vendor", make: lyingProgram("vendor/bin/phpunit"), code: -1},
	{name: "an interpreter of a virtual environment", make: lyingProgram(".venv/bin/python3"), code: -1},
	{
		name: "a manifest that is a pipe",
		make: stackFileWith(
			hostileSite,
			func(t *testing.T, w *world, _ string) { pipe(t, w, "composer.json"); pipe(t, w, ".nvmrc") },
		),
		code: -1,
	},
	{
		name: "a stack file that is a pipe",
		make: stackFileWith(hostileSite, func(t *testing.T, w *world, _ string) { pipe(t, w, "dravit.local.toml") }),
		code: 2,
		says: "not a regular file",
	},
	{name: "a manifest without an end", make: stackFileWith(hostileSite, func(t *testing.T, w *world, _ string) {
		link(t, w, "/dev/zero", "package.json")
		link(t, w, "/dev/zero", "pyproject.toml")
	}), code: -1},
	{
		name: "a manifest outside",
		make: stackFileWith(
			hostileSite,
			func(t *testing.T, w *world, outside string) { link(t, w, outside+"/secret", ".python-version") },
		),
		code: -1,
	},
	{
		name: "a stack file outside",
		make: stackFileWith(
			hostileSite,
			func(t *testing.T, w *world, outside string) { link(t, w, outside+"/secret", "dravit.local.toml") },
		),
		code: 2,
		says: "leads out of the project",
	},
	{
		name: "a pipe as an extension",
		make: stackFileWith(
			"name = \"trap\"\n[part.app]\nkind = \"php\"\nextensions = [\"own/x.so\"]\n",
			func(t *testing.T, w *world, _ string) {
				require.NoError(t, os.Mkdir(filepath.Join(w.dir, "own"), 0o755))
				pipe(t, w, "own/x.so")
			},
		),
		code: 3,
	},
	{
		name: "pipes below a virtual environment",
		make: stackFileWith(
			"name = \"trap\"\n[part.app]\nkind = \"python\"\ncommand = \"x\"\n",
			func(t *testing.T, w *world, _ string) {
				require.NoError(t, os.MkdirAll(filepath.Join(w.dir, ".venv"), 0o755))
				pipe(t, w, ".venv/pyvenv.cfg")
				pipe(t, w, "requirements.txt")
			},
		),
		code: -1,
	},
	{
		name: "many aliases",
		make: stackFile(hostileSite + "aliases = [" + strings.Repeat("\"a\", ", 50_000) + "\"b\"]\n"),
		code: 2,
	},
	{name: "many sites", make: stackFile(strings.Repeat("[[site]]\nname = \"a\"\n", 9_000)), code: 2},
	{
		name: "many parts",
		make: stackFile("name = \"trap\"\n" + many(3_000, "[part.a%d]\nkind = \"dravit-cache\"\n")),
		code: -1,
	},
	{
		name: "a huge file",
		make: stackFile(hostileSite + "# " + strings.Repeat("x", 3<<20) + "\n"),
		code: 2,
		says: "larger than",
	},
	{
		name: "a deep key",
		make: stackFile(hostileSite + strings.Repeat("a.", 50_000) + "a = 1\n"),
		code: 2,
		says: "nested too deep",
	},
	{
		name: "a deep table",
		make: stackFile(hostileSite + "[" + strings.Repeat("a.", 50_000) + "a]\n"),
		code: 2,
		says: "nested too deep",
	},
	{
		name: "a deep list",
		make: stackFile(hostileSite + "x = " + strings.Repeat("[", 50_000) + strings.Repeat("]", 50_000) + "\n"),
		code: 2,
		says: "nested too deep",
	},
	{name: "a deep manifest", make: stackFileWith(hostileSite, func(t *testing.T, w *world, _ string) {
		w.write("package.json", strings.Repeat(`{"a":`, 100_000))
		w.write("pyproject.toml", strings.Repeat("a.", 200_000)+"a = 1\n")
	}), code: -1},
	{
		name: "a document root outside",
		make: stackFileWith(
			hostileSite+"root = \"www\"\n",
			func(t *testing.T, w *world, outside string) { link(t, w, outside, "www") },
		),
		code:  3,
		says:  "leads out of the project",
		start: 3,
	},
	{name: "a usual document root outside",
		make: stackFileWith(hostileSite, func(t *testing.T, w *world, outside string) {
			require.NoError(t, os.Remove(filepath.Join(w.dir, "index.html")))
			link(t, w, outside, "public")
		}), code: 3, start: 3},
	{
		name: "an included file outside",
		make: stackFileWith(
			"name = \"trap\"\n[part.web]\nkind = \"nginx\"\n[[site]]\nname = \"day\"\ninclude = \"x.conf\"\n",
			func(t *testing.T, w *world, outside string) { link(t, w, outside+"/secret", "x.conf") },
		),
		code:  3,
		says:  "leads out of the project",
		start: 3,
	},
	{
		name: "variables written outside",
		make: stackFileWith(
			"dotenv = \".env\"\n"+hostileSite,
			func(t *testing.T, w *world, outside string) { link(t, w, outside+"/canary", ".env") },
		),
		code:  3,
		says:  "leads out of the project",
		start: 3,
	},
	{
		name: "folders outside that are sites",
		make: stackFileWith(
			"name = \"trap\"\n[[site]]\neach = \"crew/*\"\n",
			func(t *testing.T, w *world, outside string) { link(t, w, outside, "crew/x") },
		),
		code:  3,
		start: 3,
	},
	{
		name: "a server on the network",
		make: stackFile("name = \"trap\"\n[part.db]\nkind = \"mariadb\"\nsettings = { bind_address = \"0.0.0.0\" }\n"),
		code: 0,
		says: "reachable from your network",
	},
	{
		name:  "data elsewhere",
		make:  stackFile("name = \"trap\"\n[part.db]\nkind = \"mariadb\"\nsettings = { datadir = \"OUTSIDE\" }\n"),
		code:  3,
		says:  "sets datadir",
		start: 3,
	},
	{
		name: "sockets elsewhere",
		make: stackFile(
			"name = \"trap\"\n[part.db]\nkind = \"postgres\"\nsettings = { unix_socket_directories = \"/tmp\" }\n",
		),
		code:  3,
		start: 3,
	},
	{
		name: "a script of somewhere",
		make: stackFile(
			"name = \"trap\"\n[part.app]\nkind = \"php\"\nsettings = { auto_prepend_file = \"OUTSIDE/secret\" }\n",
		),
		code:  3,
		says:  "outside the project",
		start: 3,
	},
	{
		name:  "a public suffix",
		make:  stackFile(hostileSite + "suffix = \"ferry.example.com\"\n"),
		code:  3,
		says:  "not reserved",
		start: 3,
	},
	{
		name: "a title in a command",
		make: stackFile(
			"name = \"trap\"\n[part.app]\nkind = \"custom\"\ncommand = \"true \\u001b]0;owned\\u0007 \\u009b31m\"\n",
		),
		code: -1,
	},
	{name: "a title in a fault", make: stackFile("name = \"trap\"\nname = \"\x1b]0;owned\x07\"\n"), code: 2},
	{name: "a title in a key", make: stackFile("name = \"trap\"\n\"\\u001b]0;owned\\u0007\" = 1\n"), code: 2},
	{name: "a title in a manifest", make: stackFileWith(hostileSite, func(t *testing.T, w *world, _ string) {
		w.write(".nvmrc", "\x1b]0;owned\x07")
		w.write("composer.json", `{"require": {"php": "\u001b]0;owned\u0007"}}`)
	}), code: -1},
	{
		name: "a title in a folder's name",
		make: stackFileWith(
			"name = \"trap\"\n[[site]]\neach = \"crew/*\"\n",
			func(t *testing.T, w *world, _ string) { w.write("crew/\x1b]0;owned\x07/index.html", "x") },
		),
		code: -1,
	},
	{name: "directives in the project's path", make: func(t *testing.T, w *world, outside string) {
		w.move(w.dir + "\nInclude " + strings.ReplaceAll(outside, "/", "_"))
		stackFile(hostileSite)(t, w, outside)
	}, code: 2, says: "control character", start: 2},
}

func many(n int, format string) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, format, i)
	}
	return b.String()
}

// looks are the commands that only look.
var looks = [][]string{
	{
		"survey",
	}, {"plan"},
	{"plan", "--json"},
	{"why"},
	{"status"},
	{"check"},
	{"diagnose"},
	{"extensions"},
	{"logs"},
	{"names"},
	{"ports"},
}

// A user looks at a cloned repository before trusting it: no command that looks runs anything of it, changes or shows
// anything outside it, hangs, or prints control characters.
func TestHostileRepositories(t *testing.T) {
	t.Parallel()
	for _, h := range sample(hostiles, 2) {
		t.Run(h.name, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			outside := filepath.Join(filepath.Dir(w.home), "outside")
			require.NoError(t, os.Mkdir(outside, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("SECRET = 1\n"), 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(outside, "index.html"), []byte("SECRET"), 0o644))
			w.own(outside)
			canary := fmt.Sprintf("/tmp/dravit-canary-%s", tester.Uid)
			_ = os.Remove(canary)
			h.make(t, w, outside)
			w.own(w.dir)
			ask := func(args ...string) result {
				ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
				defer cancel()
				cmd := w.command(ctx, args...)
				for _, dir := range []string{"node_modules/.bin", "vendor/bin", ".venv/bin"} {
					cmd.Env = append(cmd.Env, "PATH="+filepath.Join(w.dir, dir)+":/usr/local/bin:/usr/bin:/bin")
				}
				r := finish(t, cmd)
				assert.NoError(t, ctx.Err(), "dravit %v hangs", args)
				for _, c := range []string{"\x1b", "\x07", "\u009b"} {
					assert.NotContains(t, r.all(), c, "dravit %v", args)
				}
				assert.NotContains(t, r.all(), "SECRET", "dravit %v", args)
				return r
			}
			for _, args := range looks {
				r := ask(args...)
				if args[0] == "plan" && h.code >= 0 {
					assert.Equal(t, h.code, r.code, r.all())
				}
				if len(args) == 1 && args[0] == "plan" {
					assert.Contains(t, strings.Join(strings.Fields(r.all()), " "), h.says)
				}
			}
			assert.NoFileExists(t, filepath.Join(outside, "canary"))
			assert.NoFileExists(t, canary, "a program of the repository was run")
			if h.start != 0 {
				assert.Equal(t, h.start, ask("start").code)
				assert.NoFileExists(t, filepath.Join(outside, "canary"))
			}
		})
	}
}

// The user of the machine may decide what a repository may not.
func TestMachineAgrees(t *testing.T) {
	w := newWorld(t)
	outside := filepath.Join(filepath.Dir(w.home), "outside")
	require.NoError(t, os.Mkdir(outside, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "index.html"), []byte("shared"), 0o644))
	w.own(outside)
	w.write("dravit.toml", hostileSite+"root = \"www\"\nsuffix = \"ferry.example.com\"\n[requires]\npython3 = \"\"\n")
	link(t, w, outside, "www")
	require.Equal(t, 3, w.dravit("plan").code)
	w.settings(
		fmt.Sprintf(
			"http = 8080\nhttps = 8443\noutside = [%q]\nsuffixes = [\"ferry.example.com\"]\n[ask]\npython3 = \"-V\"\n",
			outside,
		),
	)
	w.must("plan")
	w.write("dravit.toml", hostileSite+"root = \"www\"\n")
	w.must("start")
	_, page, _ := get(t, "GET", w.status().Sites[0].URL, nil)
	assert.Equal(t, "shared", page)
}

// A setting that opens a database to the network needs the same consent as listen of a site.
func TestDatabaseOnTheNetworkNeedsConsent(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"trap\"\n[part.seats]\nkind = \"redis\"\nsettings = { bind = \"0.0.0.0\" }\n")
	r := w.must("start")
	assert.Contains(t, strings.Join(strings.Fields(r.all()), " "), "asks to be reachable from your network")
	conf, err := os.ReadFile(w.stackPath("conf", "seats", "redis.conf"))
	require.NoError(t, err)
	assert.Contains(t, string(conf), "bind 127.0.0.1")
	w.must("start", "--reachable", "seats")
	conf, err = os.ReadFile(w.stackPath("conf", "seats", "redis.conf"))
	require.NoError(t, err)
	assert.Contains(t, string(conf), "bind 0.0.0.0")
	w.must("start", "--unreachable", "seats")
	conf, err = os.ReadFile(w.stackPath("conf", "seats", "redis.conf"))
	require.NoError(t, err)
	assert.Contains(t, string(conf), "bind 127.0.0.1")
}
