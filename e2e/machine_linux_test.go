package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bare runs Dravit where the machine has none of the demo's servers. Only root can.
func (w *world) bare(args ...string) result {
	w.t.Helper()
	uid, gid := ids(w.t)
	hide := "for p in /usr/sbin/nginx /usr/sbin/php-fpm* /usr/sbin/mariadbd /usr/bin/redis-server; do mount --bind " +
		"/dev/null \"$(readlink -f \"$p\")\" || exit 9; done; " +
		fmt.Sprintf("exec setpriv --reuid %d --regid %d --clear-groups \"$@\"", uid, gid)
	cmd := w.command(w.t.Context(), args...)
	cmd.Path = "/usr/bin/unshare"
	cmd.Args = append([]string{"unshare", "--mount", "--", "sh", "-c", hide, "sh", program}, args...)
	cmd.SysProcAttr = nil
	return finish(w.t, cmd)
}

// A machine without servers gets a whole stack of built-in parts.
func TestBareMachine(t *testing.T) {
	if !asRoot {
		t.Skip("only root can hide programs")
	}
	w := newWorld(t)
	dir := filepath.Join(w.dir, "demo")
	r := w.bare("demo", dir)
	require.Equal(t, 0, r.code, r.all())
	w.dir = dir
	var kinds []string
	for _, p := range w.status().Parts {
		kinds = append(kinds, p.Kind)
	}
	assert.ElementsMatch(t, []string{"custom", "custom", "sqlite", "dravit-mail", "dravit-cache", "dravit-web"}, kinds)
	_, page, _ := get(t, "GET", w.status().Sites[0].URL, nil)
	assert.Contains(t, page, "Served by Dravit itself from SQLite")
	assert.Equal(t, 0, w.bare("check").code)
	var plan struct {
		Decisions []struct {
			Subject  string
			Rejected []struct{ Option, Because string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(w.bare("plan", "--json").stdout), &plan))
	rejected := map[string]string{}
	for _, d := range plan.Decisions {
		for _, r := range d.Rejected {
			rejected[r.Option] = r.Because
		}
	}
	assert.Equal(t, "this machine has none", rejected["nginx"])
	assert.Equal(t, "this machine has none", rejected["php"])
	require.Equal(t, 0, w.bare("stop").code)
	// Back on the machine with servers, parts with data stay as they are; the others use the real servers.
	w.must("start")
	assert.Equal(t, "sqlite", w.status().part(t, "db").Kind)
	assert.Equal(t, "nginx", w.status().part(t, "web").Kind)
	assert.Equal(t, "php", w.status().part(t, "app").Kind)
	w.dir = filepath.Dir(dir)
}

// A full disk is named as the cause.
func TestFullDisk(t *testing.T) {
	if !asRoot {
		t.Skip("only root can make a small disk")
	}
	w := newWorld(t)
	w.real()
	small := filepath.Join(filepath.Dir(w.home), "small")
	require.NoError(t, os.Mkdir(small, 0o755))
	require.NoError(t, syscall.Mount("tmpfs", small, "tmpfs", 0, "size=48m,mode=777"))
	t.Cleanup(func() { // a process that ends gives its lock back before its folder
		w.eventually("nobody uses the small disk", func() bool { return syscall.Unmount(small, 0) == nil })
	})
	home := w.home
	w.home = filepath.Join(small, "home")
	w.must("version")
	// space for the program's copy, but not for a database
	require.NoError(t, os.WriteFile(filepath.Join(small, "ballast"), make([]byte, 22<<20), 0o644))
	r := w.dravit("start")
	assert.Equal(t, 1, r.code, r.all())
	assert.Contains(t, r.stderr, "no space left", r.all())
	require.NoError(t, os.Remove(filepath.Join(small, "ballast")))
	require.NoError(t, syscall.Mount("", small, "tmpfs", syscall.MS_REMOUNT, "size=400m"))
	w.must("start") // with room, the same command goes through: nothing half made is in the way
	w.must("stop")
	w.stopAll()
	w.home = home
}

// If the user may open low ports, addresses need no port. The test has its own network, as it changes a setting of the
// machine.
func TestLowPorts(t *testing.T) {
	if !asRoot {
		t.Skip("only root can make a network")
	}
	w := newWorld(t)
	w.builtin()
	w.settings("")
	uid, gid := ids(t)
	script := "ip link set lo up && echo 80 > /proc/sys/net/ipv4/ip_unprivileged_port_start && " +
		fmt.Sprintf("exec setpriv --reuid %d --regid %d --clear-groups ", uid, gid) +
		`sh -c '"$0" start && "$0" names && curl -sS http://night.localhost/ && curl -sS --cacert ` +
		`"$DRAVIT_HOME/authority/certificate.pem" -o /dev/null -w "%{http_version} %{http_code}\n" ` +
		`https://night.localhost/; "$0" check; "$0" stop' ` + program
	cmd := w.command(t.Context(), "start")
	cmd.Path, cmd.Args, cmd.SysProcAttr = "/usr/bin/unshare",
		[]string{"unshare", "--net", "--", "sh", "-c", script}, nil
	cmd.Env = append(cmd.Env, "PATH=/usr/sbin:/usr/bin:/sbin:/bin")
	r := finish(t, cmd)
	assert.Equal(t, 0, r.code, r.all())
	for _, want := range []string{"http://night.localhost/", "https://night.localhost/",
		"<h1>Night boat</h1>", "2 200\n", "6 of 6 answer"} {
		assert.Contains(t, r.stdout, want)
	}
	assert.NotContains(t, r.stdout, "addresses without a port")
	assert.Equal(t, 80, w.book().HTTPPort)
}

// A folder for Dravit in which nothing can be started is named, and so is what to do. A run folder that was opened to
// others is closed again.
func TestFoldersOfDravit(t *testing.T) {
	w := newWorld(t)
	w.builtin()
	w.must("start")
	run, err := os.ReadFile(filepath.Join(w.home, "run"))
	require.NoError(t, err)
	folder := strings.TrimSpace(string(run))
	require.NoError(t, os.Chmod(folder, 0o777))
	assert.Equal(t, "answers", w.status().State)
	info, err := os.Stat(folder)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	w.must("stop")

	if !asRoot {
		return // only root can mount
	}
	dir := filepath.Join(filepath.Dir(w.home), "still")
	require.NoError(t, os.Mkdir(dir, 0o777))
	require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", syscall.MS_NOEXEC, "mode=777"))
	defer func() { assert.NoError(t, syscall.Unmount(dir, syscall.MNT_DETACH)) }()
	cmd := w.command(t.Context(), "start")
	cmd.Env = append(cmd.Env, "DRAVIT_HOME="+filepath.Join(dir, "home"))
	r := finish(t, cmd)
	assert.Equal(t, 4, r.code, r.all())
	assert.Contains(t, flat(r.stderr), "is mounted noexec")
	assert.Contains(t, flat(r.stderr), "DRAVIT_HOME=/other/folder")
}
