package repository

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/debian"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/supply"
	"dravit/internal/supply/packed"
)

// barge is a kind that Debian-format packages carry: bargeN, with extensions in packages of their own.
type barge struct{ kind.Kind }

func (barge) Traits() *kind.Traits {
	return &kind.Traits{Name: "barge", Packages: kind.Packages{Servers: []string{`barge(\d+)`},
		Program: "usr/bin/barge{series}", With: []string{"barge{series}-crew"},
		Extension: func(name, series string) []string { return []string{"barge" + series + "-" + name} }}}
}

func (barge) Inspect(_ context.Context, path string, run func(string, ...string) (string, error)) (
	string, map[string]string, error) {
	out, err := run(path, "--version")
	return strings.TrimSpace(out), nil, err
}

var aBarge = kind.RecipeOf(barge{})

func anyVersion(string) bool { return true }

type item = packed.Entry

// pack returns a package with these entries.
func pack(t *testing.T, items ...item) []byte {
	t.Helper()
	text, err := packed.Tar(items...)
	require.NoError(t, err)
	return text
}

// harbour is a supplier with a repository.
type harbour struct {
	supply.Supplier
	from *Source
}

// repository serves files, by their paths.
type repository struct {
	files map[string][]byte
	key   *openpgp.Entity
	date  time.Time
	until time.Time
	serve func(w http.ResponseWriter, r *http.Request) bool
}

// deb packs a package's files.
func deb(t *testing.T, items ...item) []byte {
	t.Helper()
	var b bytes.Buffer
	b.WriteString("!<arch>\n")
	for _, member := range []struct{ name, text string }{{"debian-binary", "2.0\n"}, {"control.tar", "odd"},
		{"data.tar.gz", string(pack(t, items...))}} {
		fmt.Fprintf(&b, "%-16s%-12s%-6s%-6s%-8s%-10d`\n%s", member.name, "0", "0", "0", "100644", len(member.text),
			member.text)
		if len(member.text)%2 == 1 {
			b.WriteByte('\n')
		}
	}
	return b.Bytes()
}

// newRepository signs packages, each with the fields that stand before its file's.
func newRepository(t *testing.T, packages map[string][]byte) *repository {
	t.Helper()
	key, err := openpgp.NewEntity("harbour", "", "harbour@saltmarsh.example", nil)
	require.NoError(t, err)
	r := &repository{files: map[string][]byte{}, key: key, date: time.Now().Add(-time.Hour)}
	var list strings.Builder
	for fields, file := range packages {
		sum := sha256.Sum256(file)
		name := "pool/" + hex.EncodeToString(sum[:4]) + ".deb"
		fmt.Fprintf(
			&list,
			"%s\nArchitecture: amd64\nFilename: %s\nSize: %d\nSHA256: %x\n\n",
			fields,
			name,
			len(file),
			sum,
		)
		r.files[name] = file
	}
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	_, err = w.Write([]byte(list.String()))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	r.files["dists/marsh/main/binary-amd64/Packages.gz"] = z.Bytes()
	return r
}

// sign writes the signed list of files.
func (r *repository) sign(t *testing.T) {
	t.Helper()
	text := "Codename: marsh\nDate: " + r.date.UTC().Format(time.RFC1123) + "\nSHA256:\n"
	if !r.until.IsZero() {
		text = "Valid-Until: " + r.until.UTC().Format(time.RFC1123) + "\n" + text
	}
	for name, file := range r.files {
		if at, ok := strings.CutPrefix(name, "dists/marsh/main"); ok {
			text += fmt.Sprintf(" %x %d main%s\n", sha256.Sum256(file), len(file), at)
		}
	}
	var b bytes.Buffer
	w, err := clearsign.Encode(&b, r.key.PrivateKey, nil)
	require.NoError(t, err)
	_, err = w.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	r.files["dists/marsh/InRelease"] = b.Bytes()
}

