package repository

import (
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/debian"
	"dravit/internal/supply"
	"dravit/internal/supply/fetch"
)

// A list that the right key has signed for another suite is refused: it may be one of years ago.
func TestListOfAnotherSuite(t *testing.T) {
	for _, c := range []struct {
		wanted, suite, codename string
		is                      bool
	}{
		{"bookworm", "oldstable", "bookworm", true},
		{"stable", "stable", "trixie", true},
		{"bookworm-updates", "oldstable-updates", "bookworm-updates", true},
		{"noble-updates", "noble-updates", "noble", true},
		{"buster/updates", "oldoldstable", "buster", true},
		{"./", "", "", true},
		{"trixie", "oldstable", "bookworm", false},
		{"bookworm-security", "stable", "bookworm", false},
		{"bookworm", "stable-security", "bookworm-security", false},
		{"stable", "oldstable", "bookworm", false},
	} {
		err := Suite{Name: c.wanted}.is(debian.Release{Suite: c.suite, Codename: c.codename})
		assert.Equal(t, c.is, err == nil, "%+v: %v", c, err)
	}
}

// A source sends no more than its list describes, and its password is in no message.
func TestLongFilesAndPasswords(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, _ := r.BasicAuth()
		if user != "ferry" || password != "s3cret" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		for range 200 { // 100 MB
			if _, err := w.Write([]byte(strings.Repeat("x", 512<<10))); err != nil {
				return
			}
		}
	}))
	defer server.Close()
	address := strings.Replace(server.URL, "://", "://ferry:s3cret@", 1)
	public, secret := fetch.Secret(address)
	assert.Equal(t, server.URL, public)
	assert.Equal(t, "Basic "+base64.StdEncoding.EncodeToString([]byte("ferry:s3cret")), secret)
	r := Suite{Address: public, Secret: secret, Name: "bookworm"}
	file := filepath.Join(t.TempDir(), "x")
	most := int64(0)
	err := r.route().Get(t.Context(), r.at("x"), file, sha256.New(), make([]byte, 32), 1<<20,
		func(n int64) { most = n })
	require.ErrorIs(t, err, fetch.ErrTooLong)
	assert.LessOrEqual(t, most, int64(1<<20))
	assert.NoFileExists(t, file)
	assert.NotContains(t, err.Error(), "s3cret")
	r.Secret = "Basic eA=="
	err = r.route().Get(t.Context(), r.at("x"), file, sha256.New(), make([]byte, 32), 1<<20, func(int64) {})
	require.ErrorContains(t, err, "401")
	assert.Empty(t, r.route().LogIn("http://elsewhere.example/x"), "no other host gets it")
}

// What an own folder may do without a signature, an exported one may not because it names that folder.
func TestExportedFolderNeedsItsOwnConsent(t *testing.T) {
	own := Suite{Address: "file:///srv/packages", Name: "bookworm", Unsigned: true}
	var x supply.Exported
	require.NoError(t, x.Put(exportKey, []exportedSuite{{own.Address, own.Name, []string{"main"}, "source-1"}}))
	for _, unsigned := range []bool{false, true} {
		from, err := (&Source{Suites: []Suite{own}}).From(t.TempDir(), x, unsigned)
		require.NoError(t, err)
		assert.Equal(t, unsigned, from.(*Source).Suites[0].Unsigned)
	}
}
