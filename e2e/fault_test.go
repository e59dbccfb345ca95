package e2e

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/proc"
)

// Every fault of a stack file at once, each with its line and what was probably meant.
func TestBadStackFile(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", `name = "Night Boat"
[part.app]
kind = "phpp"
vershun = "8.2"
[part.db]
kind = "mariadb"
port = "3306"
uses = ["seat"]
[[site]]
name = "ferry"
app = "ap"
[[site]]
name = "ferry"
`)
	for _, command := range []string{"plan", "start"} {
		r := w.dravit(command)
		assert.Equal(t, 2, r.code)
		for _, want := range []string{
			"dravit.toml:1:1:", `"Night Boat" cannot be a name`,
			"dravit.toml:3:1:", `unknown kind "phpp"`, `did you mean "php"?`,
			"dravit.toml:4:1:", `unknown key "vershun"`, `did you mean "version"?`, `vershun = "8.2"`,
			"dravit.toml:7:1:", `port must be a whole number, not "3306"`,
			"dravit.toml:8:1:", `no part is named "seat"`,
			`no part is named "ap"`, `did you mean "app"?`,
			"dravit.toml:13:1:", `two sites have the name "ferry"`,
		} {
			assert.Contains(t, r.stderr, want)
		}
	}
	w.write("dravit.toml", "name = \n[part")
	r := w.dravit("start")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "this is not TOML")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "dravit.toml")))
	r = w.dravit("start")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "no dravit.toml here")
	var object struct {
		Error struct{ What, Because, Next string }
	}
	assert.Equal(t, 2, w.json(&object, "start").code)
	assert.Equal(t, "there is no stack here", object.Error.What)
}

// No program fits the version: the message lists what was found, and where.
func TestNoPlan(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml",
		"[part.app]\nkind = \"php\"\nversion = \"5.2\"\n[part.web]\nkind = \"nginx\"\nversion = \">= 99\"\n")
	r := w.dravit("start")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, "no program on this machine fits part app, which needs php 5.2")
	assert.Regexp(t, `php 8\.\d+\.\d+ at /usr/sbin/php-fpm`, r.stderr)
	assert.Contains(t, r.stderr, "also  no program on this machine fits part web")
	var plan struct {
		OK     bool
		Faults []struct{ Subject string }
	}
	assert.Equal(t, 3, w.json(&plan, "plan").code)
	assert.False(t, plan.OK)
	assert.Len(t, plan.Faults, 2)
	w.write("dravit.toml", "[part.app]\nkind = \"php\"\nextensions = [\"mysqli\", \"kelp\"]\n")
	r = w.dravit("plan")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, "it has no extension kelp")
}

// If a server exits at once, start names it with its cause and the end of its log; the others keep running.
func TestServerExitsAtOnce(t *testing.T) {
	for kind, want := range map[string]struct{ table, because, log string }{
		"mariadb": {"settings = { sql_mode = 'low_tide' }", "Error while setting value 'low_tide' to 'sql_mode'",
			"sql_mode"},
		"redis":    {"settings = { low-tide = 3 }", "Bad directive", "low-tide"},
		"postgres": {"settings = { low_tide = 3 }", "unrecognized configuration parameter", "low_tide"},
		"nats":     {"settings = { low_tide = 3 }", "unknown field", "low_tide"},
		"custom": {"command = \"echo the engine is cold; exit 3\"",
			"it exited with code 3 before it answered", "the engine is cold"},
	} {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.write("dravit.toml", fmt.Sprintf("[part.mail]\nkind = \"dravit-mail\"\n[part.bad]\nkind = %q\n"+
				"uses = []\n%s\n", kind, want.table))
			if kind != "custom" {
				w.write("dravit.toml",
					fmt.Sprintf("[part.mail]\nkind = \"dravit-mail\"\n[part.bad]\nkind = %q\n%s\n", kind, want.table))
			}
			r := w.dravit("start")
			assert.Equal(t, 1, r.code, r.all())
			assert.Contains(t, r.stderr, "part bad ("+kind)
			assert.Contains(t, r.stderr, want.because)
			assert.Contains(t, r.stderr, want.log)
			s := w.status()
			assert.Equal(t, "failed", s.part(t, "bad").State)
			assert.Equal(t, "answers", s.part(t, "mail").State)
			assert.Equal(t, "failed", s.State, "a stack's state is its worst part's")
			// Corrected, the same command goes through.
			fixed := "[part.mail]\nkind = \"dravit-mail\"\n[part.bad]\nkind = \"dravit-cache\"\n"
			if kind != "custom" {
				fixed = fmt.Sprintf("[part.mail]\nkind = \"dravit-mail\"\n[part.bad]\nkind = %q\n", kind)
			}
			w.write("dravit.toml", fixed)
			w.must("start")
		})
	}
}

// The server's own test rejects a configuration before anything is started. A configuration that passed is not tested
// again.
func TestConfigurationTest(t *testing.T) {
	w := newWorld(t)
	w.write("public/index.html", "x")
	w.write("deploy/rules.conf", "low_tide on;\n")
	w.write("dravit.toml", "[part.web]\nkind = \"nginx\"\n[[site]]\nname = \"day\"\ninclude = \"deploy/rules.conf\"\n")
	var failed struct {
		Parts []struct{ State, Code string }
	}
	assert.Equal(t, 1, w.json(&failed, "start").code)
	require.Len(t, failed.Parts, 1)
	assert.Equal(t, "failed", failed.Parts[0].State)
	assert.Equal(t, "config-refused", failed.Parts[0].Code)
	assert.Zero(t, w.status().part(t, "web").PID, "no nginx was started")
	w.write("deploy/rules.conf", "add_header Low-Tide on;\n")
	w.must("start")
	w.must("stop")
	assert.FileExists(t, w.stackPath("conf", "web", ".tested"))
}

// A part that was killed with -9 restarts by itself, with its data.
func TestKilledPartComesBack(t *testing.T) {
	w := newWorld(t)
	w.real()
	w.write("public/keep.php", `<?php
$db = new mysqli(getenv('DB_HOST'), getenv('DB_USERNAME'), getenv('DB_PASSWORD'), getenv('DB_DATABASE'),
	(int) getenv('DB_PORT'));
$seats = new Redis();
$seats->connect(getenv('REDIS_HOST'), (int) getenv('REDIS_PORT'));
$seats->auth(getenv('REDIS_PASSWORD'));
if (isset($_GET['put'])) {
    $db->query('CREATE TABLE cargo (name VARCHAR(20))');
    $db->query("INSERT INTO cargo VALUES ('kelp')");
    $seats->set('cargo', 'salt');
}
echo $db->query('SELECT name FROM cargo')->fetch_row()[0], ' ', $seats->get('cargo');
`)
	w.must("start")
	site := w.status().Sites[0].URL
	_, page, _ := get(t, "GET", site+"keep.php?put=1", nil)
	require.Equal(t, "kelp salt", page)
	for _, name := range []string{"db", "seats"} {
		pid := w.status().part(t, name).PID
		kill(t, pid)
		w.eventually(name+" is back", func() bool {
			p := w.status().part(t, name)
			return p.State == "answers" && p.PID != pid && p.Restarts == 1
		})
	}
	w.must("check")
	_, page, _ = get(t, "GET", site+"keep.php", nil)
	assert.Equal(t, "kelp salt", page)
}

// A part that keeps crashing is restarted after pauses, during which its state says why, until it answers.
func TestCrashLoop(t *testing.T) {
	w := newWorld(t)
	w.write("flag", "")
	w.write("dravit.toml", "[part.boat]\nkind = \"custom\"\n"+
		"command = \"test -e flag || { echo aground; exit 9; }; exec php -n -S 127.0.0.1:{port}\"\n")
	w.must("start")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "flag")))
	kill(t, w.status().part(t, "boat").PID)
	w.eventually("it pauses between tries, and says why", func() bool {
		p := w.status().part(t, "boat")
		return p.State == "pausing" && strings.Contains(p.Because, "code 9")
	})
	w.write("flag", "")
	w.eventually("it is back once it can be", func() bool { return w.status().part(t, "boat").State == "answers" })
}

// If only the master process is killed, workers that answer in its name are stopped before the restart.
func TestOrphansAreEnded(t *testing.T) {
	w := newWorld(t)
	w.real()
	w.must("start")
	url := w.status().Sites[0].URL
	_, _, _ = get(t, "GET", url, nil) // FPM has a worker now
	for _, name := range []string{"web", "app"} {
		master := w.status().part(t, name).PID
		orphans := children(t, master)
		require.NotEmpty(t, orphans, name)
		kill(t, master)
		w.eventually(name+" is back without its orphans", func() bool {
			for _, pid := range orphans {
				if alive(pid) {
					return false
				}
			}
			p := w.status().part(t, name)
			return p.State == "answers" && p.PID != master
		})
		code, _, _ := get(t, "GET", url, nil)
		assert.Equal(t, 200, code)
	}
	w.must("check")
}

// The keeper may die at any moment: parts and gateway keep running, the next command takes them over, and starts
// nothing twice.
func TestKeeperKilled(t *testing.T) {
	w := newWorld(t)
	w.real()
	w.must("start")
	before := w.status()
	keeper := w.keeperPID()
	kill(t, keeper)
	w.eventually("the keeper is gone", func() bool { return !alive(keeper) })
	code, page, _ := get(t, "GET", before.Sites[0].URL, nil)
	assert.Equal(t, 200, code)
	assert.Contains(t, page, "Day boat", "gateway and parts serve on")
	w.eventually("all is taken over", func() bool { return w.status().State == "answers" })
	assert.NotEqual(t, keeper, w.keeperPID())
	assert.Equal(t, before.pids(), w.status().pids(), "nothing is started twice")
	w.must("check")
	assert.Contains(t, w.must("start").stdout, "nothing to start")

	// A new keeper starts parts that died while no keeper ran, and watches those that it took over.
	keeper = w.keeperPID()
	kill(t, keeper)
	kill(t, before.part(t, "seats").PID)
	w.eventually("the dead part is back", func() bool {
		p := w.status().part(t, "seats")
		return p.State == "answers" && p.PID != before.part(t, "seats").PID
	})
	kill(t, before.part(t, "web").PID)
	w.eventually("the adopted part is back", func() bool {
		p := w.status().part(t, "web")
		return p.State == "answers" && p.PID != before.part(t, "web").PID
	})
	assert.Equal(t, before.part(t, "db").PID, w.status().part(t, "db").PID)
	w.must("stop")
	assert.Empty(t, w.living())
}

// If the keeper is killed during a start, the next command finishes the start.
func TestKeeperKilledWhileStarting(t *testing.T) {
	w := newWorld(t)
	w.real()
	w.must("start")
	w.must("stop")
	broken := false
	for try := 0; try < 10 && !broken; try++ { // a start that was already finished proves nothing
		cmd := w.command(t.Context(), "start")
		require.NoError(t, cmd.Start())
		for len(w.living()) <= 2 && alive(cmd.Process.Pid) {
			time.Sleep(time.Millisecond)
		}
		if pid := w.keeperPID(); pid != 0 {
			kill(t, pid)
		}
		_ = cmd.Wait()
		broken = cmd.ProcessState.ExitCode() == 1
		w.must("start")
		w.must("check")
		w.must("stop")
	}
	assert.True(t, broken, "no start was broken off")
}

// A part with data keeps its kind: another kind of the list would start empty.
func TestDataKeepsItsKind(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "[part.db]\nkind = [\"mariadb\", \"sqlite\"]\n")
	w.must("start")
	w.must("stop")
	w.write("dravit.toml", "[part.db]\nkind = [\"sqlite\"]\n")
	r := w.dravit("start")
	assert.Equal(t, 3, r.code, r.all())
	assert.Contains(t, r.stderr, "wrote the part's data")
	w.write("dravit.toml", "[part.db]\nkind = [\"mariadb\", \"sqlite\"]\n")
	w.must("start")
}

// A socket that a crash left behind is removed; a socket on which a process listens is not.
func TestSockets(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	w.must("start")
	socket := w.status().part(t, "web").Socket
	w.must("stop")
	require.NoError(t, os.MkdirAll(filepath.Dir(socket), 0o700))
	stale, err := syscall.Socket(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	require.NoError(t, err)
	require.NoError(t, syscall.Bind(stale, &syscall.SockaddrUnix{Name: socket}))
	w.own(filepath.Dir(socket))
	require.NoError(t, syscall.Close(stale))
	w.must("start")
	w.must("stop")

	require.NoError(t, os.MkdirAll(filepath.Dir(socket), 0o700))
	live, err := syscall.Socket(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	require.NoError(t, err)
	defer syscall.Close(live)
	require.NoError(t, syscall.Bind(live, &syscall.SockaddrUnix{Name: socket}))
	require.NoError(t, syscall.Listen(live, 5))
	w.own(filepath.Dir(socket))
	r := w.dravit("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, flat(r.stderr), "another program uses the socket of part web")
	assert.Contains(t, flat(r.stderr), "a program that Dravit did not start listens on")
	assert.FileExists(t, socket)
	require.NoError(t, os.Remove(socket))
}

// check notices an answer from a process that this stack did not start.
func TestCheckSeesForeignProcess(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "[part.boat]\nkind = \"custom\"\ncommand = \"exec sleep 300\"\n")
	r := w.dravit("start", "--timeout", "300ms")
	require.Equal(t, 1, r.code)
	port := w.status().part(t, "boat").Port
	other := w.command(t.Context())
	other.Path, other.Args = "/usr/bin/php", []string{"php", "-n", "-S", fmt.Sprintf("127.0.0.1:%d", port)}
	require.NoError(t, other.Start())
	defer func() { _ = other.Process.Kill(); _ = other.Wait() }()
	who := fmt.Sprintf("php (pid %d, user %s)", other.Process.Pid, tester.Username)
	w.eventually("the other answers", func() bool {
		r = w.dravit("check")
		part := w.status().part(t, "boat") // the keeper, which still waits for the part, may be quicker than the check
		return strings.Contains(r.stdout, "ours: expected") ||
			strings.Contains(part.Because, fmt.Sprintf("its port %d was taken by %s", port, who))
	})
	assert.Equal(t, 1, r.code)
	said := strings.Join(strings.Fields(r.stdout), " ")
	if strings.Contains(said, "ours: expected") {
		assert.Contains(t, said, "ours: expected the socket of this part's process")
		assert.Contains(t, said, "that of "+who+", which this stack did not start: its answers do not count")
	}

	// check also notices another process on the gateway's port, even if it returns a good page.
	w = newWorld(t)
	w.builtin()
	w.must("start")
	book := w.book()
	pids, err := proc.LockHolders(filepath.Join(w.home, "stacks/gateway/state/gateway.lock"))
	require.NoError(t, err)
	require.Len(t, pids, 1)
	kill(t, pids[0])
	var taken net.Listener
	for deadline := time.Now().Add(10 * time.Second); taken == nil && time.Now().Before(deadline); {
		taken, _ = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", book.HTTPPort))
	}
	require.NotNil(t, taken)
	defer taken.Close()
	go func() {
		_ = http.Serve(taken, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, "<h1>Night boat</h1>")
		}))
	}()
	r = w.dravit("check")
	assert.Equal(t, 1, r.code, r.all())
	assert.Contains(t, strings.Join(strings.Fields(r.stdout), " "), "without its signature, from "+
		map[bool]string{true: "a program of root", false: fmt.Sprintf("e2e.test (pid %d", os.Getpid())}[asRoot])
}

// A part that needs a failed one waits, and says so. The start names the cause, not the consequence.
func TestDependentsOfAFailedPart(t *testing.T) {
	w := newWorld(t)
	w.write("public/index.php", "x")
	w.write("dravit.toml",
		"[part.app]\nkind = \"php\"\n[part.api]\nkind = \"custom\"\ncommand = \"exec php -n -S 127.0.0.1:{port}\"\n"+
			"[part.db]\nkind = \"mariadb\"\nsettings = { sql_mode = 'x' }\n[[site]]\nname = \"day\"\napp = \"app\"\n")
	r := w.dravit("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "part db (mariadb")
	s := w.status()
	for _, name := range []string{"app", "api"} {
		assert.Equal(t, "waiting", s.part(t, name).State, name)
		assert.Equal(t, "db failed, which it needs", s.part(t, name).Because, name)
	}
	assert.Zero(t, s.part(t, "api").PID, "a server of the project's own starts when its stores answer")
	assert.Equal(t, "answers", s.part(t, "web").State)
	w.write("dravit.toml", "[part.app]\nkind = \"php\"\n[part.api]\nkind = \"custom\"\ncommand = \"exec php -n -S "+
		"127.0.0.1:{port}\"\n[part.db]\nkind = \"mariadb\"\n[[site]]\nname = \"day\"\napp = \"app\"\n")
	w.must("start")
	w.must("check")
}

// If a store is stopped, check shows that at everything that needs the store.
func TestCheckGoesTheWholeWay(t *testing.T) {
	w := newWorld(t)
	w.real()
	w.must("start")
	w.must("stop", "seats")
	var check struct {
		Answers bool
		Parts   []struct {
			Name, State string
			Rungs       []struct {
				Rung  string
				Holds *bool
				Got   string
			}
		}
		Sites []struct {
			State string
			Rungs []struct {
				Rung  string
				Holds *bool
				Got   string
			}
		}
	}
	assert.Equal(t, 1, w.json(&check, "check").code)
	assert.False(t, check.Answers)
	for _, p := range check.Parts {
		switch p.Name {
		case "seats":
			assert.Equal(t, "stopped", p.State)
		case "app":
			assert.Equal(t, "unwell", p.State, "PHP runs, and does not reach the cache")
			assert.False(t, *p.Rungs[4].Holds)
		default:
			assert.Equal(t, "answers", p.State)
		}
	}
	last := check.Sites[0].Rungs[4]
	assert.Equal(t, "matches", last.Rung)
	assert.False(t, *last.Holds, "the page comes, but what is behind it does not answer")
	assert.Contains(t, last.Got, "refused")
	w.must("start")
	w.must("check")
}

// Another build of Dravit takes over what runs. If the keeper died and the old build is gone, parts are started from
// the new build.
func TestAnotherBuildTakesOver(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	w.must("start")
	before := w.status()
	kill(t, w.keeperPID())
	kill(t, before.part(t, "mail").PID)
	text, err := os.ReadFile(program)
	require.NoError(t, err)
	other := filepath.Join(filepath.Dir(w.home), "dravit")
	require.NoError(t, os.WriteFile(other, append(text, '\n'), 0o755)) // the same program, and yet another build
	newer := func(args ...string) result {
		cmd := w.command(t.Context(), args...)
		cmd.Path = other
		return finish(t, cmd)
	}
	builds, err := filepath.Glob(filepath.Join(w.home, "bin", "*", "dravit"))
	require.NoError(t, err)
	require.Len(t, builds, 1)
	removeAll(t, filepath.Dir(builds[0]))
	w.eventually("all is taken over", func() bool {
		r := newer("status", "--json")
		return r.code == 0 && strings.Contains(r.stdout, `"state": "answers"`) &&
			!strings.Contains(r.stdout, `"failed"`)
	})
	assert.Equal(t, before.part(t, "seats").PID, w.status().part(t, "seats").PID, "what lived lives on")
	r := newer("start")
	assert.Equal(t, 0, r.code, r.all())
	assert.Equal(t, 0, newer("check").code)
	assert.Equal(t, 0, newer("stop").code)
}

// A start by another build, whose keeper takes over at the same moment, still notices what changed in the stack file.
func TestAnotherBuildSeesChanges(t *testing.T) {
	w := newWorld(t)
	const file = "name = \"day-boat\"\n[part.web]\nkind = \"nginx\"\n[part.seats]\n" +
		"kind = \"redis\"\n[[site]]\nname = \"day\"\n"
	w.write("dravit.toml", file)
	w.write("public/index.html", "<h1>Day boat</h1>")
	w.must("start")
	before := w.status()
	text, err := os.ReadFile(program)
	require.NoError(t, err)
	other := filepath.Join(filepath.Dir(w.home), "dravit")
	require.NoError(t, os.WriteFile(other, append(text, '\n'), 0o755))
	w.write("dravit.toml", strings.Replace(file, "kind = \"redis\"\n", "kind = \"redis\"\nsettings = { maxmemory = "+
		"\"64mb\" }\n", 1)+"[[site]]\nname = \"dawn\"\nroot = \"dawn\"\nexpect = { text = \"Dawn boat\" }\n")
	w.write("dawn/index.html", "<h1>Dawn boat</h1>")
	cmd := w.command(t.Context(), "start")
	cmd.Path = other
	r := finish(t, cmd)
	assert.Equal(t, 0, r.code, r.all())
	after := w.status()
	assert.NotEqual(t, before.part(t, "seats").PID, after.part(t, "seats").PID, "its settings changed")
	assert.Equal(t, before.part(t, "web").PID, after.part(t, "web").PID, "it took the new site while it ran")
	w.must("check")
}
