package health

import (
	"context"
	"io"
	"net/http"

	"dravit/internal/kind"
)

// HTTP asks whether a web server on a socket greets: any whole HTTP answer to a request for a host that no site has.
func HTTP(socket string) kind.Rung {
	return greet("unix", socket)
}

// HTTPPort is HTTP for a server on a port of this machine.
func HTTPPort(address string) kind.Rung { return greet("tcp", address) }

func greet(network, address string) kind.Rung {
	return kind.Rung{Name: kind.Greets, Ask: func(ctx context.Context) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://dravit.localhost/", nil)
		if err != nil {
			return err
		}
		resp, err := Client(network, address).Do(req)
		if err != nil {
			return &kind.Miss{Expected: "an HTTP answer", Got: Plain(err)}
		}
		defer resp.Body.Close()
		_, err = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
		return err
	}}
}
