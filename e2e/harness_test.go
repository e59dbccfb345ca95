// Package e2e drives the built program as an ordinary user against the real servers.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dravit/internal/account"
	"dravit/internal/home"
	"dravit/internal/ledger"
	"dravit/internal/members"
	"dravit/internal/proc"
)

var (
	program string     // the built dravit
	tester  *user.User // the ordinary account that runs it
	asRoot  = os.Geteuid() == 0

	buildFlags []string // the race detector's, where the suite runs with it
)

// testAccount is created if root runs the suite.
const testAccount = "dravit-tester"

// under is a condition that the suite runs under, beside the usual ones (e2e/conditions): "umask" (077 for every
// command), "link" (each world is reached through a link), "directory" (the account is the one that
// $DRAVIT_TEST_ACCOUNT names, and /etc/passwd does not have it).
var under = os.Getenv("DRAVIT_TEST_UNDER")

func TestMain(m *testing.M) {
	code, err := run(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, "e2e:", err)
		os.Exit(1)
	}
	os.Exit(code)
}

func run(m *testing.M) (int, error) {
	dir, err := os.MkdirTemp("", "dravit-e2e-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return 0, err
	}
	if program = os.Getenv("DRAVIT_TEST_PROGRAM"); program == "" {
		program = filepath.Join(dir, "dravit")
		if err := buildProgram(); err != nil {
			return 0, err
		}
	}
	if tester, err = user.Current(); err != nil {
		return 0, err
	}
	switch {
	case under == "directory":
		if tester, err = account.Lookup(os.Getenv("DRAVIT_TEST_ACCOUNT")); err != nil {
			return 0, err
		}
		if text, err := os.ReadFile("/etc/passwd"); err != nil || bytes.Contains(text, []byte(tester.Username+":")) {
			return 0, fmt.Errorf("%s must not be in /etc/passwd", tester.Username)
		}
	case asRoot:
		if tester, err = makeAccount(); err != nil {
			return 0, err
		}
	}
	return m.Run(), nil
}

// buildProgram builds dravit, unless $DRAVIT_TEST_PROGRAM names one that is built already.
func buildProgram() error {
	build := exec.Command("go", append(append([]string{"build"}, buildFlags...), "-o", program, "dravit/cmd/dravit")...)
	if buildFlags == nil {
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
	}
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("building dravit: %w: %s", err, out)
	}
	return nil
}

// makeAccount returns the account of the tests. It creates it if it is missing: once, also if two runs begin together,
// as useradd itself would give it two numbers then.
func makeAccount() (*user.User, error) {
	accounts, err := os.Open("/etc/passwd")
	if err != nil {
		return nil, err
	}
	defer accounts.Close() // ends the lock, too
	if err := syscall.Flock(int(accounts.Fd()), syscall.LOCK_EX); err != nil {
		return nil, err
	}
	if found, err := user.Lookup(testAccount); err == nil {
		return found, nil
	}
	out, err := exec.Command("useradd", "--create-home", "--shell", "/bin/sh", testAccount).CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("making the account %s: %w: %s", testAccount, err, out)
	}
	return user.Lookup(testAccount)
}

// world is a machine's worth of Dravit for one test: a home folder of its own, and a project.
type world struct {
	t    *testing.T
	home string // DRAVIT_HOME
	dir  string // the project
}

// removeAll deletes a folder that something may still write to: what came in between is deleted, too.
func removeAll(t *testing.T, dir string) {
	t.Helper()
	err := os.RemoveAll(dir)
	for tries := 0; errors.Is(err, syscall.ENOTEMPTY) && tries < 100; tries++ {
		time.Sleep(10 * time.Millisecond)
		err = os.RemoveAll(dir)
	}
	require.NoError(t, err)
}

// newWorld makes a world. When the test ends, everything in it is stopped, and no process may be left.
func newWorld(t *testing.T) *world {
	t.Helper()
	base, err := os.MkdirTemp("", "dravit-world-")
	require.NoError(t, err)
	real := base
	if under == "link" {
		base += "-link"
		require.NoError(t, os.Symlink(real, base))
	}
	w := &world{t: t, home: filepath.Join(base, "home"), dir: filepath.Join(base, "ferry office")}
	require.NoError(t, os.Mkdir(w.dir, 0o755))
	w.own(real, w.dir)
	w.settings("http = 8080\nhttps = 8443\n") // also where this user may listen on 80
	t.Cleanup(func() {
		w.stopAll()
		if t.Failed() {
			w.showLogs()
		}
		removeAll(t, base)
		removeAll(t, real)
	})
	return w
}

// own makes the tester the owner of paths.
func (w *world) own(paths ...string) {
	if !asRoot {
		return
	}
	uid, gid := ids(w.t)
	for _, p := range paths {
		require.NoError(w.t, filepath.WalkDir(p, func(path string, _ os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			return os.Lchown(path, uid, gid)
		}))
	}
}

