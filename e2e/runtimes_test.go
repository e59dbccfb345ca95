package e2e

import (
	"bufio"
	"cmp"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/extensions"
	"dravit/internal/kind"
	"dravit/internal/plan"
	"dravit/internal/stack"
	"dravit/internal/survey"
)

const (
	api74 = "API20190902,NTS"
	api82 = "API20220829,NTS"
	api84 = "API20240924,NTS"
)

// beside returns the folder with the programs of other Debian releases, which programs-beside makes.
func beside(t *testing.T) string {
	t.Helper()
	dir := cmp.Or(os.Getenv("DRAVIT_TEST_BESIDE"), "/var/tmp/dravit-tests/beside")
	for _, f := range []string{"7.4/bin/php-fpm7.4", "8.4/bin/php-fpm8.4", "mariadb-10.5/tree/usr/libexec/mariadbd",
		"resolved/bin/systemd-resolved", "npm/node_modules/next/package.json"} {
		require.FileExists(t, filepath.Join(dir, f), "the programs that run beside this machine's own are not here: "+
			"./verify fetches them, or e2e/programs-beside %s", dir)
	}
	return dir
}

// besides lets the world know the PHP of other releases.
func (w *world) besides(more string) string {
	dir := beside(w.t)
	w.settings(`programs = ["` + dir + `/7.4/bin", "` + dir + `/8.4/bin"]` + "\n" + more)
	return dir
}

// settings writes the user's settings. Unless they name a Debian-format source, there is none: a test asks no machine
// outside.
func (w *world) settings(text string) {
	if !strings.Contains(text, `"debian"`) {
		text += "\n[[source]]\nformat = \"debian\"\noff = true\n"
	}
	require.NoError(w.t, os.MkdirAll(w.home, 0o700))
	require.NoError(w.t, os.WriteFile(filepath.Join(w.home, "settings.toml"), []byte(text), 0o600))
	w.own(w.home)
}

func (w *world) plan(args ...string) plan.Plan {
	w.t.Helper()
	var p plan.Plan
	w.json(&p, append([]string{"plan"}, args...)...)
	return p
}

func planned(t *testing.T, p plan.Plan, name string) plan.PartPlan {
	t.Helper()
	for _, x := range p.Parts {
		if x.Name == name {
			return x
		}
	}
	require.Fail(t, "no plan for "+name, "%+v", p.Faults)
	return plan.PartPlan{}
}

// Three versions of PHP serve three sites of one stack at once, each with its own extensions, and one with a debugger
// that connects.
func TestPHPVersionsSideBySide(t *testing.T) {
	w := newWorld(t)
	w.besides("")
	w.write("dravit.toml", `name = "ages"
[part.old]
kind = "php"
version = "7.4"
extensions = ["redis"]
debugger = true
[part.now]
kind = "php"
extensions = ["intl"]
[part.next]
kind = "php"
settings = { memory_limit = "77M" }
[[site]]
name = "old"
app = "old"
root = "old"
[[site]]
name = "now"
app = "now"
root = "now"
[[site]]
name = "next"
app = "next"
root = "next"
`)
	for _, dir := range []string{"old", "now", "next"} {
		w.write(dir+"/index.php",
			`<?php echo PHP_VERSION, " ", ini_get("memory_limit"), " ", implode(" ", get_loaded_extensions());`)
	}
	var s survey.Survey
	w.json(&s, "survey")
	apis := map[string]string{}
	for _, p := range s.Programs {
		if p.Kind == "php" {
			apis[p.Version[:3]] = p.Facts["extension_api"]
		}
	}
	assert.Equal(t, map[string]string{"7.4": api74, "8.2": api82, "8.4": api84}, apis)

	p := w.plan()
	for name, want := range map[string]string{"old": "7.4", "now": "8.2", "next": "8.4"} {
		assert.True(t, strings.HasPrefix(planned(t, p, name).Version, want), "%s: %s", name,
			planned(t, p, name).Version)
	}
	w.must("start")
	for _, site := range w.status().Sites {
		code, body, _ := get(t, "GET", site.URL, nil)
		require.Equal(t, 200, code)
		version := map[string]string{"old": "7.4", "now": "8.2", "next": "8.4"}[site.Name]
		assert.True(t, strings.HasPrefix(body, version), body)
		assert.Equal(t, site.Name == "next", strings.Contains(body, " 77M "), "settings do not leak: %s", body)
		assert.Equal(t, site.Name == "now", strings.Contains(body, " intl"), body)
		assert.Equal(t, site.Name == "old", strings.Contains(body, " xdebug"), body)
	}
	var x stack.Extensions
	r := w.json(&x, "extensions")
	require.Equal(t, 0, r.code, r.all())
	require.Len(t, x.Parts, 3)
	for _, part := range x.Parts {
		assert.True(t, part.Proved, part.Unproved)
		assert.Empty(t, part.Differences)
	}
	old := x.Parts[2]
	require.NotNil(t, old.Debugger)
	assert.True(t, old.Debugger.Live, old.Debugger.Because)
	assert.Contains(t, old.Debugger.Because, "Xdebug 3")

	debugs(t, old.Debugger, w.status().site("old"))
	assert.Contains(t, w.must("run", "--part", "old", "--", "php", "-r", "echo PHP_VERSION;").stdout, "7.4.")
	assert.Contains(t, w.must("run", "--part", "next", "--", "php", "-r", "echo PHP_VERSION;").stdout, "8.4.")
}

