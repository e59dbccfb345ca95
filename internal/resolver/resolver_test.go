package resolver

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A resolver that fails is told from a name that it does not know.
func TestUnknownIsNotFailed(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "getent"), []byte(`#!/bin/sh
case "$2" in
quay.test) echo '127.0.0.1 STREAM quay.test'; echo '127.0.0.1 DGRAM';;
deaf.test) exec /bin/sleep 20;;
gone.test) exit 2;;
*) exit 1
esac
`), 0o755))
	t.Setenv("PATH", dir)
	assert.True(t, Loopback(t.Context(), "quay.test"))
	_, err := Addresses(t.Context(), "gone.test")
	assert.ErrorIs(t, err, ErrUnknown)
	_, err = Addresses(t.Context(), "deaf.test")
	assert.ErrorIs(t, err, errNoAnswer)
	_, err = Addresses(t.Context(), "broken.test")
	assert.ErrorContains(t, err, "failed")

	assert.ErrorIs(t, meaning(&net.DNSError{IsNotFound: true}), ErrUnknown)
	assert.ErrorIs(t, meaning(&net.DNSError{IsTimeout: true}), errNoAnswer)
	assert.ErrorIs(t, meaning(context.DeadlineExceeded), errNoAnswer)
	assert.ErrorContains(t, meaning(errors.New("no server")), "failed")
}
