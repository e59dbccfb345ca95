package certificates

import (
	"crypto/x509"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
)

func open(t *testing.T) (*home.Home, *Authority) {
	t.Helper()
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	a, err := Open(t.Context(), h, nil)
	require.NoError(t, err)
	return h, a
}

func (a *Authority) verify(t *testing.T, host string, leaf *x509.Certificate) error {
	t.Helper()
	roots := x509.NewCertPool()
	roots.AddCert(a.certificate)
	_, err := leaf.Verify(x509.VerifyOptions{Roots: roots, DNSName: host})
	return err
}

func TestAuthority(t *testing.T) {
	h, a := open(t)
	info, err := os.Stat(keyFile(h))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	leaf, err := a.Leaf("ferry.localhost")
	require.NoError(t, err)
	assert.NoError(t, a.verify(t, "ferry.localhost", leaf.Leaf))
	assert.Error(t, a.verify(t, "crew.localhost", leaf.Leaf))
	again, err := a.Leaf("ferry.localhost")
	require.NoError(t, err)
	assert.Same(t, leaf, again)
	b, err := Open(t.Context(), h, nil)
	require.NoError(t, err)
	assert.Equal(t, a.certificate.Raw, b.certificate.Raw, "it is kept")

	// Whatever the authority signs, clients reject other names.
	for _, host := range []string{"example.org", "localhost.example.org", "notlocalhost"} {
		forged, err := a.Leaf(host)
		require.NoError(t, err)
		assert.ErrorContains(t, a.verify(t, host, forged.Leaf), "not permitted", host)
	}

	a.now = func() time.Time { return time.Now().Add(leafLife - renewBefore + time.Hour) }
	renewed, err := a.Leaf("ferry.localhost")
	require.NoError(t, err)
	assert.NotEqual(t, leaf.Leaf.SerialNumber, renewed.Leaf.SerialNumber, "renewed before it ends")

	require.NoError(t, os.WriteFile(File(h), []byte("torn"), 0o644))
	_, err = Open(t.Context(), h, nil)
	assert.ErrorContains(t, err, h.Path("authority"), "what is broken is not thrown away: somebody may trust it")
}

// A new suffix of a stack recreates the authority once; suffixes that it has do not.
func TestSuffixes(t *testing.T) {
	h, a := open(t)
	assert.True(t, a.Covers("ferry.test"))
	assert.False(t, a.Covers("ferry.internal"))
	b, err := Open(t.Context(), h, []string{"internal", "quay.test"})
	require.NoError(t, err)
	assert.True(t, b.Covers("ferry.internal"))
	leaf, err := b.Leaf("ferry.internal")
	require.NoError(t, err)
	assert.NoError(t, b.verify(t, "ferry.internal", leaf.Leaf))
	for _, suffixes := range [][]string{nil, {"internal"}, {"test"}} {
		again, err := Open(t.Context(), h, suffixes)
		require.NoError(t, err)
		assert.Equal(t, b.certificate.Raw, again.certificate.Raw, "%v", suffixes)
	}
}

func TestManyAtOnce(t *testing.T) {
	_, a := open(t)
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			_, err := a.Leaf("ferry.localhost")
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	for i := range maxLeaves + 5 {
		_, err := a.Leaf(string(rune('a'+i%26)) + string(rune('a'+i/26%26)) + string(rune('a'+i/676)) + ".localhost")
		require.NoError(t, err)
	}
	assert.LessOrEqual(t, len(a.leaves), maxLeaves)
}

// What openssl says about it.
func TestOpenSSL(t *testing.T) {
	h, a := open(t)
	check := func(host string) (string, error) {
		leaf, err := a.Leaf(host)
		require.NoError(t, err)
		file := filepath.Join(t.TempDir(), "leaf.pem")
		require.NoError(t,
			os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf.Leaf.Raw}), 0o600))
		out, err := exec.Command("openssl", "verify", "-x509_strict", "-purpose", "sslserver", "-verify_hostname", host,
			"-CAfile", File(h), file).CombinedOutput()
		return string(out), err
	}
	out, err := check("ferry.localhost")
	assert.NoError(t, err, out)
	out, err = check("example.org")
	assert.Error(t, err)
	assert.Contains(t, out, "permitted subtree violation")
}
