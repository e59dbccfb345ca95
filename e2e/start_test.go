package e2e

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/proc"
)

// The whole way: start, check, stop. Nothing is left but the data.
func TestStartCheckStop(t *testing.T) {
	w := newWorld(t)
	w.real()
	out := w.must("start")
	assert.Contains(t, out.stdout, "day-boat  answers")
	assert.Contains(t, out.stdout, "http://day.localhost:")

	var check struct {
		Answers bool
		Parts   []struct {
			Name  string
			Rungs []struct {
				Rung  string
				Holds *bool
			}
		}
		Sites []struct {
			Rungs []struct {
				Rung  string
				Holds *bool
			}
		}
	}
	require.Equal(t, 0, w.json(&check, "check").code)
	assert.True(t, check.Answers)
	require.Len(t, check.Parts, 4)
	for _, p := range check.Parts {
		var rungs []string
		for _, r := range p.Rungs {
			rungs = append(rungs, r.Rung)
			assert.True(t, *r.Holds, "%s %s", p.Name, r.Rung)
		}
		assert.Equal(t, []string{"alive", "open", "ours", "greets"}, rungs[:4])
	}
	assert.Equal(t, "matches", check.Sites[0].Rungs[4].Rung)
	assert.True(t, *check.Sites[0].Rungs[4].Holds)

	s := w.status()
	before := s.pids()
	again := w.must("start")
	assert.Contains(t, again.stdout, "nothing to start")
	assert.Equal(t, before, w.status().pids(), "a second start changes nothing")

	for _, p := range s.Parts {
		assert.Positive(t, p.PID, p.Name)
	}
	w.must("stop")
	assert.Empty(t, w.living())
	for _, pid := range before {
		assert.False(t, alive(pid))
	}
	looked := 0
	run, err := os.ReadFile(filepath.Join(w.home, "run"))
	require.NoError(t, err)
	for _, root := range []string{w.home, strings.TrimSpace(string(run))} {
		_ = filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			if err == nil && e.Type() == fs.ModeSocket && !strings.HasSuffix(path, "keeper.sock") ||
				strings.Contains(path, "/state/") && strings.HasSuffix(path, ".lock") {
				t.Errorf("left behind: %s", path)
			}
			looked++
			return nil
		})
	}
	assert.Greater(t, looked, 20, "there was something to look at")
	assert.DirExists(t, filepath.Join(w.home, "stacks", w.book().ByName("day-boat"), "data", "db"), "data is kept")
	r := w.dravit("check")
	assert.Equal(t, 1, r.code, "a stopped stack does not answer")
	assert.Equal(t, "stopped", w.status().State)
}

// What run gives to a command: the stores' addresses, and the runtime that serves the pages.
func TestRun(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", real+"[env]\nLEDGER = \"mysql://{db.user}@{db.host}:{db.port}/{db.database}\"\n")
	w.write("public/index.php", "<h1>Day boat</h1>")
	r := w.dravit("run", "--", "true")
	assert.Equal(t, 125, r.code, "Dravit itself fails where the stack was never started")
	w.must("start")
	db := w.status().part(t, "db")
	out := w.must("run", "--", "sh", "-c", `echo "$LEDGER $DB_PORT $DB_USERNAME $DATABASE_URL $REDIS_URL"`).stdout
	assert.Contains(t, out, fmt.Sprintf("mysql://boats@127.0.0.1:%d/boats %d boats mysql://boats:", db.Port, db.Port))
	assert.Contains(t, out, "redis://default:")
	modules := w.must("run", "--", "php", "-m").stdout
	assert.Contains(t, modules, "mysqli")
	assert.NotContains(t, modules, "intl", "the command line has the extensions that the pages have, no more")
	script := `$m = new mysqli(getenv("DB_HOST"), getenv("DB_USERNAME"), getenv("DB_PASSWORD"), getenv("DB_DATABASE"),
		(int) getenv("DB_PORT"));
		echo json_encode($m->query("SELECT User FROM mysql.global_priv") ? "sees accounts" : "");`
	r = w.dravit("run", "--", "php", "-r", script)
	assert.Contains(t, r.all(), "denied", "the application's user is no administrator")
	script = `$m = new mysqli("localhost", posix_getpwuid(posix_geteuid())["name"]); foreach ($m->query("SELECT ` +
		`CONCAT(User, '@', Host) FROM mysql.user ORDER BY 1") as $r) echo implode($r), " "; foreach ($m->query("SHOW ` +
		`DATABASES LIKE 'test'") as $r) echo "test database";`
	out = w.must("run", "--", "php", "-r", script).stdout
	assert.ElementsMatch(t, []string{"boats@127.0.0.1", "boats@localhost", "mariadb.sys@localhost",
		tester.Username + "@localhost"}, strings.Fields(out), "no root, nobody anonymous, no test database")
	assert.Equal(t, 7, w.dravit("run", "--", "sh", "-c", "exit 7").code)
	assert.Equal(t, 127, w.dravit("run", "--", "no-such-command").code)
	assert.Equal(t, 2, w.dravit("status", "--nonsense").code)
}

