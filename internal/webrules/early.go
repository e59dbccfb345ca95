package webrules

import (
	"context"
	"errors"
	"net"
	"syscall"
)

// Dial connects to a server, as net.Dialer does.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// Early returns a dial for an HTTP client with whose connections an answer counts that came before the request was sent
// whole. A server may answer without reading the body, and close (RFC 9112, 9.3 and 9.5): what is still sent to it then
// fails, and the HTTP client would give up for that, with the answer waiting to be read. A write that the peer refuses
// therefore claims to have succeeded; the next read returns the answer, or says that there is none.
func Early(dial Dial) Dial {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return earlyConn{c}, nil
	}
}

type earlyConn struct{ net.Conn }

func (c earlyConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	if errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNRESET) {
		return len(p), nil
	}
	return n, err
}
