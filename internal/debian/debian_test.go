package debian

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCompare(t *testing.T) {
	// Each is older than the next (deb-version(7)).
	rising := []string{"1.0~~", "1.0~~a", "1.0~", "1.0", "1.0-1", "1.0-1+b1", "1.0a", "1.0+ds", "1.0.1", "1.2", "1.10",
		"8.2.9-1~deb12u1", "8.2.29-1~bpo", "8.2.29-1", "1:0.1", "2:0"}
	for i, a := range rising {
		for j, b := range rising {
			assert.Equal(t, sign(i-j), Compare(a, b), "%s and %s", a, b)
		}
	}
	assert.Zero(t, Compare("0:1.0", "1.0"))
	assert.Zero(t, Compare("1.00-1", "1.0-1"))
	for version, upstream := range map[string]string{"1:10.5.23-0+deb11u1": "10.5.23", "8.2.29-1~deb12u1": "8.2.29",
		"1:11.8.9+ds-0+deb13u1": "11.8.9", "5:8.0.2-3": "8.0.2", "17": "17"} {
		assert.Equal(t, upstream, Upstream(version))
	}
}

func sign(n int) int { return max(-1, min(1, n)) }

func TestRelations(t *testing.T) {
	all := Relations("libc6 (>= 2.36), awk:any | mawk (<< 2) [amd64], , tide(=1.0-1)")
	assert.Equal(t, [][]Relation{{{"libc6", ">=", "2.36"}}, {{"awk", "", ""}, {"mawk", "<<", "2"}},
		{{"tide", "=", "1.0-1"}}}, all)
}

// fleet returns an index of packages, each "NAME VERSION; DEPENDS; PROVIDES".
func fleet(t *testing.T, packages ...string) Suite {
	t.Helper()
	var b strings.Builder
	for _, line := range packages {
		f := append(strings.Split(line, ";"), "", "")
		name, version, _ := strings.Cut(f[0], " ")
		fmt.Fprintf(&b, "Package: %s\nVersion: %s\nDescription: a\n long one: with a colon\n"+
			"Architecture: amd64\nDepends: %s\nProvides: %s\nFilename: pool/%[1]s.deb\nSize: 7\n"+
			"Installed-Size: 3\nSHA256: %[5]s\n\n",
			name, version, strings.TrimSpace(f[1]), strings.TrimSpace(f[2]), strings.Repeat("a", 64))
	}
	data, err := Parse(strings.NewReader(b.String()))
	require.NoError(t, err)
	return Suite{Open(data, "http://quay.example")}
}

func TestClosure(t *testing.T) {
	s := fleet(t, "ferry 2; keel (>= 1), rudder | paddle, pump, debconf", "ferry 1", "keel 1", "keel 2; hull (= 2)",
		"hull 2; keel", "hull 3", "paddle 1; oar", "oar 1", "bilge 1; ; pump (= 3)", "apump 1; ; pump",
		"barge 1; hull, hull (<< 3)", "raft 1; hull (= 3), keel (= 2)", "ship 1; pump (>= 3)")
	left := func(name string) bool { return name == "debconf" }
	for root, want := range map[string]string{
		"ferry": "apump1 ferry2 hull2 keel2 oar1 paddle1", // newest, the alternative there, one that provides
		"barge": "barge1 hull2 keel2",                     // the newest hull does not fit: taken back
		"ship":  "bilge1 ship1",                           // only that one provides the version
		"raft":  "",                                       // two want different versions of the same
		"dory":  "",
	} {
		all, err := s.Closure([]Relation{{Name: root}}, left)
		var words []string
		for _, p := range all {
			words = append(words, p.Name+p.Version)
			assert.Equal(t, "http://quay.example", p.Base)
		}
		assert.Equal(t, want, strings.Join(words, " "), root)
		assert.Equal(t, want == "", err != nil, "%s: %v", root, err)
	}
	_, err := s.Closure([]Relation{{Name: "ship"}, {Name: "ferry"}}, func(string) bool { return false })
	assert.EqualError(t, err, "ferry needs debconf, which the source does not have")
	_, err = s.Closure([]Relation{{Name: "raft"}}, left)
	assert.ErrorContains(t, err, "hull (= 2)")
	assert.Equal(t, []string{"barge", "bilge"}, s.Names("b"))
	p, by := s.Find("pump")
	assert.Empty(t, p)
	assert.ElementsMatch(t, []Provider{{"apump", ""}, {"bilge", "3"}}, by)
}

func TestParseRefuses(t *testing.T) {
	for _, text := range []string{"Package: kelp\n\n", "no field\n",
		"Package: kelp\nVersion: 1\nFilename: f\nSHA256: ../" + strings.Repeat("a", 61) + "\n",
		"Package: kelp\nVersion: 1\tx\nFilename: f\nSHA256: " + strings.Repeat("a", 64) + "\n"} {
		_, err := Parse(strings.NewReader(text))
		assert.Error(t, err, text)
	}
}

func key(t *testing.T, name string) *openpgp.Entity {
	t.Helper()
	e, err := openpgp.NewEntity(name, "", name+"@saltmarsh.example", nil)
	require.NoError(t, err)
	return e
}

func ring(t *testing.T, armored bool, keys ...*openpgp.Entity) []byte {
	t.Helper()
	var b bytes.Buffer
	for _, k := range keys {
		if !armored {
			require.NoError(t, k.Serialize(&b))
			continue
		}
		w, err := armor.Encode(&b, openpgp.PublicKeyType, nil)
		require.NoError(t, err)
		require.NoError(t, k.Serialize(w))
		require.NoError(t, w.Close())
		b.WriteByte('\n')
	}
	return b.Bytes()
}

