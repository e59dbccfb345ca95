package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/debian/mirror"
)

// releases are the Debian releases whose packages packages-beside fetches.
var releases = []string{"bullseye", "bookworm", "trixie"}

// repository signs the packages of three real releases and serves them on loopback, as the only source of the world's
// programs. The settings begin with those that are given.
func (w *world) repository(settings string) {
	w.t.Helper()
	from := filepath.Join(beside(w.t), "packages")
	for _, suite := range releases {
		require.FileExists(w.t, filepath.Join(from, suite+".complete"), "./verify fetches it, or e2e/packages-beside")
	}
	source, keys, err := mirror.Open(from, runtime.GOARCH, releases...)
	require.NoError(w.t, err)
	server := httptest.NewServer(source)
	w.t.Cleanup(server.Close)
	ring := filepath.Join(filepath.Dir(w.home), "keys.gpg")
	require.NoError(w.t, os.WriteFile(ring, keys, 0o644))
	w.settings(settings + fmt.Sprintf(`
[[source]]
format = "npm"
off = true
[[source]]
format = "debian"
address = %q
suites = ["bullseye", "bookworm", "trixie"]
keyring = %q
`, server.URL, ring))
}

// mayUnshare reports whether the tester may make namespaces on this machine.
func (w *world) mayUnshare() bool {
	cmd := exec.Command("unshare", "--user", "--map-current-user", "--keep-caps", "--mount", "true")
	if asRoot {
		uid, gid := ids(w.t)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	}
	return cmd.Run() == nil
}

// withoutNamespaces runs a command where no further namespace may be made.
func (w *world) withoutNamespaces(args ...string) result {
	ctx, cancel := context.WithTimeout(context.Background(), longest)
	defer cancel()
	cmd := w.command(ctx)
	cmd.Path = "/usr/bin/unshare"
	cmd.Args = append([]string{"unshare", "--user", "--map-current-user", "--keep-caps", "sh", "-c",
		`echo 0 >/proc/sys/user/max_user_namespaces && exec "$0" "$@"`, program}, args...)
	return finish(w.t, cmd)
}

// manyVersions is a stack of versions of which the test machine has none.
const manyVersions = `name = "fleet"
[part.web]
kind = "nginx"
version = "1.18"
[part.old]
kind = "php"
version = "7.4"
extensions = ["redis", "pdo_mysql", "pdo_pgsql"]
debugger = true
uses = ["log", "chart", "tide"]
[part.mid]
kind = "php"
version = "PATCH"
extensions = ["redis", "pdo_mysql", "pdo_pgsql"]
[part.new]
kind = "php"
version = "8.4"
extensions = ["redis", "pdo_mysql", "pdo_pgsql"]
debugger = true
[part.log]
kind = "mariadb"
version = "10.5"
[part.crew]
kind = "mariadb"
version = "11"
[part.chart]
kind = "postgres"
version = "13"
[part.map]
kind = "postgres"
version = "17"
[part.tide]
kind = "redis"
version = "8"
[[site]]
name = "old"
root = "pages"
app = "old"
expect = { text = "on 7.4." }
[[site]]
name = "mid"
root = "pages"
app = "mid"
expect = { text = "on PATCH" }
[[site]]
name = "new"
root = "pages"
app = "new"
expect = { text = "on 8.4." }
`

// testedPackages are extensions that the suite's source has, and not its machine.
var testedPackages = []string{"bcmath", "gd", "zip", "xsl", "curl"}

