package dravitcache

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/health"
	"dravit/internal/kind"
)

// The built-in cache asks for its password, keeps what it is told, and lets it go when its time is over.
func TestServe(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	files, err := New().Files(kind.Part{Port: port, Password: "kelp"})
	require.NoError(t, err)
	conf := filepath.Join(t.TempDir(), files[0].Name)
	require.NoError(t, os.WriteFile(conf, []byte(files[0].Text), files[0].Mode))
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- serve(ctx, conf, nil) }()
	ask := func(password string, words ...string) (string, error) {
		replies, err := health.Redis(t.Context(),
			health.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)), password, words)
		if err != nil {
			return "", err
		}
		return replies[0], nil
	}
	require.Eventually(t, func() bool {
		_, err := ask("kelp", "PING")
		return err == nil
	}, 5*time.Second, 5*time.Millisecond)
	_, err = ask("", "PING")
	assert.ErrorContains(t, err, "NOAUTH")
	_, err = ask("kelp", "SET", "seats", "72", "PX", "150")
	require.NoError(t, err)
	got, err := ask("kelp", "GET", "seats")
	require.NoError(t, err)
	assert.Equal(t, "72", got)
	assert.Eventually(t, func() bool {
		got, err := ask("kelp", "GET", "seats")
		return err == nil && got == ""
	}, 5*time.Second, 20*time.Millisecond, "keys end by themselves")
	cancel()
	assert.NoError(t, <-ended)
	_, err = ask("kelp", "PING")
	assert.Error(t, err)
	assert.Error(t, serve(t.Context(), conf+" that is not there", nil))
}