// debugs asserts that the debugger connects to an editor if a page asks for it, and only then.
func debugs(t *testing.T, debugger *extensions.Debugger, url string) {
	editor, err := net.Listen("tcp", net.JoinHostPort(debugger.Host, itoa(debugger.Port)))
	require.NoError(t, err)
	defer editor.Close()
	called := make(chan string, 4)
	go func() {
		for {
			conn, err := editor.Accept()
			if err != nil {
				return
			}
			r := bufio.NewReader(conn)
			_, _ = r.ReadString(0)
			packet, _ := r.ReadString(0)
			called <- packet
			conn.Close()
		}
	}()
	get(t, "GET", url, nil)
	select {
	case packet := <-called:
		require.Fail(t, "the debugger called unasked: "+packet)
	case <-time.After(200 * time.Millisecond):
	}
	get(t, "GET", url, nil, func(r *http.Request) { r.AddCookie(&http.Cookie{Name: "XDEBUG_TRIGGER", Value: "1"}) })
	select {
	case packet := <-called:
		assert.Contains(t, packet, "old/index.php")
	case <-time.After(10 * time.Second):
		require.Fail(t, "the debugger did not call")
	}
}

// An extension that only one version has decides about the version. Files for another version are rejected, and the
// message names both versions.
func TestExtensionsDecideTheVersion(t *testing.T) {
	w := newWorld(t)
	other := t.TempDir()
	require.NoError(t, os.Chmod(other, 0o755))
	require.NoError(t, os.Chmod(filepath.Dir(other), 0o755))
	dir := w.besides(`extensions = ["` + other + `"]`)
	file74, file84 := filepath.Join(dir, "7.4/tree/usr/lib/php/20190902/redis.so"),
		filepath.Join(dir, "8.4/tree/usr/lib/php/20240924/redis.so")
	w.write("dravit.toml", "[part.app]\nkind = \"php\"\nextensions = [\"intl\", \"redis\"]\n")
	app := planned(t, w.plan(), "app")
	assert.True(t, strings.HasPrefix(app.Version, "8.2"), "only 8.2 has intl: %s", app.Version)
	r := w.must("why", "app.version")
	assert.Contains(t, r.stdout, "it has no extension intl")
	assert.Contains(t, r.stdout, "php 8.4")
	var why struct {
		Subject, Choice string
		Rejected        []kind.Option
	}
	w.json(&why, "why", "app.extensions.redis")
	assert.Equal(t, "part.app.extensions.redis", why.Subject)
	assert.Equal(t, "/usr/lib/php/20220829/redis.so", why.Choice)

	// A file of the project's own, built for 7.4.
	w.write("lib/.keep", "")
	copyFile(t, file74, filepath.Join(w.dir, "lib", "redis.so"))
	w.own(w.dir)
	w.write("dravit.toml", "[part.app]\nkind = \"php\"\nversion = \"8.2\"\nextensions = [\"lib/redis.so\"]\n")
	r = w.dravit("plan")
	assert.Equal(t, 3, r.code, r.all())
	assert.Contains(t, r.stderr, api74)
	assert.Contains(t, r.stderr, api82)
	w.write("dravit.toml", "[part.app]\nkind = \"php\"\nextensions = [\"lib/redis.so\"]\n")
	app = planned(t, w.plan(), "app")
	assert.True(t, strings.HasPrefix(app.Version, "7.4"), "the older version that the file fits: %s", app.Version)
	w.must("start")
	w.must("extensions")
	w.must("stop")

	// A file in a folder of the settings, under a name that 8.2 does not have.
	copyFile(t, file84, filepath.Join(other, "kelp.so"))
	w.write("dravit.toml", "[part.app]\nkind = \"php\"\nversion = \"8.2\"\nextensions = [\"kelp\"]\n")
	r = w.dravit("start")
	assert.Equal(t, 3, r.code, r.all())
	assert.Contains(t, r.stderr, api84)
	assert.Contains(t, r.stderr, api82)
	r = w.dravit("extensions")
	assert.Contains(t, r.stdout, "unfit      kelp")
	assert.Contains(t, r.stdout, api84)
}

