package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// These tests stand for other systems, and for other builds of the same servers; each says for which.

// altered copies a program into a folder of the world, with some texts in it replaced by others of the same length.
func (w *world) altered(from, name string, replace ...string) string {
	w.t.Helper()
	text, err := os.ReadFile(from)
	require.NoError(w.t, err)
	for i := 0; i < len(replace); i += 2 {
		require.True(w.t, bytes.Contains(text, []byte(replace[i])), "%s is not in %s", replace[i], from)
		require.Len(w.t, replace[i+1], len(replace[i]))
		text = bytes.ReplaceAll(text, []byte(replace[i]), []byte(replace[i+1]))
	}
	dir := filepath.Join(filepath.Dir(w.home), "programs")
	require.NoError(w.t, os.MkdirAll(dir, 0o755))
	file := filepath.Join(dir, name)
	require.NoError(w.t, os.WriteFile(file, text, 0o755))
	require.NoError(w.t, os.Chmod(file, 0o755))
	return file
}

// onlyPrograms lets the world know the programs in a folder, which go before the system's of the same version.
func (w *world) onlyPrograms(dir string) {
	w.settings(fmt.Sprintf("http = 8080\nhttps = 8443\nprograms = [%q]\n", dir))
}

// An FPM that was built without systemd refuses a word about it: Alpine's, Homebrew's, those that people compile.
func TestFPMWithoutSystemd(t *testing.T) {
	w := newWorld(t)
	fpm := w.altered("/usr/sbin/php-fpm8.2", "php-fpm", "systemd_interval", "systemd_forgone_")
	w.write("refused.conf", "[global]\nerror_log = /dev/null\nsystemd_interval = 0\n[www]\nlisten = 127.0.0.1:1\n"+
		"pm = static\npm.max_children = 1\n")
	out, err := exec.Command(fpm, "-n", "-t", "-y", filepath.Join(w.dir, "refused.conf")).CombinedOutput()
	require.Error(t, err, "this build must refuse the word, as those do")
	require.Contains(t, string(out), "systemd_interval")
	w.onlyPrograms(filepath.Dir(fpm))
	w.write("dravit.toml", "name = \"alp\"\n[part.app]\nkind = \"php\"\n[[site]]\nname = \"alp\"\nroot = \"public\"\n"+
		"app = \"app\"\nexpect = { text = \"aboard\" }\n")
	w.write("public/index.php", "<?php echo 'all ', 'aboard';")
	assert.Equal(t, fpm, planned(t, w.plan(), "app").Program)
	w.must("start")
	assert.Contains(t, w.must("run", "--", "php", "-r", "echo 6*7;").stdout, "42")
}

// Debian 11's nginx knows no -e, and its initdb no --no-instructions.
func TestOlderReleases(t *testing.T) {
	w := newWorld(t)
	dir := beside(t)
	w.settings(fmt.Sprintf("http = 8080\nhttps = 8443\nprograms = [%q, %q]\n", dir+"/nginx-1.18/bin",
		dir+"/postgres-13/tree/usr/lib/postgresql/13/bin"))
	w.write("dravit.toml", `name = "ages"
[part.web]
kind = "nginx"
version = "1.18"
[part.db]
kind = "postgres"
version = "13"
[[site]]
name = "ages"
root = "public"
expect = { text = "Cargo" }
`)
	w.write("public/index.html", "<h1>Cargo $5</h1>")
	w.must("start")
	w.must("check", "--deep")
	assert.True(t, strings.HasPrefix(w.status().part(t, "web").Version, "1.18."))
	assert.True(t, strings.HasPrefix(w.status().part(t, "db").Version, "13."))
	log, err := os.ReadFile(w.stackPath("logs", "web.log"))
	require.NoError(t, err)
	assert.NotContains(t, string(log), "[emerg]")
}

// Where the system removes what a user shares in memory with the last log-out (systemd's default), the server lives on.
func TestPostgresOutlivesALogOut(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"night\"\n[part.db]\nkind = \"postgres\"\n")
	w.must("start")
	query := func(sql string) string {
		return w.must("run", "--", "psql", "-Atc", sql).stdout
	}
	query("CREATE TABLE boats AS SELECT n FROM generate_series(1, 200000) n; ANALYZE boats")
	shared, _ := filepath.Glob("/dev/shm/PostgreSQL.*")
	for _, file := range shared {
		if info, err := os.Stat(file); err == nil && ownedByTester(t, info) {
			require.NoError(t, os.Remove(file))
		}
	}
	parallel := "SET force_parallel_mode = on; SET parallel_setup_cost = 0; SET min_parallel_table_scan_size = 0; "
	assert.Contains(t, query(parallel+"SELECT sum(n) FROM boats"), "20000100000")
	w.must("check", "--deep")
}