func (r *repository) supplier(t *testing.T) harbour {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		file, ok := r.files[strings.TrimPrefix(path.Clean(q.URL.Path), "/")]
		if r.serve != nil && r.serve(w, q) {
			return
		}
		if !ok {
			http.NotFound(w, q)
			return
		}
		http.ServeContent(w, q, "", time.Time{}, bytes.NewReader(file))
	}))
	t.Cleanup(server.Close)
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	var keys bytes.Buffer
	require.NoError(t, r.key.Serialize(&keys))
	here := supply.Here{Home: h, OS: "linux", Arch: "amd64"}
	from := &Source{Here: here, Suites: []Suite{{Address: server.URL, Name: "marsh",
		Components: []string{"main", "contrib"}, Keys: [][]byte{keys.Bytes()}}}}
	return harbour{supply.Supplier{Here: here, Sources: []supply.Source{from}}, from}
}

func (s harbour) fetchBarge(t *testing.T, extensions ...string) (supply.Tree, error) {
	t.Helper()
	o, err := s.Find(
		t.Context(),
		aBarge,
		supply.Wish{Allowed: anyVersion, Extensions: extensions, Also: []string{"oars", "wings"}},
	)
	if err != nil {
		return supply.Tree{}, err
	}
	return s.Get(t.Context(), o, aBarge, func(int64) {})
}

func ordinary(t *testing.T) *repository {
	return newRepository(t, map[string][]byte{
		"Package: barge2\nVersion: 2.1-1\nDepends: hull, perl": deb(t,
			item{Name: "./usr/", Kind: tar.TypeDir}, item{Name: "./usr/share/doc/barge/readme", Text: "not needed"},
			item{Name: "./usr/bin/barge2", Text: "#!/bin/sh\necho 2.1\n", Mode: 0o4755}),
		"Package: barge3\nVersion: 3.0-1\nDepends: steam": deb(t, item{Name: "./usr/bin/barge3", Text: "#!/bin/sh\n"}),
		"Package: hull\nVersion: 1": deb(t, item{Name: "./lib/hull.so.1", Text: "hull"},
			item{Name: "./lib/hull.so", Kind: tar.TypeSymlink, Link: "/lib/hull.so.1"},
			item{Name: "./lib/same.so", Kind: tar.TypeLink, Link: "./lib/hull.so.1"}),
		"Package: barge2-oars\nVersion: 2.1-1": deb(t, item{Name: "./usr/lib/oars.so", Text: "oars"}),
		"Package: barge2-crew\nVersion: 2.1-1": deb(t, item{Name: "./usr/lib/crew", Text: "crew"}),
		"Package: barge2-sail\nVersion: 2.1-1": deb(t, item{Name: "./usr/lib/sail.so", Text: "sail"}),
	})
}

func TestPackages(t *testing.T) {
	r := ordinary(t)
	r.sign(t)
	s := r.supplier(t)
	o, err := s.Find(t.Context(), aBarge, supply.Wish{Allowed: anyVersion, Also: []string{"oars", "wings"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"oars"}, o.Extensions, "wings are nowhere, and only wished for")
	assert.Equal(t, "2.1", o.Version, "3.0 needs what is nowhere")
	assert.Positive(t, o.Bytes)
	first, err := s.fetchBarge(t)
	require.NoError(t, err)
	files := filepath.Join(first.Dir, "files")
	said, err := os.ReadFile(filepath.Join(files, "usr/lib/hull.so"))
	require.NoError(t, err, "/lib is below usr, and its link stays in the tree")
	assert.Equal(t, "hull", string(said))
	info, err := os.Stat(first.Program)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o555), info.Mode(), "no set-user bit")
	assert.NoFileExists(t, filepath.Join(files, "usr/share/doc/barge/readme"))
	assert.FileExists(t, filepath.Join(files, "usr/lib/crew"))

	second, err := s.fetchBarge(t, "sail")
	require.NoError(t, err)
	assert.NotEqual(t, first.Dir, second.Dir)
	shared, err := os.Stat(second.Program)
	require.NoError(t, err)
	assert.True(t, os.SameFile(info, shared), "trees share what they have in common")
	_, err = s.fetchBarge(t, "wings")
	assert.ErrorContains(t, err, "the suite marsh has no extension wings")

	wrong, err := second.Verify()
	require.NoError(t, err)
	assert.Empty(t, wrong)
	require.NoError(t, os.Remove(filepath.Join(second.Dir, "files/usr/lib/sail.so")))
	require.NoError(t, os.WriteFile(filepath.Join(second.Dir, "files/usr/lib/barnacle"), nil, 0o644))
	wrong, err = second.Verify()
	require.NoError(t, err)
	assert.Equal(t, []string{"usr/lib/barnacle", "usr/lib/sail.so"}, wrong)

	shelves := func() int {
		all, err := os.ReadDir(s.Path("packages"))
		require.NoError(t, err)
		return len(all)
	}
	assert.Equal(t, 5, shelves())
	require.NoError(t, supply.Discard(t.Context(), s.Home, second))
	assert.Equal(t, 4, shelves(), "only the sail has no tree any more")
	require.NoError(t, supply.Discard(t.Context(), s.Home, first))
	assert.Zero(t, shelves())
}