// Versions of which this machine has none run side by side after one yes, with extensions, stores and data, whichever
// way their programs are started.
func TestSupplyOfPackages(t *testing.T) {
	w := newWorld(t)
	w.repository("")
	dry := w.must("supply", "php", "8.2", "--dry-run").stdout
	var patch string
	_, err := fmt.Sscanf(dry, "php %s", &patch)
	require.NoError(t, err, dry)
	w.write("dravit.toml", strings.ReplaceAll(manyVersions, "PATCH", patch))
	w.write("pages/index.php", `<?php date_default_timezone_set("Europe/Lisbon"); echo "on ", PHP_VERSION, date(" e");`)
	for _, launch := range []string{"loader", "namespace"} {
		settings, err := os.ReadFile(filepath.Join(w.home, "settings.toml"))
		require.NoError(t, err)
		w.settings("launch = \"" + launch + "\"\n" + string(settings))
		removeAll(t, filepath.Join(w.home, "supply/trees"))
		if launch == "namespace" && !w.mayUnshare() {
			r := w.dravit("supply", "redis", "--yes")
			assert.Equal(t, 4, r.code, r.all())
			assert.Contains(t, flat(r.stderr), "does not run on this machine because by namespace")
			return
		}
		w.must("start", "--yes")
		w.must("check", "--deep")
		for _, p := range w.plan().Parts {
			assert.Equal(t, "supply", p.Origin, p.Name)
		}
		list := w.must("supply", "list", "--json").stdout
		assert.Equal(t, 9, strings.Count(list, `"launch": "`+launch+`"`), list)
		assert.Equal(t, 9, strings.Count(list, "fleet"), list)
		w.must("supply", "verify")
		for part, says := range map[string]string{"log": "10.5.", "crew": "11.", "chart": "PostgreSQL 13.",
			"map": "PostgreSQL 17."} {
			w.must("db", "query", "--part", part, "CREATE TABLE sailing (n INT)")
			w.must("db", "query", "--part", part, "INSERT INTO sailing VALUES (7)")
			assert.Contains(t, w.must("db", "query", "--part", part, "SELECT version()").stdout, says)
		}
		again := w.must("run", "--part", "new", "--", "php", "-r", `passthru(PHP_BINARY . " -r 'echo PHP_VERSION;'");`)
		assert.Contains(t, again.stdout, "8.4.", "code that runs PHP again finds it")
		w.byHand()
		w.must("stop")
		if launch == "namespace" {
			for _, args := range [][]string{{"plan"}, {"start"}, {"start", "--yes"}} {
				r := w.withoutNamespaces(args...)
				assert.Equal(t, 3, r.code, r.all())
				assert.Contains(t, flat(r.all()), "it starts only in a namespace, which this machine refuses you")
			}
		}
		w.must("start")
		for _, part := range []string{"log", "crew", "chart", "map"} {
			assert.Contains(t, w.must("db", "query", "--part", part, "SELECT n FROM sailing").stdout, "7")
		}
		w.must("remove", "--data", "--yes")
		w.settings(string(settings))
	}
	// The machine's own PHP of the series lacks an extension, if not all of these are installed.
	loaded, err := exec.Command("php8.2", "-m").Output()
	require.NoError(t, err)
	i := slices.IndexFunc(testedPackages, func(e string) bool { return !strings.Contains(string(loaded), "\n"+e+"\n") })
	if i < 0 {
		t.Log("this machine's PHP lacks none of the extensions, so that it need not be passed over")
		return
	}
	removeAll(t, filepath.Join(w.home, "supply/trees"))
	w.write("dravit.toml", "name = \"fares\"\n"+
		"[part.app]\nkind = \"php\"\nversion = \"8.2\"\nextensions = [\""+testedPackages[i]+"\"]\n"+
		"[[site]]\nname = \"fares\"\nroot = \"pages\"\napp = \"app\"\nexpect = { text = \"on "+patch+"\" }\n")
	assert.Contains(t, w.dravit("plan").stdout, "from supply: here already")
	w.must("start", "--yes")
}

// byHand starts the supplied PHPs outside Dravit: each loads the modules of its tree.
func (w *world) byHand() {
	programs, err := filepath.Glob(filepath.Join(w.home, "supply/trees/php-*/files/usr/bin/php?.?"))
	require.NoError(w.t, err)
	require.Len(w.t, programs, 3)
	for _, php := range programs {
		cmd := w.command(context.Background())
		cmd.Path, cmd.Args = php, []string{php, "-m"}
		out, err := cmd.CombinedOutput()
		require.NoError(w.t, err, "%s", out)
		for _, module := range []string{"redis", "pdo_mysql", "mysqli", "xsl", "Zend OPcache"} {
			assert.Contains(w.t, string(out), module+"\n", php)
		}
		assert.NotContains(w.t, string(out), "arning", php)
		assert.Equal(w.t, !strings.HasSuffix(php, "8.2"), strings.Contains(string(out), "Xdebug\n"), php)
	}
}