func ids(t *testing.T) (uid, gid int) {
	uid, err := strconv.Atoi(tester.Uid)
	require.NoError(t, err)
	gid, err = strconv.Atoi(tester.Gid)
	require.NoError(t, err)
	return uid, gid
}

// content returns what is in a file.
func content(t *testing.T, file string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(text)
}

// write writes a file of the project.
func (w *world) write(name, text string) {
	w.t.Helper()
	path := filepath.Join(w.dir, name)
	require.NoError(w.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(w.t, os.WriteFile(path, []byte(text), 0o644))
	w.own(w.dir)
}

type result struct {
	code           int
	stdout, stderr string
}

// flat returns a text without its line breaks, as messages wrap.
func flat(text string) string { return strings.Join(strings.Fields(text), " ") }

func (r result) all() string { return r.stdout + r.stderr }

// command prepares dravit as the tester, in the project's folder.
func (w *world) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, program, args...)
	if under == "umask" {
		shell := []string{"-c", `umask 077; exec "$0" "$@"`, program}
		cmd = exec.CommandContext(ctx, "/bin/sh", append(shell, args...)...)
	}
	cmd.Dir = w.dir
	cmd.Env = []string{"HOME=" + tester.HomeDir, "USER=" + tester.Username,
		"PATH=/usr/local/bin:/usr/bin:/bin", "DRAVIT_HOME=" + w.home}
	cmd.SysProcAttr = w.asTester()
	return cmd
}

func (w *world) asTester() *syscall.SysProcAttr {
	if !asRoot {
		return nil
	}
	uid, gid := ids(w.t)
	return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
}

// longest is how long a command may take. On a busy machine nine programs are fetched and unpacked for minutes.
const longest = 8 * time.Minute

// dravit runs a command to its end.
func (w *world) dravit(args ...string) result {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), longest)
	defer cancel()
	return finish(w.t, w.command(ctx, args...))
}

func finish(t *testing.T, cmd *exec.Cmd) result {
	t.Helper()
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(t, err)
	}
	return result{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
}

// must runs a command and fails the test if the exit code is not 0.
func (w *world) must(args ...string) result {
	w.t.Helper()
	r := w.dravit(args...)
	require.Equal(w.t, 0, r.code, "dravit %s:\n%s", strings.Join(args, " "), r.all())
	return r
}

// json runs a command with --json and reads its object, whatever its exit code.
func (w *world) json(into any, args ...string) result {
	w.t.Helper()
	r := w.dravit(append(args, "--json")...)
	require.NoError(w.t, json.Unmarshal([]byte(r.stdout), into), "dravit %s --json:\n%s",
		strings.Join(args, " "), r.all())
	return r
}

type status struct {
	Format int
	Stack  string
	State  string
	Parts  []part
	Sites  []struct{ Name, URL string }
}

type part struct {
	Name, Kind, Version, State, Socket, Because string
	PID, Port, Restarts                         int
}

func (w *world) status() status {
	w.t.Helper()
	var s status
	r := w.json(&s, "status")
	require.Equal(w.t, 0, r.code, r.all())
	return s
}

func (s status) part(t *testing.T, name string) part {
	t.Helper()
	for _, p := range s.Parts {
		if p.Name == name {
			return p
		}
	}
	require.Fail(t, "no part "+name)
	return part{}
}

func (s status) pids() map[string]int {
	pids := map[string]int{}
	for _, p := range s.Parts {
		pids[p.Name] = p.PID
	}
	return pids
}

// patience is how long a test waits for something. A busy machine needs long, and only a failing test waits this long.
const patience = 2 * time.Minute

// eventually waits for something that the keeper does by itself.
func (w *world) eventually(what string, holds func() bool) {
	w.t.Helper()
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if holds() {
			return
		}
	}
	require.Fail(w.t, "this did not come to be: "+what)
}

func (w *world) book() *ledger.Ledger {
	w.t.Helper()
	var l ledger.Ledger
	text, err := os.ReadFile(filepath.Join(w.home, "ledger.json"))
	if errors.Is(err, os.ErrNotExist) {
		return &l
	}
	require.NoError(w.t, err)
	require.NoError(w.t, json.Unmarshal(text, &l))
	return &l
}

// stopAll stops every stack of the world, and checks that no process is left.
func (w *world) stopAll() {
	for _, s := range w.book().Stacks {
		if r := w.dravit("stop", "--stack", s.Name); r.code != 0 {
			w.t.Errorf("stopping %s: %s", s.Name, r.all())
		}
	}
	w.eventually("nothing is left running", func() bool { return len(w.living()) == 0 })
	for _, pattern := range []string{"keeper.log", "stacks/*/logs/*.log"} {
		files, _ := filepath.Glob(filepath.Join(w.home, pattern))
		for _, f := range files {
			if text, _ := os.ReadFile(f); bytes.Contains(text, []byte("DATA RACE")) {
				w.t.Errorf("%s reports a data race:\n%s", f, text)
			}
		}
	}
	if run, err := os.ReadFile(filepath.Join(w.home, "run")); err == nil {
		removeAll(w.t, strings.TrimSpace(string(run)))
	}
}