// A change of the stack file restarts only the parts that it concerns.
func TestChangeRestartsOnlyWhatChanged(t *testing.T) {
	w := newWorld(t)
	w.real()
	w.must("start")
	before := w.status().pids()
	w.write("dravit.toml", strings.Replace(real, `extensions = ["mysqli", "redis"]`, `extensions = ["mysqli", "redis"]`+
		"\nsettings = { memory_limit = \"99M\", \"date.timezone\" = \"Pacific/Auckland\" }", 1))
	w.must("start")
	after := w.status().pids()
	assert.NotEqual(t, before["app"], after["app"])
	for _, name := range []string{"web", "db", "seats"} {
		assert.Equal(t, before[name], after[name], name)
	}
	w.write("public/limit.php", "<?php echo ini_get('memory_limit'), ' ', date_default_timezone_get();")
	_, page, _ := get(t, "GET", w.status().Sites[0].URL+"limit.php", nil)
	assert.Equal(t, "99M Pacific/Auckland", page)
	w.write("dravit.toml",
		strings.Replace(strings.Replace(real, `extensions = ["mysqli", "redis"]`, `extensions = ["mysqli", "redis"]`+
			"\nsettings = { memory_limit = \"99M\", \"date.timezone\" = \"Pacific/Auckland\" }",
			1), "Day boat", "Day", 1))
	w.must("start")
	assert.Equal(t, after, w.status().pids(), "what a site is expected to answer is no part's business")
	w.must("restart", "seats")
	last := w.status().pids()
	assert.NotEqual(t, after["seats"], last["seats"])
	assert.Equal(t, after["db"], last["db"])
	// A part that is no longer in the file is stopped.
	w.write("dravit.toml", strings.Replace(real, "[part.seats]\nkind = \"redis\"\n", "", 1))
	w.must("start")
	assert.False(t, alive(last["seats"]))
	assert.Len(t, w.status().Parts, 3)
}

// Difficult paths: spaces, letters beyond ASCII, a dollar, and longer than a socket's path can be.
func TestDifficultPaths(t *testing.T) {
	for _, name := range []string{"Fähre nach Süd-Eiland $1 'kurz'",
		strings.Repeat("a-rather-deep-folder/", 12) + "ferry"} {
		w := newWorld(t)
		w.dir = filepath.Join(w.dir, name)
		if strings.Contains(name, "deep") {
			w.home = filepath.Join(filepath.Dir(w.home), name, "home")
		}
		require.NoError(t, os.MkdirAll(w.dir, 0o755))
		require.NoError(t, os.MkdirAll(filepath.Dir(w.home), 0o755))
		w.real()
		w.own(filepath.Dir(w.home))
		w.must("start")
		w.must("check")
		w.must("stop")
	}
}

// Two clones of one project run at the same time, each under its own host names.
func TestTwoClones(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	w.must("start")
	clone := *w
	clone.dir = w.dir + " again"
	require.NoError(t, os.CopyFS(clone.dir, os.DirFS(w.dir)))
	clone.own(clone.dir)
	clone.write("public/index.html", "<h1>Night boat, the clone</h1>")
	clone.must("start")
	one, two := w.status(), clone.status()
	assert.Equal(t, "night-boat", one.Stack)
	assert.Equal(t, "night-boat-2", two.Stack)
	_, page, _ := get(t, "GET", one.Sites[0].URL, nil)
	assert.NotContains(t, page, "clone")
	_, page, _ = get(t, "GET", two.Sites[0].URL, nil)
	assert.Contains(t, page, "clone")
	ports := map[int]bool{}
	for _, p := range append(one.Parts, two.Parts...) {
		if p.Port != 0 {
			assert.False(t, ports[p.Port], "port %d is given twice", p.Port)
			ports[p.Port] = true
		}
	}
	w.must("stop", "--stack", "night-boat-2")
	w.must("check")
	w.must("restart", "web") // a part that the plan added
	assert.NotEqual(t, one.part(t, "web").PID, w.status().part(t, "web").PID)
	r := w.dravit("restart", "wbe")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "its parts are mail, seats, store, web")
}