// On a machine that has none of the servers, one yes brings up the demo on real ones.
func TestSupplyOnABareMachine(t *testing.T) {
	if !asRoot {
		t.Skip("only root can hide programs")
	}
	w := newWorld(t)
	w.repository("")
	dir := filepath.Join(w.dir, "demo")
	r := w.bare("demo", "--real", dir)
	assert.Equal(t, 3, r.code, r.all())
	assert.Contains(t, flat(r.stderr), "or sudo apt-get install mariadb-server redis-server nginx php-fpm")
	r = w.bare("demo", "--real", dir, "--yes")
	require.Equal(t, 0, r.code, r.all())
	w.dir = dir
	var kinds []string
	for _, p := range w.status().Parts {
		kinds = append(kinds, p.Kind)
	}
	assert.ElementsMatch(t, []string{"nginx", "php", "mariadb", "redis", "dravit-mail", "custom"}, kinds)
	_, page, _ := get(t, "GET", w.status().Sites[0].URL, nil)
	assert.Contains(t, page, "Sandpiper Bank")
	assert.Equal(t, 0, w.bare("check", "--deep").code)
	assert.Equal(t, 4, strings.Count(w.must("supply", "list").stdout, "saltmarsh-ferry"))
}

// A lock holds on a machine that has to fetch, and what was exported serves one without a network.
func TestSupplyLockAndExport(t *testing.T) {
	w := newWorld(t)
	w.repository("")
	w.write("dravit.toml", "name = \"fleet\"\n[part.tide]\nkind = \"redis\"\n")
	assert.Equal(t, 2, w.dravit("supply", "export", w.dir+"/stick", "redis").code, "there is none")
	assert.Contains(t, w.must("survey", "supply").stdout, "no source was asked yet")
	w.must("supply", "redis", "8", "--yes")
	assert.Regexp(t, `redis +8\.\S+ trixie, 6\.\S+ bullseye`, w.must("survey", "supply").stdout)
	w.write("dravit.toml", "name = \"fleet\"\n[part.tide]\nkind = \"redis\"\nversion = \"8\"\n")
	w.must("start")
	assert.Contains(t, w.must("supply", "lock").stdout, "1 program locked")
	stick := filepath.Join(w.dir, "stick")
	w.must("supply", "export", stick)
	w.must("remove", "--data", "--yes")
	removeAll(t, filepath.Join(w.home, "supply"))

	// Any version would do now, but for the lock.
	w.write("dravit.toml", "name = \"fleet\"\n[part.tide]\nkind = \"redis\"\n")
	p := w.plan()
	assert.NotEqual(t, "supply", planned(t, p, "tide").Origin)
	assert.Contains(t, strings.Join(p.Warnings, " "), "locked to redis 8.")
	assert.Equal(t, 3, w.dravit("start", "--locked").code, "nobody agreed")
	w.must("start", "--locked", "--yes")
	assert.Equal(t, "supply", planned(t, w.plan(), "tide").Origin)
	lock := filepath.Join(w.dir, "dravit.lock")
	text, err := os.ReadFile(lock)
	require.NoError(t, err)
	other := strings.Replace(string(text), `"integrity": "`, `"integrity": "0`, 1)
	require.NoError(t, os.WriteFile(lock, []byte(strings.Replace(other, "5:8.", "5:7.", 2)), 0o644))
	r := w.dravit("start", "--locked", "--yes")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, flat(r.stderr), "redis-server is 5:8.")
	require.NoError(t, os.WriteFile(lock, []byte("{"), 0o644))
	assert.Equal(t, 2, w.dravit("plan").code)
	require.NoError(t, os.Remove(lock))
	w.must("remove", "--data", "--yes")

	settings, err := os.ReadFile(filepath.Join(w.home, "settings.toml"))
	require.NoError(t, err)
	removeAll(t, filepath.Join(w.home, "supply"))
	gone := regexp.MustCompile(`127\.0\.0\.1:\d+`).ReplaceAllString(string(settings), "127.0.0.1:1")
	w.settings(gone)
	assert.Equal(t, 1, w.dravit("supply", "redis", "8", "--yes").code)
	for range 3 {
		cmd := w.command(context.Background(), "supply", "redis", "8", "--yes", "--from", stick)
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(rand.IntN(700)) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		w.must("supply", "verify") // what there is is whole
	}
	w.must("supply", "redis", "8", "--yes", "--from", stick)
	w.must("supply", "verify")
	assert.Contains(t, flat(w.dravit("supply", "nginx", "1.18", "--yes", "--from", stick).stderr),
		"an exported folder has only the programs that it was made from")
	list := filepath.Join(stick, "source-1/dists/trixie/main/binary-"+runtime.GOARCH+"/Packages")
	require.NoError(t, os.Truncate(list, 1000))
	removeAll(t, filepath.Join(w.home, "supply"))
	r = w.dravit("supply", "redis", "8", "--yes", "--from", stick)
	assert.Contains(t, flat(r.stderr), "its digest is another one")
}

