package webrules

import (
	"context"
	"net"
	"net/http"

	"dravit/internal/lifecycle"
)

// ServeHTTP serves until the context ends, then gives requests in flight lifecycle.Grace to finish. It uses TLS if the
// server has a configuration for it.
func ServeHTTP(ctx context.Context, server *http.Server, listener net.Listener) error {
	ended := make(chan error, 1)
	go func() {
		if server.TLSConfig != nil {
			ended <- server.ServeTLS(listener, "", "")
			return
		}
		ended <- server.Serve(listener)
	}()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	late, cancel := context.WithTimeout(context.WithoutCancel(ctx), lifecycle.Grace)
	defer cancel()
	if err := server.Shutdown(late); err != nil {
		server.Close()
	}
	<-ended
	return nil
}