// living returns the processes that hold a lock of this world, the keeper's included, or carry the mark of one of its
// parts.
func (w *world) living() []int {
	var all []int
	_ = filepath.WalkDir(w.home, func(path string, e os.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, ".lock") {
			pids, err := proc.LockHolders(path)
			require.NoError(w.t, err)
			all = append(all, pids...)
		}
		return nil
	})
	blocks, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, file := range blocks {
		pid, _ := strconv.Atoi(strings.Split(file, "/")[2])
		if block, _ := os.ReadFile(file); bytes.Contains(block, []byte(members.Mark+"="+w.home+"/")) && alive(pid) {
			all = append(all, pid)
		}
	}
	return all
}

// membersOf returns the processes of a task.
func (w *world) membersOf(task string) []proc.Identity {
	w.t.Helper()
	all, err := members.Of(w.stackPath("tasks", task+".lock"))
	require.NoError(w.t, err)
	return all
}

func (w *world) showLogs() {
	for _, pattern := range []string{"keeper.log", "stacks/*/logs/*.log"} {
		files, _ := filepath.Glob(filepath.Join(w.home, pattern))
		for _, f := range files {
			text, _ := os.ReadFile(f)
			w.t.Logf("%s:\n%s", f, text[max(0, len(text)-4000):])
		}
	}
}

// get asks for a page by its address, as a browser would: the name leads to loopback.
func get(t *testing.T, method, url string, body io.Reader, edit ...func(*http.Request)) (int, string, http.Header) {
	t.Helper()
	req, err := http.NewRequest(method, url, body)
	require.NoError(t, err)
	for _, e := range edit {
		e(req)
	}
	client := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{
		DisableKeepAlives: true,
		DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
			_, port, _ := net.SplitHostPort(addr)
			return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+port)
		},
	}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := client.Do(req)
	require.NoError(t, err, "%s %s", method, url)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err, "%s %s", method, url)
	return resp.StatusCode, string(text), resp.Header
}

func copyFile(t *testing.T, from, to string) {
	t.Helper()
	text, err := os.ReadFile(from)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
	require.NoError(t, os.WriteFile(to, text, 0o644))
}

func kill(t *testing.T, pid int) {
	t.Helper()
	require.Positive(t, pid)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
}

// children returns the processes whose parent is pid.
func children(t *testing.T, pid int) []int {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	require.NoError(t, err)
	var all []int
	for _, f := range strings.Fields(string(text)) {
		n, err := strconv.Atoi(f)
		require.NoError(t, err)
		all = append(all, n)
	}
	return all
}

func alive(pid int) bool {
	_, err := proc.Identify(pid)
	return err == nil
}

// keeperPID returns the keeper's process, or 0 if none runs.
func (w *world) keeperPID() int {
	pids, err := proc.LockHolders(filepath.Join(w.home, home.KeeperLock))
	require.NoError(w.t, err)
	if len(pids) == 0 {
		return 0
	}
	return pids[0]
}

// builtin is a stack of parts that every machine has.
const builtin = `name = "night-boat"
[part.seats]
kind = "dravit-cache"
[part.mail]
kind = "dravit-mail"
[part.store]
kind = "sqlite"
[[site]]
name = "night"
expect = { text = "Night boat" }
`

func (w *world) builtin() {
	w.write("dravit.toml", builtin)
	w.write("public/index.html", "<h1>Night boat</h1>")
}

// real is a stack of the real servers.
const real = `name = "day-boat"
[part.web]
kind = "nginx"
[part.app]
kind = "php"
extensions = ["mysqli", "redis"]
[part.db]
kind = "mariadb"
database = "boats"
[part.seats]
kind = "redis"
[[site]]
name = "day"
root = "public"
app = "app"
expect = { text = "Day boat" }
`

func (w *world) real() {
	w.write("dravit.toml", real)
	w.write("public/index.php", "<h1>Day boat</h1><?php echo getmypid();")
}

// stackPath is a file of the stack's in Dravit's folder.
func (w *world) stackPath(parts ...string) string {
	w.t.Helper()
	dirs, err := filepath.Glob(filepath.Join(w.home, "stacks", "*", "spec.json"))
	require.NoError(w.t, err)
	dirs = slices.DeleteFunc(dirs, func(d string) bool { return strings.Contains(d, "/gateway/") })
	require.Len(w.t, dirs, 1)
	return filepath.Join(append([]string{filepath.Dir(dirs[0])}, parts...)...)
}
