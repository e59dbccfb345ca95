package health

import (
	"context"
	"io"
	"net/http"

	"dravit/internal/kind"
)

// HTTP returns the rungs of a web server: the lower rungs, and one that takes any whole HTTP answer to OPTIONS *, a
// request that reaches no page of an application (RFC 9110, section 9.3.7).
func HTTP(p kind.Part, network, address string) []kind.Rung {
	lower, shared := LowerRungs(p, network, address)
	return append(lower, kind.Rung{Name: kind.Greets, Ask: func(ctx context.Context) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodOptions, "http://dravit.localhost", nil)
		if err != nil {
			return err
		}
		req.URL.Path = "*"
		resp, err := Client(shared.Take).Do(req)
		if err != nil {
			return &kind.Miss{Expected: "an HTTP answer", Got: Plain(err)}
		}
		defer resp.Body.Close()
		_, err = io.Copy(io.Discard, io.LimitReader(resp.Body, 1<<20))
		return err
	}})
}