// Two starts at the same moment start one stack.
func TestTwoStartsAtOnce(t *testing.T) {
	w := newWorld(t)
	w.real()
	var wg sync.WaitGroup
	results := make([]result, 4)
	for i := range results {
		wg.Go(func() { results[i] = finish(t, w.command(context.Background(), "start")) })
	}
	wg.Wait()
	for _, r := range results {
		assert.Equal(t, 0, r.code, r.all())
	}
	w.must("check")
	assert.Len(t, w.book().Stacks, 1)
	for name, pid := range w.status().pids() {
		pids, err := proc.LockHolders(filepath.Join(w.home, "stacks",
			w.book().ByName("day-boat"), "state", name+".lock"))
		require.NoError(t, err)
		assert.Contains(t, pids, pid)
	}
}

// Ctrl-C stops what the start has started, and nothing else.
func TestInterruptedStart(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "[part.seats]\nkind = \"dravit-cache\"\n")
	w.must("start")
	seats := w.status().part(t, "seats").PID
	w.write("dravit.toml",
		"[part.seats]\nkind = \"dravit-cache\"\n[part.slow]\nkind = \"custom\"\ncommand = \"exec sleep 300\"\n")
	cmd := w.command(context.Background(), "start")
	require.NoError(t, cmd.Start())
	w.eventually("the slow part lives", func() bool {
		for _, p := range w.status().Parts {
			if p.Name == "slow" && p.PID != 0 {
				return true
			}
		}
		return false
	})
	slow := w.status().part(t, "slow").PID
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	_ = cmd.Wait()
	assert.Equal(t, 130, cmd.ProcessState.ExitCode())
	w.eventually("the slow part is stopped", func() bool {
		return !alive(slow) && w.status().part(t, "slow").State == "stopped"
	})
	assert.Equal(t, seats, w.status().part(t, "seats").PID, "what ran before runs on")
}

