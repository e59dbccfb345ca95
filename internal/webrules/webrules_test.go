package webrules

import (
	"context"
	"io"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Requests in flight finish when a server is asked to end; one that never ends does not hold it up.
func TestServeHTTP(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	entered, leave := make(chan bool, 2), make(chan bool)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		ended <- ServeHTTP(ctx, &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			entered <- true
			if r.URL.Path == "/stuck" {
				<-r.Context().Done()
				return
			}
			<-leave
			_, _ = io.WriteString(w, "whole")
		})}, l)
	}()
	got := make(chan string, 1)
	go func() {
		resp, err := http.Get("http://" + l.Addr().String() + "/")
		if err != nil {
			got <- err.Error()
			return
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		got <- string(text)
	}()
	<-entered
	go func() {
		if resp, err := http.Get("http://" + l.Addr().String() + "/stuck"); err == nil {
			resp.Body.Close()
		}
	}()
	<-entered
	began := time.Now()
	cancel()
	close(leave)
	assert.Equal(t, "whole", <-got)
	assert.NoError(t, <-ended)
	assert.Less(t, time.Since(began), 5*time.Second)
}
