package webrules

import (
	"bufio"
	"context"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hasty answers each request when it has read the head, and closes the connection with the body unread.
func hasty(t *testing.T, network, address string) net.Listener {
	l, err := net.Listen(network, address)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				in := bufio.NewReader(c)
				for line := ""; line != "\r\n"; {
					if line, err = in.ReadString('\n'); err != nil {
						return
					}
				}
				_, _ = io.WriteString(c, "HTTP/1.1 404 Not Found\r\nContent-Length: 4\r\nConnection: close\r\n\r\nnone")
			}()
		}
	}()
	return l
}

func TestAnswerBeforeBody(t *testing.T) {
	for _, network := range []string{"tcp", "unix"} {
		address := "127.0.0.1:0"
		if network == "unix" {
			address = filepath.Join(t.TempDir(), "s")
		}
		l := hasty(t, network, address)
		client := &http.Client{Transport: &http.Transport{
			DialContext: Early(func(ctx context.Context, _, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, network, l.Addr().String())
			})}}
		for range 50 {
			resp, err := client.Post("http://api.localhost/", "text/plain",
				io.LimitReader(strings.NewReader(strings.Repeat("x", 4<<20)), 4<<20))
			require.NoError(t, err, network)
			said, err := io.ReadAll(resp.Body)
			resp.Body.Close()
			require.NoError(t, err, network)
			assert.Equal(t, "404 none", resp.Status[:4]+string(said), network)
		}
	}
}