// Extensions are switched in the stack file, which stays the same otherwise. The web process and the command line
// confirm it.
func TestSwitchExtensions(t *testing.T) {
	w := newWorld(t)
	w.write("public/index.php", `<?php echo extension_loaded("intl") ? "intl is on" : "intl is off";`)
	const before = `# The office's stack.
name = "switch"

[part.app] # serves the pages
kind = "php"
extensions = [
  "mysqli", # bookings
  "redis",
]
settings = { memory_limit = "99M" } # enough

[[site]]
name = "day"
app = "app"
`
	w.write("dravit.toml", before)
	r := w.must("extensions", "on", "intl")
	assert.Contains(t, r.stdout, "dravit start", "it does not run: nothing is proved")
	text, err := os.ReadFile(filepath.Join(w.dir, "dravit.toml"))
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(before, "  \"redis\",\n", "  \"redis\",\n  \"intl\",\n", 1), string(text))

	w.must("start")
	page := func() string {
		_, body, _ := get(t, "GET", w.status().Sites[0].URL, nil)
		return body
	}
	assert.Equal(t, "intl is on", page())
	var out stack.Switched
	r = w.json(&out, "extensions", "off", "intl")
	require.Equal(t, 0, r.code, r.all())
	assert.True(t, out.Changed && out.Runs && !out.Web && !out.Command, "%+v", out)
	assert.Equal(t, "intl is off", page())
	text, err = os.ReadFile(filepath.Join(w.dir, "dravit.toml"))
	require.NoError(t, err)
	assert.Equal(t, before, string(text), "as it was, byte by byte")
	r = w.json(&out, "extensions", "on", "intl")
	require.Equal(t, 0, r.code, r.all())
	assert.True(t, out.Web && out.Command, "%+v", out)
	assert.NotContains(t, w.must("run", "--", "php", "-m").stdout, "pgsql")

	r = w.dravit("extensions", "on", "kelp")
	assert.Equal(t, 3, r.code, r.all())
	after, err := os.ReadFile(filepath.Join(w.dir, "dravit.toml"))
	require.NoError(t, err)
	assert.NotContains(t, string(after), "kelp", "a file that no plan satisfies is not written")
	either := strings.Replace(string(after), `kind = "php"`, `kind = ["php", "custom"]`, 1) +
		"[part.app.custom]\ncommand = \"exec sleep 100\"\n"
	require.Contains(t, either, `["php", "custom"]`)
	w.write("dravit.toml", either)
	r = w.dravit("extensions", "on", "kelp")
	assert.Equal(t, 3, r.code, r.all())
	text, err = os.ReadFile(filepath.Join(w.dir, "dravit.toml"))
	require.NoError(t, err)
	assert.Equal(t, either, string(text), "another kind does not take the place of the one that has extensions")
	w.write("dravit.toml", string(after))
	for _, bad := range [][]string{
		{"extensions", "on"},
		{"extensions", "on", "a", "b"},
		{"extensions", "on", "intl", "--part", "nobody"},
		{"extensions", "sideways"},
	} {
		assert.Equal(t, 2, w.dravit(bad...).code, "%v", bad)
	}
}