// A program with file capabilities keeps its descriptors from its own user: some systems let a web server open port 80
// so. Who has a Unix socket is asked of the socket; of a TCP port it cannot be told, and nobody says otherwise.
func TestProgramsWithCapabilities(t *testing.T) {
	if !asRoot {
		t.Skip("only root may give a file capabilities")
	}
	w := newWorld(t)
	out, err := exec.Command("redis-server", "--version").Output()
	require.NoError(t, err)
	version := regexp.MustCompile(`v=(\d+\.\d+\.)(\d+)`).FindStringSubmatch(string(out))
	require.NotNil(t, version)
	newer := version[1] + strings.Repeat("9", len(version[2])) // than the system's own, which PATH has first
	for _, file := range []string{
		w.altered("/usr/sbin/nginx", "nginx"),
		w.altered("/usr/bin/redis-server", "redis-server", version[1]+version[2], newer),
	} {
		out, err := exec.Command("setcap", "cap_net_bind_service=+ep", file).CombinedOutput()
		require.NoError(t, err, string(out))
		w.onlyPrograms(filepath.Dir(file))
	}
	w.write("dravit.toml", "name = \"caps\"\n[part.web]\nkind = \"nginx\"\n[part.seats]\nkind = \"redis\"\n"+
		"[[site]]\nname = \"caps\"\nroot = \"public\"\nexpect = { text = \"Buoy\" }\n")
	w.write("public/index.html", "<h1>Buoy</h1>")
	w.must("start")
	r := w.must("check")
	assert.Contains(t, flat(r.stdout), "ours: expected the socket of this part's process at 127.0.0.1:")
	assert.Contains(t, flat(r.stdout), "the system hides the sockets of a program with file capabilities")
	var check struct {
		Parts []struct {
			Name  string
			Rungs []struct {
				Rung     string
				Holds    *bool
				Advisory bool
			}
		}
	}
	w.json(&check, "check")
	for _, p := range check.Parts {
		for _, r := range p.Rungs {
			hidden := p.Name == "seats" && r.Rung == "ours"
			assert.Equal(t, hidden, r.Advisory, "%s %s", p.Name, r.Rung)
			assert.Equal(t, !hidden, *r.Holds, "%s %s", p.Name, r.Rung)
		}
	}
	pid := w.status().part(t, "web").PID
	_, err = os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
	require.NoError(t, err, "root sees it")
	require.NoError(t, exec.Command("kill", "-KILL", fmt.Sprint(pid)).Run())
	w.eventually("a killed master's workers end, and it comes back", func() bool {
		p := w.status().part(t, "web")
		return p.State == "answers" && p.PID != pid
	})
	w.must("check")
}

// A folder that is mounted twice is one project.
func TestOneFolderByTwoMounts(t *testing.T) {
	if !asRoot {
		t.Skip("only root may mount")
	}
	w := newWorld(t)
	w.write("dravit.toml", "name = \"twice\"\n[part.seats]\nkind = \"dravit-cache\"\n")
	w.must("start")
	other := w.dir + " again"
	require.NoError(t, os.Mkdir(other, 0o755))
	if out, err := exec.Command("mount", "--bind", w.dir, other).CombinedOutput(); err != nil {
		require.Fail(t, string(out))
	}
	t.Cleanup(func() { assert.NoError(t, exec.Command("umount", other).Run()) })
	pid := w.status().part(t, "seats").PID
	assert.Contains(t, w.must("start", "-C", other).stdout, "nothing to start")
	assert.Equal(t, pid, w.status().part(t, "seats").PID)
	assert.Len(t, w.book().Stacks, 1)
	w.must("stop", "-C", other)
	assert.Equal(t, "stopped", w.status().State)
}

func ownedByTester(t *testing.T, info os.FileInfo) bool {
	t.Helper()
	uid, _ := ids(t)
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(stat.Uid) == uid
}

// Where the file system shares blocks, a mark takes none of its own at first, and a rewind neither.
func TestMarksShareBlocks(t *testing.T) {
	if !asRoot {
		t.Skip("only root may mount")
	}
	w := newWorld(t)
	dir := onImage(t, w, "btrfs", 1<<30)
	w.home = filepath.Join(dir, "home")
	w.settings("http = 8080\nhttps = 8443\n")
	w.own(dir)
	w.database("mariadb")
	data := w.stackPath("data", "db")
	ballast := bytes.Repeat([]byte("kelp and tar "), 10<<20)
	require.NoError(t, os.WriteFile(filepath.Join(data, "ballast"), ballast, 0o600))
	w.own(data)
	free := func() uint64 {
		syscall.Sync()
		var st syscall.Statfs_t
		require.NoError(t, syscall.Statfs(dir, &st))
		return st.Bfree * uint64(st.Bsize)
	}
	before := free()
	for i := range 5 {
		w.must("db", "mark", fmt.Sprint("m", i))
	}
	w.must("db", "rewind", "m2")
	assert.Equal(t, "3", w.count())
	assert.Less(t, before-min(before, free()), uint64(60<<20), "five marks of 130 MB, and a copy that is used")
}

// A disk that fills during a mark, a rewind or a load leaves everything as it was.
func TestFullDiskDuringChanges(t *testing.T) {
	if !asRoot {
		t.Skip("only root may mount")
	}
	for _, kind := range sample(sqlKinds, 3) {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			dir := onImage(t, w, "ext4", 500<<20)
			w.home = filepath.Join(dir, "home")
			w.settings("http = 8080\nhttps = 8443\n")
			w.own(dir)
			w.database(kind)
			w.must("db", "mark", "three")
			w.write("big.sql", fleet(20000))
			filler := filepath.Join(dir, "filler")
			fill := func(left int64) { // bytes that stay free
				require.NoError(t, os.RemoveAll(filler))
				var st syscall.Statfs_t
				require.NoError(t, syscall.Statfs(dir, &st))
				require.NoError(t, os.WriteFile(filler, make([]byte, int64(st.Bavail)*int64(st.Bsize)-left), 0o644))
			}
			for _, args := range [][]string{{"load", "big.sql"}, {"mark", "late"}, {"rewind", "three"}} {
				fill(1 << 20)
				r := w.dravit(append([]string{"db"}, args...)...)
				if kind != "sqlite" || args[0] == "load" { // a small file has room
					assert.Equal(t, 1, r.code, "%v: %s", args, r.all())
				}
				fill(110 << 20) // for the servers themselves
				w.must("start")
				assert.Equal(t, "3", w.count(), args)
			}
			require.NoError(t, os.Remove(filler))
			w.must("db", "load", "big.sql")
			assert.Equal(t, "20000", w.count())
		})
	}
}
