package supply

import (
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/debian"
	"dravit/internal/home"
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
		err := Repository{Suite: c.wanted}.is(debian.Release{Suite: c.suite, Codename: c.codename})
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
	public, secret := Secret(address)
	assert.Equal(t, server.URL, public)
	assert.Equal(t, "Basic "+base64.StdEncoding.EncodeToString([]byte("ferry:s3cret")), secret)
	r := Repository{Address: public, Secret: secret, Suite: "bookworm"}
	file := filepath.Join(t.TempDir(), "x")
	most := int64(0)
	err := r.route().get(t.Context(), r.at("x"), file, sha256.New(), make([]byte, 32), 1<<20,
		func(n int64) { most = n })
	require.ErrorIs(t, err, errTooLong)
	assert.LessOrEqual(t, most, int64(1<<20))
	assert.NoFileExists(t, file)
	assert.NotContains(t, err.Error(), "s3cret")
	r.Secret = "Basic eA=="
	err = r.route().get(t.Context(), r.at("x"), file, sha256.New(), make([]byte, 32), 1<<20, func(int64) {})
	require.ErrorContains(t, err, "401")
	assert.Empty(t, r.route().logIn("http://elsewhere.example/x"), "no other host gets it")
}

// What an own folder may do without a signature, an exported one may not because it names that folder.
func TestExportedFolderNeedsItsOwnConsent(t *testing.T) {
	dir := t.TempDir()
	own := Repository{Address: "file:///srv/packages", Suite: "bookworm", Unsigned: true}
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, home.WriteJSON(filepath.Join(dir, exportFile), Exported{Repositories: []ExportedRepository{
		{own.Address, own.Suite, []string{"main"}, "source-1"}}}))
	s := Supplier{Repositories: []Repository{own}}
	from, err := s.From(dir, false)
	require.NoError(t, err)
	assert.False(t, from.Repositories[0].Unsigned)
	from, err = s.From(dir, true)
	require.NoError(t, err)
	assert.True(t, from.Repositories[0].Unsigned)
}