// The project's own files say what they need. A choice is kept until its reason is gone, and the plan says what
// changed.
func TestManifestsAndHistory(t *testing.T) {
	w := newWorld(t)
	dir := w.besides("")
	w.write("dravit.toml", "name = \"past\"\n[part.app]\nkind = \"php\"\nextensions = [\"redis\"]\n")
	w.write("composer.json", `{"require": {"php": "~7.2 || ~8.0 <8.4", "ext-mysqli": "*"}}`)
	p := w.plan()
	app := planned(t, p, "app")
	assert.True(t, strings.HasPrefix(app.Version, "8.2"), app.Version)
	r := w.must("why", "app.version")
	assert.Contains(t, r.stdout, "composer.json wants ~7.2 || ~8.0 <8.4")
	assert.Contains(t, w.must("why", "app.extensions.mysqli").stdout, "composer.json wants it")
	w.must("start")
	w.must("stop")
	assert.Empty(t, w.plan().Changes)

	// A newer version would fit now: the choice stays, unless --afresh asks for a new one.
	w.write("composer.json", `{"require": {"php": ">=7.2"}}`)
	p = w.plan()
	assert.True(t, strings.HasPrefix(planned(t, p, "app").Version, "8.2"))
	assert.Contains(t, w.must("why", "app.version").stdout, "the last good start ran on it")
	assert.True(t, strings.HasPrefix(planned(t, w.plan("--afresh"), "app").Version, "8.4"))

	// The reason is gone.
	w.write(".php-version", "7.4\n")
	p = w.plan()
	assert.True(t, strings.HasPrefix(planned(t, p, "app").Version, "7.4"))
	require.Len(t, p.Changes, 1)
	assert.Contains(t, p.Changes[0].Was, "php 8.2")
	assert.Contains(t, w.must("plan").stdout, "changed since the last good start")
	w.must("start")
	w.must("stop")

	// The program disappears.
	w.settings(`programs = ["` + dir + `/8.4/bin"]` + "\n")
	require.NoError(t, os.Remove(filepath.Join(w.dir, ".php-version")))
	p = w.plan()
	require.Len(t, p.Changes, 1)
	assert.Contains(t, p.Changes[0].Because, "php-fpm7.4 is gone")
	r = w.dravit("plan", "--json")
	assert.NotContains(t, r.stdout, `"because": null`)
}

// Required command-line programs: the wrong one on PATH, one that is missing, one that is too old.
func TestRequires(t *testing.T) {
	w := newWorld(t)
	bin := t.TempDir()
	for _, dir := range []string{bin, filepath.Dir(bin)} {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	require.NoError(t,
		os.WriteFile(filepath.Join(bin, "loadmaster"), []byte("#!/bin/sh\necho Loadmaster build 9, v3.2.1\n"), 0o755))
	w.settings(`programs = ["` + bin + `"]`)
	w.write("dravit.toml",
		"name = \"needs\"\n[requires]\ngit = \">= 2.0\"\nsh = \"\"\n[part.seats]\nkind = \"dravit-cache\"\n")
	r := w.must("plan")
	assert.Contains(t, r.stdout, "git")
	assert.Contains(t, w.must("why", "requires.git").stdout, "/usr/bin/git")
	for want, file := range map[string]string{
		"barnacle is not installed": "barnacle = \"\"",
		"git 2":                     "git = \">= 99\"",
		"loadmaster is not on PATH": "loadmaster = { pattern = \"v([0-9.]+)\" }",
		bin:                         "loadmaster = { version = \">= 3\", pattern = \"v([0-9.]+)\" }",
	} {
		w.write("dravit.toml", "name = \"needs\"\n[requires]\n"+file+"\n[part.seats]\nkind = \"dravit-cache\"\n")
		for _, command := range []string{"plan", "start"} {
			r := w.dravit(command)
			assert.Equal(t, 3, r.code, "%s: %s", file, r.all())
			assert.Contains(t, r.stderr, want)
			assert.Contains(t, r.stderr, "next")
		}
	}
}

// What a plan depends on fits into a file, without secrets, and gives the same plan anywhere.
func TestSavedPlan(t *testing.T) {
	w := newWorld(t)
	w.real()
	w.write("dravit.local.toml",
		"[env]\nBOOKING_KEY = \"barnacle-secret-7\"\n[part.db.settings]\ninit_connect = \"SET @hush = 'hush-hush'\"\n")
	w.must("start")
	w.must("stop")
	file := filepath.Join(w.dir, "saved.json")
	here := w.dravit("plan", "--json", "--save", file)
	require.Equal(t, 0, here.code, here.all())
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	secrets, err := filepath.Glob(filepath.Join(w.home, "stacks/*/secrets.json"))
	require.NoError(t, err)
	require.Len(t, secrets, 1)
	hidden, err := os.ReadFile(secrets[0])
	require.NoError(t, err)
	for _, secret := range append(strings.Split(string(hidden), "\""), "barnacle-secret-7", "hush-hush") {
		if len(secret) > 8 {
			assert.NotContains(t, string(text), secret)
		}
	}
	elsewhere := newWorld(t)
	there := elsewhere.dravit("plan", "--json", "--from", file)
	require.Equal(t, 0, there.code, there.all())
	assert.JSONEq(t, here.stdout, there.stdout)
	assert.Contains(t, elsewhere.must("why", "app.version", "--from", file).stdout, "php 8.2")
	elsewhere.write("broken.json", "{}")
	assert.Equal(t, 2, elsewhere.dravit("plan", "--from", "broken.json").code)
	assert.Equal(t, 2, elsewhere.dravit("plan", "--from", "none.json").code)
}

func TestSurveyCommand(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	w.must("start")
	file := filepath.Join(w.dir, "machine.json")
	r := w.must("survey", "--save", file)
	for _, want := range []string{"kind", "nginx", "php", "postgres", api82, "tools",
		"port", "this user", "*.localhost"} {
		assert.Contains(t, r.stdout, want)
	}
	var s survey.Survey
	w.json(&s, "survey")
	stacks := map[string]bool{}
	for _, p := range s.Ports {
		stacks[p.Stack] = true
	}
	assert.True(t, stacks["night-boat"], "%+v", s.Ports)
	assert.True(t, stacks["gateway"])
	assert.NotNil(t, s.Allowed)
	w.settings("programs = [\"not/absolute\"]")
	r = w.dravit("survey")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, `the folder "not/absolute" is not absolute`)
	w.settings("programmes = []")
	assert.Equal(t, 2, w.dravit("plan").code)
	w.settings("")
}