func TestRelease(t *testing.T) {
	sum := strings.Repeat("b", 64)
	text := "Suite: stable\nCodename: marsh\nDate: Sat, 11 Jul 2026 10:16:37 UTC\n" +
		"Valid-Until: Sat, 18 Jul 2026 10:16:37 UTC\nAcquire-By-Hash: yes\nMD5Sum:\n" +
		" 00 12 main/binary-amd64/Packages\n" +
		"SHA256:\n " + sum + " 12 main/binary-amd64/Packages.gz\n"
	harbour, pirate := key(t, "harbour"), key(t, "pirate")
	var in bytes.Buffer
	w, err := clearsign.Encode(&in, harbour.PrivateKey, nil)
	require.NoError(t, err)
	_, err = w.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	var apart bytes.Buffer
	require.NoError(t, openpgp.ArmoredDetachSign(&apart, harbour, strings.NewReader(text), nil))

	for _, armored := range []bool{true, false} {
		keys, err := ReadKeyrings([][]byte{[]byte("neither"), ring(t, armored, pirate, harbour)})
		require.NoError(t, err)
		for _, read := range []func() (Release, error){
			func() (Release, error) { return ReadInRelease(in.Bytes(), keys) },
			func() (Release, error) { return ReadRelease([]byte(text), apart.Bytes(), keys) },
		} {
			r, err := read()
			require.NoError(t, err)
			assert.Equal(t, map[string]Sum{"main/binary-amd64/Packages.gz": {12, sum}}, r.Files)
			assert.Equal(t, "marsh", r.Codename)
			assert.True(t, r.ByHash)
			assert.Equal(t, "2026-07-18", r.ValidUntil.Format("2006-01-02"))
		}
	}
	others, err := ReadKeyrings([][]byte{[]byte("neither"), ring(t, false, pirate)})
	require.NoError(t, err)
	_, err = ReadInRelease(in.Bytes(), others)
	assert.ErrorIs(t, err, ErrUnsigned)
	_, err = ReadRelease([]byte(text), apart.Bytes(), others)
	assert.ErrorIs(t, err, ErrUnsigned)
	own, err := ReadKeyrings([][]byte{[]byte("neither"), ring(t, false, harbour)})
	require.NoError(t, err)
	for _, changed := range []string{strings.Replace(in.String(), "12 main", "13 main", 1), text, ""} {
		_, err = ReadInRelease([]byte(changed), own)
		assert.ErrorIs(t, err, ErrUnsigned, changed)
	}
	// What stands outside the signed text does not count.
	r, err := ReadInRelease([]byte("Codename: kelp\n"+in.String()+"Codename: kelp\n"), own)
	require.NoError(t, err)
	assert.Equal(t, "marsh", r.Codename)
	_, err = ReadUnsigned([]byte("Date: soon\n"))
	assert.Error(t, err)
}

func TestClients(t *testing.T) {
	root := fstest.MapFS{
		"etc/apt/sources.list": {Data: []byte("# deb http://old.example old main\n" +
			"deb [arch=amd64 signed-by=/keys/quay.gpg check-valid-until=no] http://quay.example/debian " +
			"marsh main contrib\n" +
			"deb-src http://quay.example/debian marsh main\ndeb http://flat.example ./\n")},
		"etc/apt/sources.list.d/b.sources": {Data: []byte("Types: deb deb-src\nURIs: https://tide.example\n" +
			"Suites: marsh marsh-updates\nComponents: main\nSigned-By:\n " +
			"-----BEGIN PGP PUBLIC KEY BLOCK-----\n .\n abc\n" +
			"\nEnabled: no\nTypes: deb\nURIs: https://off.example\nSuites: marsh\n")},
		"etc/apt/sources.list.d/c.list.off":     {Data: []byte("deb http://off.example marsh main\n")},
		"etc/apt/trusted.gpg.d/own.asc":         {Data: []byte("own")},
		"etc/apt/trusted.gpg.d/own.asc.removed": {Data: []byte("no")},
		"keys/quay.gpg":                         {Data: []byte("quay")},
	}
	all, keys := Clients(root)
	armored := [][]byte{[]byte("\n-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nabc")}
	assert.Equal(t, []Source{
		{"http://quay.example/debian", "marsh", []string{"main", "contrib"}, [][]byte{[]byte("quay")}, true},
		{"https://tide.example", "marsh", []string{"main"}, armored, false},
		{"https://tide.example", "marsh-updates", []string{"main"}, armored, false},
	}, all)
	assert.Equal(t, [][]byte{[]byte("own")}, keys)
	all, keys = Clients(fstest.MapFS{})
	assert.Empty(t, slices.Concat(all), keys)
}

func TestContentsRefuses(t *testing.T) {
	member := func(name string, size string) string {
		return fmt.Sprintf("%-16s%-12s%-6s%-6s%-8s%-10s`\n", name, "0", "0", "0", "100644", size)
	}
	for _, deb := range []string{"", "no archive", "!<arch>\n", "!<arch>\n" + member("debian-binary", "4") + "2.0\n",
		"!<arch>\n" + member("data.tar.gz", "-5"), "!<arch>\n" + member("data.tar.rot13", "0"),
		"!<arch>\n" + member("data.tar.gz", "4") + "abcd"} {
		_, _, err := Contents(strings.NewReader(deb))
		assert.Error(t, err, deb)
	}
}
