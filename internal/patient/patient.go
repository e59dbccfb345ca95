// Package patient reads from a pipe or a terminal that may give nothing for ever, until a context ends.
package patient

import (
	"context"
	"io"
)

// Reader returns a reader of r whose Read returns the context's error once that has ended. A Read of r that is under
// way then goes on in the background until r gives something or is closed; what it gives is lost.
func Reader(ctx context.Context, r io.Reader) io.Reader {
	return &reader{ctx: ctx, from: r, given: make(chan piece)}
}

// pieceSize is how much is read at once, in bytes.
const pieceSize = 64 << 10

type piece struct {
	bytes []byte
	err   error
}

type reader struct {
	ctx   context.Context
	from  io.Reader
	given chan piece // it has no buffer: one Read of from at a time
	begun bool
	rest  piece
}

func (r *reader) Read(p []byte) (int, error) {
	if !r.begun {
		r.begun = true
		go r.pump()
	}
	if len(r.rest.bytes) == 0 && r.rest.err == nil {
		select {
		case <-r.ctx.Done():
			return 0, r.ctx.Err()
		case r.rest = <-r.given:
		}
	}
	n := copy(p, r.rest.bytes)
	r.rest.bytes = r.rest.bytes[n:]
	if n > 0 || len(p) == 0 {
		return n, nil
	}
	return 0, r.rest.err
}

// pump reads until the source or the context ends.
func (r *reader) pump() {
	for {
		b := make([]byte, pieceSize)
		n, err := r.from.Read(b)
		select {
		case <-r.ctx.Done():
			return
		case r.given <- piece{b[:n], err}:
		}
		if err != nil {
			return
		}
	}
}
