package e2e

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
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
	"dravit/internal/proc"
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

// fault is one thing that goes wrong, and what diagnose must say first.
type fault struct {
	name    string
	stack   string
	files   map[string]string
	prepare func(t *testing.T, w *world) // before anything else
	breaks  func(t *testing.T, w *world) // after a first start; nil: there is no first start
	env     []string                     // environment of the command
	cause   string
	subject string
	says    string // in evidence, what or remedy
	root    bool   // only root can make it
	fixes   bool   // diagnose --fix --yes fixes it
}

// restart stops the stack, breaks something and starts the stack again; that start may fail.
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

func chmod(mode os.FileMode, parts ...string) func(*testing.T, *world) {
	return func(t *testing.T, w *world) { require.NoError(t, os.Chmod(w.stackPath(parts...), mode)) }
}

func edit(old, new string) func(*testing.T, *world) {
	return func(t *testing.T, w *world) {
		text, err := os.ReadFile(filepath.Join(w.dir, "dravit.toml"))
		require.NoError(t, err)
		require.Contains(t, string(text), old)
		w.write("dravit.toml", strings.Replace(string(text), old, new, 1))
	}
}

// askOverHTTPS makes the page ask the gateway over HTTPS.
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

// small puts Dravit's folder on a small file system.
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

// kill kills the process of a part and returns its id.
func (w *world) kill(part string) int {
	w.t.Helper()
	pid := w.status().part(w.t, part).PID
	kill(w.t, pid)
	return pid
}

// quota puts Dravit's folder on a file system on which it may store limit MB.
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

// disk puts Dravit's folder on a disk of size bytes.
func disk(size int64) func(*testing.T, *world) {
	return func(t *testing.T, w *world) {
		dir := onImage(t, w, "ext4", size)
		w.home = filepath.Join(dir, "home")
		w.settings("http = 8080\nhttps = 8443\n")
		w.own(dir)
	}
}

// onImage makes a file system in a file and returns where it is mounted. The world moves back before it is unmounted.
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

// asRunner runs a command as the user who runs the tests.
func asRunner(t *testing.T, argv ...string) {
	t.Helper()
	out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput()
	require.NoError(t, err, "%s: %s", argv, out)
}

// fill writes a file until the disk is full, and returns the error of the last write.
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

// closedFolder is a page in a folder that the web server may not read.
func closedFolder(server string) fault {
	return fault{name: "folder closed to " + server,
		stack: "[part.web]\nkind = \"" + server + "\"\n[[site]]\nname = \"day\"\nexpect = { path = \"/quay/\" }\n",
		files: map[string]string{"public/index.html": hello, "public/quay/index.html": hello},
		breaks: func(t *testing.T, w *world) {
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

// inTheFuture makes the authority's certificate valid from some hours from now, as if the clock had been set back.
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

// confineApp limits the memory of each process, in bytes, that writes its number to a file "pid", and then makes the
// file "confined-PID". The keeper must not be confined, too: the kernel might kill it for an application that is just
// about to be gone.
func (w *world) confineApp(limit int) {
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
	var confining sync.WaitGroup
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(func() { stop(); confining.Wait() })
	confining.Go(func() {
		last := ""
		for proc.Sleep(ctx, 20*time.Millisecond) == nil {
			pid, err := os.ReadFile(filepath.Join(w.dir, "pid"))
			if err != nil || len(pid) == 0 || string(pid) == last {
				continue
			}
			last = string(pid)
			if os.WriteFile(filepath.Join(group, "cgroup.procs"), pid, 0o644) == nil { // else it is gone
				_ = os.WriteFile(filepath.Join(w.dir, "confined-"+last), nil, 0o644)
			}
		}
	})
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

// linkPackages gives the project the npm packages of the suite.
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

// hold makes an application of the stack use up the connections of its database.
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

// Each cause is made for real. diagnose names it first, with its evidence and its remedy.
func TestDiagnoseStores(t *testing.T)   { diagnoseEach(t, dataFaults, connectionFaults, outsideFaults) }
func TestDiagnoseSettings(t *testing.T) { diagnoseEach(t, settingFaults, portFaults) }
func TestDiagnoseCommands(t *testing.T) { diagnoseEach(t, commandFaults, taskFaults) }
func TestDiagnosePages(t *testing.T)    { diagnoseEach(t, pageFaults[:len(pageFaults)/2]) }
func TestDiagnoseMore(t *testing.T)     { diagnoseEach(t, pageFaults[len(pageFaults)/2:], siteFileFaults) }
func TestDiagnoseMachine(t *testing.T)  { diagnoseEach(t, machineFaults) }

// Each documented cause is made by a fault of the suite, and each fault's cause is documented.
func TestCausesAreMade(t *testing.T) {
	documented, err := os.ReadFile("../docs/causes.md")
	require.NoError(t, err)
	made := map[string]bool{"name-elsewhere": true} // TestNameElsewhere makes it
	for _, c := range faults {
		made[c.cause] = true
		assert.Contains(t, string(documented), "| `"+c.cause+"` |")
	}
	for _, app := range []application{phpPages, nodePages, pythonPages} {
		for _, f := range app.pages {
			made[f.cause] = true
			assert.Contains(t, string(documented), "| `"+f.cause+"` |")
		}
	}
	row := regexp.MustCompile("(?m)^\\| `([a-z-]+)` \\|(.*)$")
	for _, m := range row.FindAllStringSubmatch(string(documented), -1) {
		if !strings.Contains(m[2], "(not made in tests)") {
			assert.True(t, made[m[1]], "no test makes %s", m[1])
		}
	}
}

// diagnoseEach makes faults, several at a time, as most of the time is spent waiting.
func diagnoseEach(t *testing.T, groups ...[]fault) {
	for _, c := range slices.Concat(groups...) {
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
			if c.breaks == nil {
				r := w.dravit("start", "--timeout", "12s")
				require.NotEqual(t, 0, r.code, r.all())
			} else {
				if c.cause != "port-fixed" && c.cause != "folder-unwritable" {
					w.must("start")
				}
				c.breaks(t, w)
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
				return
			}
			require.NotEmpty(t, d.Causes, "%s", text.all())
			first := d.Causes[0]
			assert.EqualValues(t, c.cause, first.Cause, "%+v", d.Causes)
			assert.Equal(t, c.subject, first.Subject.String())
			assert.NotEmpty(t, first.Remedy)
			assert.Contains(t, strings.Join(append(first.Evidence, first.What, first.Remedy), "\n"), c.says)
			assert.Contains(t, text.stdout, c.cause)
			assert.NotContains(t, text.stdout, "$1")
			if c.fixes {
				d = w.diagnose("--fix", "--yes")
				assert.True(t, d.Answers, "%+v", d.Causes)
			}
		})
	}
}

// diagnose also shows what was edited in the stack file since everything answered, without secrets.
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
	assert.Equal(t, "env.TOKEN", d.Changes[0].Subject.String())
	assert.WithinDuration(t, time.Now(), d.Since, time.Minute)
	w.write("dravit.toml", file)
	w.must("start")
	assert.NotContains(t, w.must("diagnose").stdout, "changed")
}
