package registry

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/supply"
	"dravit/internal/supply/fetch"
	"dravit/internal/supply/packed"
)

// boat is a kind whose programs a package carries.
type boat struct {
	kind.Kind
	marked bool
}

func (b boat) Traits() *kind.Traits {
	return &kind.Traits{Name: "boat", Carrier: kind.Carrier{Package: "@quay/boat-{os}-{arch}", Program: "bin/boat",
		Links: "links.json", Marked: b.marked, With: []kind.Companion{{Package: "pilot", Into: "lib/pilot",
			Runs: map[string]string{"steer": "bin/steer.js"}}}}}
}

func (boat) Inspect(_ context.Context, path string, run func(string, ...string) (string, error)) (
	string, map[string]string, error) {
	out, err := run(path, "--version")
	return strings.TrimSpace(out), nil, err
}

var aBoat = kind.RecipeOf(boat{})

// quay is a supplier with a registry.
type quay struct {
	supply.Supplier
	from *Source
}

type item = packed.Entry

// pack returns a package with these entries.
func pack(t *testing.T, items ...item) []byte {
	t.Helper()
	text, err := packed.Tar(items...)
	require.NoError(t, err)
	return text
}

func whole(t *testing.T, version string) []byte {
	return pack(t, item{Name: "package/package.json", Text: "{}"},
		item{Name: "package/bin/boat", Text: "#!/bin/sh\necho " + version + "\n", Mode: 0o4755},
		item{Name: "package/lib/keel.so.1.2", Text: strings.Repeat("kelp", 100_000)},
		item{Name: "package/links.json", Text: `[{"source": "lib/keel.so.1.2", "target": "lib/keel.so.1"}]`})
}

// pilot is a package that runs on some boats, and pilots is the registry's document of it.
var pilot []byte

func pilots(address string) string {
	sum := sha512.Sum512(pilot)
	var versions []string
	for release, engines := range map[string]string{"1.0.0": `{"boat": ">=0.5"}`, "2.0.0": `{"boat": "^1.0.0 || >=3"}`,
		"3.0.0": `{"boat": ">=9"}`, "0.1.0": `["boat"]`, "2.1.0-pre": `{"boat": "*"}`} {
		const form = `%q: {"engines": %s, "dist": {"tarball": %q, "integrity": "sha512-%s"}}`
		versions = append(versions, fmt.Sprintf(form, release,
			engines, address+"/files/pilot", base64.StdEncoding.EncodeToString(sum[:])))
	}
	return `{"versions": {` + strings.Join(versions, ", ") + "}}"
}

// newQuay returns a supplier of a registry that serves packages by their releases. serve may answer requests for files
// in its own way.
func newQuay(t *testing.T, releases map[string][]byte,
	serve func(w http.ResponseWriter, r *http.Request) bool) quay {
	t.Helper()
	s := quay{from: &Source{}}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/pilot" {
			if pilot == nil {
				http.NotFound(w, r)
				return
			}
			_, _ = w.Write([]byte(pilots(s.from.Address)))
			return
		}
		if r.URL.Path == "/files/pilot" {
			_, _ = w.Write(pilot)
			return
		}
		if r.URL.EscapedPath() == "/@quay%2fboat-linux-x64" {
			versions := map[string]any{}
			for name, file := range releases {
				sum := sha512.Sum512(file)
				versions[name] = map[string]any{"dist": map[string]string{"tarball": s.from.Address + "/files/" + name,
					"integrity": "sha1-x sha512-" + base64.StdEncoding.EncodeToString(sum[:])}}
			}
			_ = json.NewEncoder(w).Encode(map[string]any{"versions": versions})
			return
		}
		if serve != nil && serve(w, r) {
			return
		}
		file, ok := releases[strings.TrimPrefix(r.URL.Path, "/files/")]
		if !ok {
			http.NotFound(w, r)
			return
		}
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(file))
	}))
	t.Cleanup(server.Close)
	servers[server.URL] = server
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	here := supply.Here{Home: h, OS: "linux", Arch: "amd64"}
	s.from.Here, s.from.Address = here, server.URL
	s.Supplier = supply.Supplier{Here: here, Sources: []supply.Source{s.from}}
	return s
}

// servers are the registries that run, by address.
var servers = map[string]*httptest.Server{}

// closed ends the supplier's registry, and returns the address that it had.
func (s quay) closed(t *testing.T) string {
	t.Helper()
	servers[s.from.Address].Close()
	return s.from.Address
}

