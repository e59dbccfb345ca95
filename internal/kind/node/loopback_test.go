package node

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// Servers of a part that name no address, or all, listen on loopback; a named one, a socket and the other arguments
// stay.
func TestServersListenOnLoopback(t *testing.T) {
	p := kind.Part{Conf: filepath.Join(t.TempDir(), `a "b" \c`), Port: 1, Env: append(os.Environ(),
		"NODE_OPTIONS=--no-warnings"), Want: stackfile.PartConfig{Command: "exec node servers.js"}}
	require.NoError(t, os.Mkdir(p.Conf, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(p.Conf, loopback), []byte(loopbackText), 0o600))
	p.Project = t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(p.Project, "servers.js"), []byte(`
const http = require("http"), net = require("net")
const made = []
const at = (how) => new Promise((done) => {
  const s = http.createServer()
  how(s, () => { const a = s.address(); done(typeof a === "string" ? "socket" : a.address); s.close() })
})
;(async () => {
  for (const how of [
    (s, then) => s.listen(0, then), (s, then) => s.listen("0", then), (s, then) => s.listen(0, "0.0.0.0", then),
    (s, then) => s.listen(0, "::", 5, then), (s, then) => s.listen(0, 5, then), (s, then) => s.listen({port: 0}, then),
    (s, then) => s.listen({port: 0, host: "::"}, then), (s, then) => s.listen(0, undefined, then),
    (s, then) => s.listen(0, "127.0.0.2", then), (s, then) => s.listen("./x.sock", then),
    (s, then) => s.listen({path: "./y.sock"}, then),
  ]) made.push(await at(how))
  console.log(made.join(" "))
})()`), 0o600))
	run := func() string {
		c := node{}.Command(p)
		cmd := exec.Command(c.Path, c.Args...)
		cmd.Dir, cmd.Env = c.Dir, c.Env
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.TrimSpace(string(out))
	}
	assert.Equal(t, strings.Repeat("127.0.0.1 ", 8)+"127.0.0.2 socket socket", run())
	p.Network = true
	assert.NotContains(t, run(), "127.0.0.1", "the user agreed")
}