// A stack file may pin a port; free choices avoid the ports of other stacks.
func TestPorts(t *testing.T) {
	w := newWorld(t)
	taken, err := net.Listen("tcp", "127.0.0.1:0") // a port that is free, held by the tester's own program in a moment
	require.NoError(t, err)
	port := taken.Addr().(*net.TCPAddr).Port
	require.NoError(t, taken.Close())
	other := exec.Command("php", "-n", "-S", fmt.Sprintf("127.0.0.1:%d", port))
	other.SysProcAttr = w.asTester()
	require.NoError(t, other.Start())
	defer func() { _ = other.Process.Kill(); _ = other.Wait() }()
	w.eventually("the other listens", func() bool {
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	w.write("dravit.toml", fmt.Sprintf("[part.seats]\nkind = \"dravit-cache\"\nport = %d\n", port))
	r := w.dravit("start")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, fmt.Sprintf("port %d, pinned by part seats, is taken", port))
	assert.Contains(t, r.stderr,
		fmt.Sprintf("php (pid %d, user %s, since ", other.Process.Pid, tester.Username), "the holder is named")
	assert.Contains(t, r.stderr, fmt.Sprintf("kill %d", other.Process.Pid))
	assert.Empty(t, w.book().Stacks, "a start without a plan leaves nothing")

	base, err := net.Listen("tcp", "127.0.0.1:16379")
	if err == nil {
		defer base.Close()
	}
	w.write("dravit.toml", "[part.seats]\nkind = \"dravit-cache\"\n")
	w.must("start")
	free := w.status().part(t, "seats").Port
	assert.Greater(t, free, 16379)
	w.must("stop")
	w.must("start")
	assert.Equal(t, free, w.status().part(t, "seats").Port, "the same stack gets the same port")
}

// Commands from a shell with an empty environment find the same keeper.
func TestEmptyEnvironment(t *testing.T) {
	w := newWorld(t)
	base, empty := tester.HomeDir, []string{}
	if !asRoot { // the account may have stacks of its own: the test must use its own home folder
		base = filepath.Dir(w.home)
		empty = []string{"HOME=" + base}
	}
	w.home = filepath.Join(base, ".local", "share", "dravit")
	removeAll(t, w.home)
	t.Cleanup(func() { _ = os.RemoveAll(w.home) })
	w.builtin()
	bare := func(env []string, args ...string) result {
		cmd := w.command(context.Background(), args...)
		cmd.Env = env
		return finish(t, cmd)
	}
	r := bare([]string{"HOME=" + base, "PATH=/usr/bin:/bin", "XDG_RUNTIME_DIR=" + t.TempDir(), "TMPDIR=" + t.TempDir()},
		"start")
	require.Equal(t, 0, r.code, r.all())
	keeper := w.keeperPID()
	require.Positive(t, keeper)
	r = bare(empty, "status", "--json")
	require.Equal(t, 0, r.code, r.all())
	assert.Contains(t, r.stdout, `"state": "answers"`)
	r = bare(empty, "start")
	assert.Contains(t, r.stdout, "nothing to start", r.all())
	assert.Equal(t, keeper, w.keeperPID())
	r = bare(empty, "stop")
	require.Equal(t, 0, r.code, r.all())
	w.eventually("the keeper ends", func() bool { return w.keeperPID() == 0 })
}

// adminsGroup is a group that root is in, and the tester is not.
const adminsGroup = 31337

// assertOrdinary checks that a process has nothing of root's: no user, no group, no variable.
func assertOrdinary(t *testing.T, pid int) {
	t.Helper()
	uid, gid := ids(t)
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	fields := map[string][]string{}
	for line := range strings.Lines(string(status)) {
		name, rest, _ := strings.Cut(line, ":")
		fields[name] = strings.Fields(rest)
	}
	user, group := strconv.Itoa(uid), strconv.Itoa(gid)
	assert.Equal(t, []string{user, user, user, user}, fields["Uid"], "%s", fields["Name"])
	assert.Equal(t, []string{group, group, group, group}, fields["Gid"], "%s", fields["Name"])
	for _, g := range []string{"0", "1", strconv.Itoa(adminsGroup)} {
		assert.NotContains(t, fields["Groups"], g, "%s", fields["Name"])
	}
	env, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
	require.NoError(t, err)
	assert.NotContains(t, string(env), "of-root-only", "%s", fields["Name"])
}

// Run by root, Dravit becomes the project's owner, and so do its parts.
func TestRunByRoot(t *testing.T) {
	if !asRoot {
		t.Skip("only root can be made ordinary")
	}
	w := newWorld(t)
	w.real()
	asRoot := func(args ...string) result {
		cmd := w.command(context.Background(), args...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Groups: []uint32{0, 1, adminsGroup}}}
		cmd.Env = append(cmd.Env, "HARBOUR_KEY=of-root-only")
		return finish(t, cmd)
	}
	r := asRoot("start")
	require.Equal(t, 0, r.code, r.all())
	assert.Contains(t, r.stderr, "running as "+tester.Username+", never as root")
	living := w.living()
	require.NotEmpty(t, living)
	for _, pid := range living {
		assertOrdinary(t, pid)
	}
	assert.Equal(t, "answers", w.status().State, "the account itself finds the same stack")
	assert.Equal(t, 0, asRoot("check").code)
	assert.Equal(t, 0, asRoot("check", "--account", tester.Username).code, "the account may be named")
	r = w.dravit("check", "--account", "root")
	assert.Equal(t, 2, r.code, "by root only")
	r = asRoot("run", "--", "env")
	assert.Contains(t, r.stdout, "USER="+tester.Username+"\n", r.all())
	assert.NotContains(t, r.stdout, "of-root-only", "what is root's is not handed on")

	// If no ordinary account is suitable, root is told so, and no account is created without consent.
	w.dir = "/root"
	cmd := w.command(context.Background(), "status")
	cmd.SysProcAttr = nil
	r = finish(t, cmd)
	if _, err := user.Lookup("dravit"); err == nil { // made with consent on this machine, some time before
		assert.Contains(t, r.stderr, "running as dravit, never as root")
	} else {
		assert.Equal(t, 4, r.code, r.all())
		assert.Contains(t, r.stderr, "does not run as root")
		assert.Contains(t, r.stderr, "useradd --create-home")
	}
	w.dir = filepath.Join(filepath.Dir(w.home), "ferry office")
}