func anyVersion(string) bool { return true }

func (s quay) get(t *testing.T, allowed func(string) bool) (supply.Tree, error) {
	t.Helper()
	o, err := s.Find(t.Context(), aBoat, supply.Wish{Allowed: allowed})
	require.NoError(t, err)
	return s.Get(t.Context(), o, aBoat, func(int64) {})
}

func TestCompanions(t *testing.T) {
	pilot = pack(t, item{Name: "package/bin/steer.js", Text: "steer"})
	t.Cleanup(func() { pilot = nil })
	s := newQuay(t, map[string][]byte{"1.10.0": whole(t, "1.10.0")}, nil)
	o, err := s.Find(t.Context(), aBoat, supply.Wish{Allowed: anyVersion})
	require.NoError(t, err)
	require.Len(t, o.With, 1)
	assert.Equal(t, "2.0.0", o.With["pilot"].Version, "the newest that runs on it")
	tree, err := s.get(t, anyVersion)
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(tree.Dir, "files/lib/pilot/bin/steer.js"))
	said, err := exec.Command(filepath.Join(filepath.Dir(tree.Program), "steer"), "north").Output()
	require.NoError(t, err)
	assert.Equal(t, "1.10.0\n", string(said), "the boat runs it")
	wrong, err := tree.Verify()
	require.NoError(t, err)
	assert.Empty(t, wrong)
}

// A lock names what is beside a program, too.
func TestLockedCompanions(t *testing.T) {
	pilot = pack(t, item{Name: "package/bin/steer.js", Text: "steer"})
	t.Cleanup(func() { pilot = nil })
	s := newQuay(t, map[string][]byte{"1.10.0": whole(t, "1.10.0")}, nil)
	newest, err := s.get(t, anyVersion)
	require.NoError(t, err)
	lock := newest.Locked("linux/amd64")
	assert.Equal(t, "2.0.0", lock.With["pilot"].Version)
	assert.True(t, lock.Is(newest))

	lock.With = map[string]supply.Pin{"pilot": {Version: "1.0.0", Integrity: lock.With["pilot"].Integrity}}
	assert.False(t, lock.Is(newest))
	older, err := s.Find(t.Context(), aBoat, supply.Wish{Exact: &lock})
	require.NoError(t, err)
	assert.Equal(t, "1.0.0", older.With["pilot"].Version, "the one of the lock, not the newest")
	tree, err := s.Get(t.Context(), older, aBoat, func(int64) {})
	require.NoError(t, err)
	assert.True(t, lock.Is(tree))
	assert.NotEqual(t, newest.Dir, tree.Dir)
	for _, pin := range []supply.Pin{{Version: "1.0.0", Integrity: "sha512-x"},
		{Version: "7.0.0", Integrity: lock.With["pilot"].Integrity}} {
		lock.With["pilot"] = pin
		_, err = s.Find(t.Context(), aBoat, supply.Wish{Exact: &lock})
		assert.ErrorContains(t, err, "it has no pilot "+pin.Version)
	}
}