// Whatever a repository says that its key did not sign, or that is older than what was known, is not taken.
func TestPackagesDistrust(t *testing.T) {
	flip := func(name string) func(r *repository, s *harbour) {
		return func(r *repository, _ *harbour) {
			for path := range r.files {
				if strings.Contains(path, name) {
					r.files[path] = bytes.Clone(r.files[path])
					r.files[path][len(r.files[path])/2] ^= 1
				}
			}
		}
	}
	for _, c := range []struct {
		what, words string
		harm        func(r *repository, s *harbour)
	}{
		{"signature", "no trusted key has signed it", func(r *repository, _ *harbour) {
			const file = "dists/marsh/InRelease"
			r.files[file] = bytes.Replace(r.files[file], []byte("SHA256:"), []byte("SHA255:"), 1)
		}},
		{"index", "its digest is another one", flip("Packages")},
		{"package", "its digest is another one", flip(".deb")},
		{"another key", "no trusted key has signed it", func(_ *repository, s *harbour) {
			other, err := openpgp.NewEntity("pirate", "", "", nil)
			require.NoError(t, err)
			var b bytes.Buffer
			require.NoError(t, other.Serialize(&b))
			s.from.Suites[0].Keys = [][]byte{b.Bytes()}
		}},
		{"no key", "no trusted key has signed it", func(_ *repository, s *harbour) { s.from.Suites[0].Keys = nil }},
		{"unsigned", "for a folder only", func(_ *repository, s *harbour) { s.from.Suites[0].Unsigned = true }},
		{"rollback", "one of", func(r *repository, _ *harbour) { r.date = r.date.Add(-time.Hour); r.sign(t) }},
		{"expired", "has expired on", func(r *repository, _ *harbour) {
			r.until = time.Now().Add(-time.Minute)
			r.sign(t)
		}},
		{"redirect", "is not followed", func(r *repository, _ *harbour) {
			r.serve = func(w http.ResponseWriter, _ *http.Request) bool {
				w.Header().Set("Location", "file:///etc/passwd")
				w.WriteHeader(http.StatusFound)
				return true
			}
		}},
	} {
		t.Run(c.what, func(t *testing.T) {
			r := ordinary(t)
			r.sign(t)
			s := r.supplier(t)
			for _, x := range s.from.ask(t.Context()) { // as it was the last time
				require.NoError(t, x.failed)
			}
			if c.what == "index" {
				require.NoError(t, os.RemoveAll(s.Path("sources")))
			}
			c.harm(r, &s)
			_, err := s.fetchBarge(t)
			assert.ErrorContains(t, err, c.words)
			trees, err := supply.Trees(s.Home)
			require.NoError(t, err)
			assert.Empty(t, trees)
		})
	}
	r := ordinary(t)
	r.until = time.Now().Add(-time.Minute)
	r.sign(t)
	s := r.supplier(t)
	s.from.Suites[0].Expired = true
	_, err := s.fetchBarge(t)
	assert.NoError(t, err, "the settings say that it is fine")
}