// The keeper and its clients talk to their own user only, and not to root: each rejects a process that pretends to be
// the other.
func TestOthersAtTheKeepersSocket(t *testing.T) {
	if !asRoot {
		t.Skip("only root reaches another user's socket")
	}
	w := newWorld(t)
	w.builtin()
	w.must("start")
	run, err := os.ReadFile(filepath.Join(w.home, "run"))
	require.NoError(t, err)
	socket := filepath.Join(strings.TrimSpace(string(run)), "keeper.sock")
	ask := func(as *syscall.SysProcAttr) result {
		cmd := exec.Command("curl", "-sS", "-m", "5", "--unix-socket", socket, "http://keeper/none")
		cmd.SysProcAttr = as
		return finish(t, cmd)
	}
	own := ask(w.asTester())
	assert.Equal(t, 0, own.code, own.all())
	assert.Contains(t, own.stdout, "404")
	root := ask(nil)
	assert.NotEqual(t, 0, root.code, root.all())
	assert.Empty(t, root.stdout, "it says nothing to another user")

	require.NoError(t, os.Remove(socket))
	impostor, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer impostor.Close()
	require.NoError(t, os.Chmod(socket, 0o777))
	asked := make(chan string, 10)
	go func() {
		for {
			conn, err := impostor.Accept()
			if err != nil {
				return
			}
			_ = conn.SetReadDeadline(time.Now().Add(2 * time.Second))
			text, _ := io.ReadAll(io.LimitReader(conn, 1))
			asked <- string(text)
			conn.Close()
		}
	}()
	w.dravit("status")
	select {
	case text := <-asked:
		assert.Empty(t, text, "a client tells nothing to a keeper of another user")
	case <-time.After(10 * time.Second):
		t.Error("nobody asked")
	}
}

// A start ends in time even if a part never answers; what runs keeps running.
func TestNeverAnswers(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "[part.seats]\nkind = \"dravit-cache\"\n[part.slow]\nkind = \"custom\"\n"+
		"command = \"echo loading the cargo; exec sleep 300\"\n")
	began := time.Now()
	r := w.dravit("start", "--timeout", "5s")
	assert.Equal(t, 1, r.code)
	assert.Less(t, time.Since(began), 30*time.Second)
	assert.Contains(t, r.stderr, "part slow (custom")
	assert.Contains(t, r.stderr, "does not answer")
	assert.Contains(t, flat(r.stderr), "open: expected a socket that accepts at 127.0.0.1:", "what it is waited for")
	s := w.status()
	assert.Equal(t, "answers", s.part(t, "seats").State)
	assert.Equal(t, "starting", s.part(t, "slow").State)
	check := w.dravit("check")
	assert.Equal(t, 1, check.code)
	assert.Contains(t, check.stdout, "open: expected a socket that accepts")
	assert.Contains(t, w.must("logs", "slow").stdout, "loading the cargo")
}

// Stacks start and stop at the same time, each by its own command: none loses the keeper or the gateway because another
// stack stops.
func TestStacksComeAndGo(t *testing.T) {
	w := newWorld(t)
	var worlds []*world
	for i := range 4 {
		x := *w
		x.dir = filepath.Join(w.dir, fmt.Sprint("quay-", i))
		x.write("dravit.toml", fmt.Sprintf("name = \"quay-%d\"\n[part.seats]\nkind = \"dravit-cache\"\n[[site]]\n"+
			"name = \"quay-%d\"\nexpect = { text = \"Quay %d\" }\n", i, i, i))
		x.write("public/index.html", fmt.Sprint("Quay ", i))
		worlds = append(worlds, &x)
	}
	var wg sync.WaitGroup
	for _, x := range worlds {
		wg.Go(func() {
			for range 4 {
				for _, command := range []string{"start", "stop"} {
					if r := finish(t, x.command(context.Background(), command)); !assert.Equal(t, 0, r.code, "%s: %s",
						command, r.all()) {
						return
					}
				}
			}
		})
	}
	wg.Wait()
	w.eventually("nothing runs", func() bool { return len(w.living()) == 0 })
	for _, x := range worlds {
		wg.Go(func() {
			r := finish(t, x.command(context.Background(), "start"))
			assert.Equal(t, 0, r.code, r.all())
		})
	}
	wg.Wait()
	for _, x := range worlds {
		x.must("check")
	}
}

// A part that was unwell for want of a store is asked again when the store answers, not before.
func TestStartOfWhatAnUnwellPartNeeds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("public/index.php", "<?php echo 'quay';")
	w.write("dravit.toml", "name = \"quay\"\n[part.mail]\nkind = \"dravit-mail\"\n[part.app]\nkind = \"php\"\n"+
		"[[site]]\nname = \"quay\"\napp = \"app\"\n")
	w.must("start")
	for range 3 {
		w.must("stop", "mail")
		w.eventually("the app is unwell", func() bool { return w.status().part(t, "app").State == "unwell" })
		w.must("start")
		assert.Equal(t, "answers", w.status().part(t, "app").State)
	}
}