// What a registry said is known without asking it again.
func TestKnownReleases(t *testing.T) {
	s := newQuay(t, map[string][]byte{"1.2.0": whole(t, "1.2.0"), "1.10.0": whole(t, "1.10.0"),
		"0.9.0": whole(t, "0.9.0")}, nil)
	s.from.Known = true
	_, err := s.Find(t.Context(), aBoat, supply.Wish{Allowed: anyVersion})
	assert.Error(t, err, "it was never asked")
	s.from.Known = false
	asked, err := s.Find(t.Context(), aBoat, supply.Wish{Allowed: anyVersion})
	require.NoError(t, err)
	s.from.Known = true
	s.closed(t)
	known, err := s.Find(t.Context(), aBoat, supply.Wish{Allowed: anyVersion})
	require.NoError(t, err)
	assert.Equal(t, asked, known)
	assert.Positive(t, known.Bytes)
	older, err := s.Find(t.Context(), aBoat, supply.Wish{Allowed: func(v string) bool { return v != "1.10.0" }})
	require.NoError(t, err)
	assert.Equal(t, "1.2.0", older.Version)
	assert.Zero(t, older.Bytes, "nobody asked how large that is")
	var all []string
	for _, o := range s.Available(t.Context(), []kind.Recipe{aBoat}) {
		all = append(all, o.Version)
	}
	assert.Equal(t, []string{"1.10.0", "0.9.0"}, all, "the newest of each series")

	require.NoError(t, s.Forget())
	assert.NotEmpty(t, s.Available(t.Context(), []kind.Recipe{aBoat}), "its registry is still named")
	s.from.Address = "https://other.quay.example"
	require.NoError(t, s.Forget())
	left, err := os.ReadDir(s.Path("sources"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// A folder has packages of a registry, too. Nobody has signed them, so they are taken only if the user says so.
func TestExportedReleases(t *testing.T) {
	pilot = pack(t, item{Name: "package/bin/steer.js", Text: "steer"})
	t.Cleanup(func() { pilot = nil })
	s := newQuay(t, map[string][]byte{"1.2.0": whole(t, "1.2.0"), "1.10.0": whole(t, "1.10.0"),
		"2.0.0": whole(t, "2.0.0")}, nil)
	var trees []supply.Tree
	for _, version := range []string{"1.2.0", "1.10.0"} {
		tree, err := s.get(t, func(v string) bool { return v == version })
		require.NoError(t, err)
		trees = append(trees, tree)
	}
	dir := t.TempDir()
	out, err := s.Export(t.Context(), trees, dir, func(int64) {})
	require.NoError(t, err)
	assert.Positive(t, out.Bytes)
	address := s.closed(t)

	withheld, err := s.From(dir, false)
	require.NoError(t, err)
	_, err = withheld.Find(t.Context(), aBoat, supply.Wish{Allowed: anyVersion})
	assert.ErrorContains(t, err, "nobody has signed it")
	require.NoError(t, supply.Discard(t.Context(), s.Home, trees...))
	s.Supplier, err = s.From(dir, true)
	require.NoError(t, err)
	tree, err := s.get(t, anyVersion)
	require.NoError(t, err)
	assert.Equal(t, "1.10.0", tree.Version, "the newest that was exported")
	assert.Equal(t, trees[1].With, tree.With)
	assert.FileExists(t, filepath.Join(filepath.Dir(tree.Program), "steer"))

	files, err := filepath.Glob(filepath.Join(dir, "registry", "files", "*"))
	require.NoError(t, err)
	require.Len(t, files, 3)
	for _, file := range files {
		require.NoError(t, os.WriteFile(file, []byte("drift"), 0o644))
	}
	_, err = s.get(t, func(v string) bool { return v == "1.2.0" })
	assert.ErrorIs(t, err, fetch.ErrDamaged)
	document := filepath.Join(dir, "registry", "@quay", "boat-linux-x64")
	text, err := os.ReadFile(document)
	require.NoError(t, err)
	text = bytes.ReplaceAll(text, []byte("files/"), []byte(address+"/files/"))
	require.NoError(t, os.WriteFile(document, text, 0o644))
	o, err := s.Find(t.Context(), aBoat, supply.Wish{Allowed: func(v string) bool { return v == "1.2.0" }})
	assert.ErrorContains(t, err, "it is not in the folder", o)
}

func TestSupply(t *testing.T) {
	s := newQuay(t, map[string][]byte{"1.2.0": whole(t, "1.2.0"), "1.10.0": whole(t, "1.10.0"),
		"2.0.0-rc.1": whole(t, "2.0.0")}, nil)
	o, err := s.Find(t.Context(), aBoat, supply.Wish{Allowed: anyVersion})
	require.NoError(t, err)
	assert.Equal(t, "1.10.0", o.Version, "the newest, and no preview")
	assert.Positive(t, o.Bytes)
	marked, err := s.Find(t.Context(), kind.RecipeOf(boat{marked: true}), supply.Wish{Allowed: anyVersion})
	require.NoError(t, err)
	assert.Equal(t, "2.0.0", marked.Version, "unless every release is marked so")
	_, err = s.Find(t.Context(), aBoat, supply.Wish{Allowed: func(string) bool { return false }})
	assert.ErrorContains(t, err, "no release of boat fits")
	s.from.OS = "plan9"
	_, err = s.Find(t.Context(), aBoat, supply.Wish{Allowed: anyVersion})
	assert.ErrorIs(t, err, supply.ErrNotCarried)
	s.from.OS = "linux"

	tree, err := s.get(t, anyVersion)
	require.NoError(t, err)
	assert.Equal(t, "1.10.0", tree.Version)
	info, err := os.Stat(tree.Program)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o755), info.Mode(), "no set-user bit")
	linked, err := os.ReadFile(filepath.Join(tree.Dir, "files/lib/keel.so.1"))
	require.NoError(t, err)
	assert.Len(t, linked, 400_000)
	older, err := s.get(t, func(v string) bool { return v == "1.2.0" })
	require.NoError(t, err)
	all, err := supply.Trees(s.Home)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "1.10.0", all[0].Version)
	left, err := os.ReadDir(s.Path("cache"))
	require.NoError(t, err)
	assert.Empty(t, left)

	wrong, err := older.Verify()
	require.NoError(t, err)
	assert.Empty(t, wrong)
	files := filepath.Join(older.Dir, "files")
	require.NoError(t, os.WriteFile(filepath.Join(files, "lib", "keel.so.1.2"), []byte("rust"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(files, "package.json")))
	require.NoError(t, os.WriteFile(filepath.Join(files, "new"), nil, 0o644))
	wrong, err = older.Verify()
	require.NoError(t, err)
	assert.Equal(t, []string{"lib/keel.so.1.2", "new", "package.json"}, wrong)
	require.NoError(t, supply.Discard(t.Context(), s.Home, older))
	all, err = supply.Trees(s.Home)
	require.NoError(t, err)
	assert.Len(t, all, 1)
}

// Whatever a package holds, it writes nothing outside its tree, and a failed supply leaves nothing.
func TestHostilePackages(t *testing.T) {
	program := item{Name: "package/bin/boat", Text: "#!/bin/sh\necho 1\n", Mode: 0o755}
	for _, c := range []struct {
		name  string
		items []item
		words string
	}{
		{"climbs out", []item{program, {Name: "package/../../climb", Text: "x"}}, "leaves the package"},
		{"absolute", []item{program, {Name: "package//etc/climb", Text: "x"}}, "leaves the package"},
		{"a link", []item{program, {Name: "package/out", Kind: tar.TypeSymlink, Link: "/tmp"}}, "neither a file"},
		{"a hard link", []item{program, {Name: "package/x", Kind: tar.TypeLink, Link: "package/bin/boat"}}, "neither"},
		{"a device", []item{program, {Name: "package/null", Kind: tar.TypeChar}}, "neither a file"},
		{"twice", []item{program, program}, "file exists"},
		{"links out", []item{program, {Name: "package/links.json",
			Text: `[{"source": "../../x", "target": "lib/x"}]`}}, "leaves the package"},
		{"no program", []item{{Name: "package/readme", Text: "x"}}, "does not run on this machine"},
		{"another machine's", []item{{Name: "package/bin/boat", Text: "\x7fELF", Mode: 0o755}}, "does not run"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newQuay(t, map[string][]byte{"1.0.0": pack(t, c.items...)}, nil)
			_, err := s.get(t, anyVersion)
			assert.ErrorContains(t, err, c.words)
			left, err := os.ReadDir(s.Path("trees"))
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

// A registry that breaks off, stalls or lies: a download goes on where it broke off, and what differs is not unpacked.
func TestBadRegistries(t *testing.T) {
	file := whole(t, "1.0.0")
	asked := 0
	s := newQuay(t, map[string][]byte{"1.0.0": file}, func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodGet {
			return false
		}
		if asked++; asked > 1 {
			assert.Equal(t, fmt.Sprintf("bytes=%d-", len(file)/2), r.Header.Get("Range"))
			return false
		}
		w.Header().Set("Content-Length", fmt.Sprint(len(file)))
		_, _ = w.Write(file[:len(file)/2])
		return true // less than it promised
	})
	_, err := s.get(t, anyVersion)
	require.NoError(t, err)
	assert.Equal(t, 2, asked)

	s = newQuay(t, map[string][]byte{"1.0.0": file}, func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodGet {
			return false
		}
		bad := bytes.Clone(file)
		bad[len(bad)/2] ^= 1
		_, _ = w.Write(bad)
		return true
	})
	_, err = s.get(t, anyVersion)
	assert.ErrorIs(t, err, fetch.ErrDamaged)
	left, err := os.ReadDir(s.Path("cache"))
	require.NoError(t, err)
	assert.Empty(t, left, "and it is not kept")

	s = newQuay(t, map[string][]byte{"1.0.0": file}, func(w http.ResponseWriter, r *http.Request) bool {
		http.Redirect(w, r, "http://registry.quay.example/boat.tgz", http.StatusFound)
		return true
	})
	_, err = s.Find(t.Context(), aBoat, supply.Wish{Allowed: anyVersion})
	assert.ErrorContains(t, err, "neither https nor on this machine")

	s = newQuay(t, map[string][]byte{"1.0.0": file}, nil)
	o, err := s.Find(t.Context(), aBoat, supply.Wish{Allowed: anyVersion})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	_, err = s.Get(ctx, o, aBoat, func(int64) { cancel() })
	assert.ErrorIs(t, err, context.Canceled, "Ctrl-C")
}

// A registry that wants a log-in gets the one of the user's own .npmrc, and no other host does.
func TestLogIn(t *testing.T) {
	file, dir := whole(t, "1.0.0"), t.TempDir()
	var other []string
	mirror := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		other = append(other, r.Header.Get("Authorization"))
		_, _ = w.Write(file)
	}))
	t.Cleanup(mirror.Close)
	elsewhere := strings.Replace(mirror.URL, "127.0.0.1", "localhost", 1)
	asked := false
	s := newQuay(t, map[string][]byte{"1.0.0": file}, func(w http.ResponseWriter, r *http.Request) bool {
		asked = true
		if r.Header.Get("Authorization") != "Bearer kelp-7" {
			w.WriteHeader(http.StatusUnauthorized)
			return true
		}
		http.Redirect(w, r, elsewhere+"/boat.tgz", http.StatusFound)
		return true
	})
	getenv := func(name string) string { return map[string]string{"TOKEN": "kelp-7"}[name] }
	s.from.LogIn = Credentials(dir, getenv)
	_, err := s.get(t, anyVersion)
	assert.ErrorContains(t, err, "refuses to answer")
	at := strings.TrimPrefix(s.from.Address, "http:")
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".npmrc"), []byte("# the office\n"+at+"/:_authToken=${TOKEN}\n"+
		"//office.quay.example/npm/:username=ada\n//office.quay.example/npm/:_password=dGlkZQ==\n"+
		"//office.quay.example/npm/old/:_auth=eDp5\n"), 0o600))
	s.from.LogIn = Credentials(dir, getenv)
	_, err = s.get(t, anyVersion)
	require.NoError(t, err)
	assert.True(t, asked)
	require.NotEmpty(t, other)
	assert.Empty(t, strings.Join(other, ""), "another host gets no log-in")
	for address, want := range map[string]string{
		"https://office.quay.example/npm":         "Basic YWRhOnRpZGU=",
		"https://office.quay.example/npm/old/x":   "Basic eDp5",
		"https://office.quay.example/npmx":        "",
		"https://office.quay.example.net/npm/old": "",
	} {
		assert.Equal(t, want, s.from.LogIn(address), address)
	}
}