// Dravit raises its own values that do not meet an application's requirement, rejects a stack file that contradicts
// one, and asks the web process, with a row for each requirement.
func TestWhatAnApplicationRequires(t *testing.T) {
	w := newWorld(t)
	const file = `name = "needs"
[part.app]
kind = "php"
%s
[part.app.requires]
database = { innodb_buffer_pool_size = ">= 48M", character_set_server = "utf8mb4" }
functions = ["proc_open", "mysqli_connect"]
writable = ["cache"]
[part.app.requires.settings]
memory_limit = ">= 512M"
max_execution_time = ">= 45"
upload_max_filesize = ">= 8M"
short_open_tag = "on"
[part.db]
kind = "mariadb"
[[site]]
name = "needs"
app = "app"
`
	w.write("dravit.toml", fmt.Sprintf(file, "settings = { memory_limit = \"64M\" }"))
	w.write("public/index.php", "here")
	w.write("cache/.keep", "")
	r := w.dravit("plan")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, "requires >= 512M")
	w.write("dravit.toml", fmt.Sprintf(file, ""))
	p := w.plan()
	choices := map[string]string{}
	for _, d := range p.Decisions {
		choices[d.Subject.String()] = d.Choice
	}
	assert.Equal(t, "512M", choices["part.app.settings.memory_limit"])
	assert.Equal(t, "45", choices["part.app.settings.max_execution_time"])
	assert.Equal(t, "48M", choices["part.db.settings.innodb_buffer_pool_size"])
	assert.NotContains(t, choices, "part.app.settings.upload_max_filesize", "it is more already")
	w.must("start")
	type requirement struct {
		Sort, Name, Wanted, Got string
		Holds                   bool
	}
	var check struct {
		Answers bool
		Parts   []struct {
			Name     string
			State    string
			Requires []requirement
		}
	}
	w.json(&check, "check")
	assert.True(t, check.Answers, "%+v", check.Parts)
	require.Len(t, check.Parts[0].Requires, 9)
	for _, x := range check.Parts[0].Requires {
		assert.True(t, x.Holds, "%+v", x)
	}
	assert.Equal(t, requirement{"database", "innodb_buffer_pool_size", ">= 48M", `"50331648"`, true},
		check.Parts[0].Requires[5])

	// The web process shows a setting that the project itself lowers again.
	w.write("dravit.toml", fmt.Sprintf(file, "settings = { disable_functions = \"proc_open\" }"))
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "cache")))
	r = w.dravit("start", "--timeout", "20s")
	assert.Equal(t, 1, r.code, r.all())
	assert.Contains(t, strings.Join(strings.Fields(r.stderr), " "),
		"is unwell because the application requires function proc_open not disabled")
	r = w.json(&check, "check")
	assert.Equal(t, 1, r.code)
	assert.Equal(t, "unwell", check.Parts[0].State)
	var unmet []string
	for _, x := range check.Parts[0].Requires {
		if !x.Holds {
			unmet = append(unmet, x.Name)
		}
	}
	assert.Equal(t, []string{"proc_open", "cache"}, unmet)
	text := w.dravit("check").stdout
	assert.Contains(t, text, "requires function proc_open not disabled: it does not exist")
	assert.Contains(t, w.dravit("diagnose").stdout, "requirement-unmet")
}