// A required command-line program that the machine lacks is fetched, and is on the PATH of this stack only.
func TestSupplyOfTools(t *testing.T) {
	w := newWorld(t)
	w.repository("")
	w.write("dravit.toml", `name = "fleet"
[requires]
redis-cli = "8"
composer = ">= 2.8"
[part.tide]
kind = "dravit-cache"
[part.app]
kind = "php"
[[site]]
name = "fleet"
root = "pages"
app = "app"
[[task]]
name = "look"
command = "redis-cli --version > seen.txt"
when = "first-start"
`)
	w.write("seen.txt", "")
	w.write("pages/index.php", "<?php echo 1;")
	w.write("composer.json", `{"name": "saltmarsh/fleet", "scripts": {"tell": "@php -r 'echo 6 * 7;'"}}`)
	r := w.dravit("start")
	assert.Equal(t, 3, r.code, "nobody agreed")
	assert.Contains(t, flat(r.stderr), "or let dravit start fetch it")
	w.must("start", "--yes")
	seen, err := os.ReadFile(filepath.Join(w.dir, "seen.txt"))
	require.NoError(t, err)
	assert.Contains(t, string(seen), "redis-cli 8.")
	assert.Contains(t, w.must("run", "--", "redis-cli", "--version").stdout, "redis-cli 8.")
	p := w.plan()
	require.Len(t, p.Tools, 2)
	assert.Contains(t, w.must("run", "--", "composer", "--version").stdout, "Composer version 2.8.")
	assert.Contains(t, w.must("run", "--", "composer", "tell").stdout, "42")
	assert.Contains(t, w.must("supply", "list").stdout, "fleet")
	w.must("supply", "discard")
	w.must("run", "--", "redis-cli", "--version")

	// Without the condition, the machine's own would serve, but for the lock.
	assert.Contains(t, w.must("supply", "lock").stdout, "2 programs locked")
	stack := content(t, filepath.Join(w.dir, "dravit.toml"))
	w.write("dravit.toml", strings.ReplaceAll(stack, `redis-cli = "8"`, `redis-cli = ">= 5"`))
	w.must("start", "--locked")
	assert.Contains(t, w.must("run", "--", "redis-cli", "--version").stdout, "redis-cli 8.")
	w.must("remove", "--data", "--yes")
	w.must("supply", "discard")
	assert.Contains(t, strings.Join(w.plan().Warnings, " "), "redis-cli is locked to redis-cli 8.")
	w.must("start", "--locked", "--yes")
	assert.Contains(t, w.must("run", "--", "redis-cli", "--version").stdout, "redis-cli 8.")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "dravit.lock")))

	w.write("dravit.toml", "name = \"fleet\"\n[part.tide]\nkind = \"dravit-cache\"\n")
	w.must("start")
	assert.NotContains(t, w.must("run", "--", "redis-cli", "--version").stdout, "redis-cli 8.")
	w.must("supply", "discard")
	assert.Contains(t, w.must("supply", "list").stdout, "0 supplied programs")
}