func TestAddressOf(t *testing.T) {
	dir := t.TempDir()
	none := func(string) string { return "" }
	t.Setenv("PATH", dir)
	s := newQuay(t, nil, nil)
	_, err := AddressOf(t.Context(), s.from.Here, dir, none)
	assert.ErrorIs(t, err, ErrNoSource)
	script := "#!/bin/sh\n[ \"$*\" = 'config get registry' ] && echo https://npm.quay.example/\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "npm"), []byte(script), 0o755))
	for want, npmrc := range map[string]string{
		"https://npm.quay.example/":   "",
		"https://office.quay.example": "# registry=x\n registry = \"https://office.quay.example\"\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".npmrc"), []byte(npmrc), 0o600))
		got, err := AddressOf(t.Context(), s.from.Here, dir, none)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	require.NoError(t, os.Remove(filepath.Join(dir, ".npmrc")))
	require.NoError(t, os.Remove(filepath.Join(dir, "npm")))
	s.from.Known = true
	got, err := AddressOf(t.Context(), s.from.Here, dir, none)
	require.NoError(t, err)
	assert.Equal(t, "https://npm.quay.example/", got, "what npm said the last time")
	got, err = AddressOf(t.Context(), s.from.Here, dir, func(name string) string {
		return map[string]string{"npm_config_registry": "https://env.quay.example"}[name]
	})
	require.NoError(t, err)
	assert.Equal(t, "https://env.quay.example", got)
	for address, fine := range map[string]bool{"https://x.example": true, "http://127.0.0.1:1": true,
		"http://localhost": true, "http://x.example": false, "file:///x": false, "https://": false} {
		assert.Equal(t, fine, fetch.CheckAddress(address) == nil, address)
	}
}
