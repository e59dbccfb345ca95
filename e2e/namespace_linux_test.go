package e2e

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// namespace is a machine within the machine: it has its own network, and system files that may be changed.
type namespace struct {
	w   *world
	pid int
}

// newNamespace makes a namespace with copies of the system's folders that tests change. It lasts as long as the test
// and the processes in it.
func newNamespace(w *world, setup string) *namespace {
	w.t.Helper()
	base := filepath.Join(filepath.Dir(w.home), "system")
	script := `set -e
mkdir -p "$0"
for dir in etc usr/local/share/ca-certificates; do
  mkdir -p "/$dir" "$0/$dir"
  cp -a "/$dir/." "$0/$dir"
  mount --bind "$0/$dir" "/$dir"
done
cat > /etc/nsswitch.conf <<END
hosts: files dns
END
ip link set lo up
for program in $(command -v sudo); do # the tests say what happens on a machine that has none
  mount --bind /dev/null "$(readlink -f "$program")"
done
` + setup + `
echo ready
exec sleep 600`
	cmd := exec.Command("unshare", "--net", "--mount", "--propagation", "private", "--", "sh", "-c", script, base)
	out, err := cmd.StdoutPipe()
	require.NoError(w.t, err)
	var errs strings.Builder
	cmd.Stderr = &errs
	require.NoError(w.t, cmd.Start())
	w.t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	buf := make([]byte, 64)
	n, _ := out.Read(buf)
	require.Equal(w.t, "ready\n", string(buf[:n]), errs.String())
	return &namespace{w, cmd.Process.Pid}
}

// enter makes a command run in the namespace, as root or as the tester.
func (n *namespace) enter(cmd *exec.Cmd, asRoot bool) *exec.Cmd {
	enter := []string{"nsenter", "--target", fmt.Sprint(n.pid), "--net", "--mount", "--"}
	if !asRoot {
		uid, gid := ids(n.w.t)
		enter = append(enter, "setpriv", "--reuid", fmt.Sprint(uid), "--regid", fmt.Sprint(gid), "--clear-groups", "--")
	}
	cmd.Args = append(append(enter, "sh", "-c", `cd "$0" && exec "$@"`, n.w.dir), cmd.Args...)
	cmd.Path = "/usr/bin/nsenter"
	cmd.SysProcAttr = nil
	return cmd
}

// dravit runs dravit there, as the tester.
func (n *namespace) dravit(t *testing.T, args ...string) result {
	t.Helper()
	cmd := n.w.command(t.Context(), args...)
	cmd.Args[0] = program
	return finish(t, n.enter(cmd, false))
}

// must runs dravit there, and fails the test if the exit code is not 0.
func (n *namespace) must(t *testing.T, args ...string) result {
	t.Helper()
	r := n.dravit(t, args...)
	require.Equal(t, 0, r.code, "dravit %s:\n%s", strings.Join(args, " "), r.all())
	return r
}

// sh runs a shell command there: as the tester, or as root.
func (n *namespace) sh(t *testing.T, asRoot bool, script string) result {
	t.Helper()
	cmd := n.w.command(context.Background())
	cmd.Args = []string{"sh", "-c", script}
	cmd.Env = append(cmd.Env, "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin")
	return finish(t, n.enter(cmd, asRoot))
}