// A lock is found again though the program calls itself otherwise than its package; another release is told apart.
func TestLockedPackages(t *testing.T) {
	packages := func(release string) map[string][]byte {
		return map[string][]byte{"Package: barge2\nVersion: 2.1.7-" + release: deb(t, item{Name: "./usr/bin/barge2",
			Text: "#!/bin/sh\necho 2.1\n", Mode: 0o755}, item{Name: "./usr/share/barge/release", Text: release}),
			"Package: barge4\nVersion: 4.0-1": deb(t, item{Name: "./usr/bin/barge4", Text: "#!/bin/sh\necho 4\n",
				Mode: 0o755})}
	}
	r := newRepository(t, packages("1"))
	r.sign(t)
	s := r.supplier(t)
	o, err := s.Find(t.Context(), aBarge, supply.Wish{Allowed: func(v string) bool { return v == "2.1.7" }})
	require.NoError(t, err)
	tree, err := s.Get(t.Context(), o, aBarge, func(int64) {})
	require.NoError(t, err)
	lock := tree.Locked("linux/amd64")
	assert.Equal(t, "2.1", lock.Version, "as the program says")
	again, err := s.Find(t.Context(), aBarge, supply.Wish{Exact: &lock})
	require.NoError(t, err)
	assert.True(t, again.Same(o))

	r = newRepository(t, packages("2"))
	r.sign(t)
	lock.Version = "2.1.7"
	_, err = r.supplier(t).Find(t.Context(), aBarge, supply.Wish{Exact: &lock})
	assert.ErrorContains(t, err, "barge2 is 2.1.7-2, locked is 2.1.7-1")
}

// What was exported into a folder before may be of an older list.
func TestExportAgain(t *testing.T) {
	r := ordinary(t)
	r.sign(t)
	s := r.supplier(t)
	dir := t.TempDir()
	for range 2 {
		tree, err := s.fetchBarge(t)
		require.NoError(t, err)
		_, err = s.Export(t.Context(), []supply.Tree{tree}, dir, func(int64) {})
		require.NoError(t, err)
		const list = "dists/marsh/main/binary-amd64/Packages.gz"
		before, err := gzip.NewReader(bytes.NewReader(r.files[list]))
		require.NoError(t, err)
		var now bytes.Buffer
		z := gzip.NewWriter(&now)
		z.Comment = "the list of a minute later"
		_, err = io.Copy(z, before)
		require.NoError(t, errors.Join(err, z.Close()))
		r.files[list] = now.Bytes()
		r.date = r.date.Add(time.Minute)
		r.sign(t)
	}
	from, err := s.From(dir, false)
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(s.Path("trees")))
	_, err = harbour{Supplier: from}.fetchBarge(t)
	require.NoError(t, err)
}

func TestPackagesFromAFolder(t *testing.T) {
	r := ordinary(t)
	r.sign(t)
	s := r.supplier(t)
	dir := t.TempDir()
	for name, text := range r.files {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o644))
	}
	s.from.Suites[0].Address, s.from.Suites[0].Keys, s.from.Suites[0].Unsigned = "file://"+dir, nil, true
	_, err := s.fetchBarge(t)
	require.NoError(t, err)
}

// No package writes outside its tree.
func TestHostileArchives(t *testing.T) {
	for what, c := range map[string]struct {
		words string
		items []item
	}{
		"path":      {"leaves the package's folder", []item{{Name: "./usr/../../outside", Text: "x"}}},
		"absolute":  {"leaves the package's folder", []item{{Name: "/outside", Text: "x"}}},
		"link":      {"the link leaves", []item{{Name: "./usr/out", Kind: tar.TypeSymlink, Link: "../../outside"}}},
		"hard link": {"leaves the package's folder", []item{{Name: "./a", Kind: tar.TypeLink, Link: "../outside"}}},
		"device":    {"neither a file, a folder nor a link", []item{{Name: "./dev", Kind: tar.TypeChar}}},
		"nothing":   {"a link to nothing", []item{{Name: "./a", Kind: tar.TypeLink, Link: "./b"}}},
		"through a link": {"is no folder", []item{{Name: "./usr/a", Kind: tar.TypeSymlink, Link: "."},
			{Name: "./usr/a/a/a/b", Kind: tar.TypeSymlink, Link: "../../../../outside"}}},
		"twice": {"file exists", []item{{Name: "./a", Text: "x"}, {Name: "./a", Text: "y"}}},
	} {
		t.Run(what, func(t *testing.T) {
			in, closer, err := debian.Contents(bytes.NewReader(deb(t, c.items...)))
			require.NoError(t, err)
			defer closer.Close()
			dir := t.TempDir()
			_, err = unpackPackage(t.Context(), in, dir)
			assert.ErrorContains(t, err, c.words)
			assert.NoFileExists(t, filepath.Join(filepath.Dir(dir), "outside"))
		})
	}
}
