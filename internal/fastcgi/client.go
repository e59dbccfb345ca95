// Package fastcgi is a client of the FastCGI 1.0 protocol (Open Market, 1996), as far as a web server needs it to talk
// to a responder such as php-fpm. It sends one request over each connection.
package fastcgi

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"strconv"
	"strings"
	"time"
)

// Record types and roles of the specification, section 8.
const (
	typeBegin  = 1
	typeEnd    = 3
	typeParams = 4
	typeStdin  = 5
	typeStdout = 6
	typeStderr = 7

	roleResponder = 1
	maxRecord     = 65535
)

// Response is a responder's answer. Body must be closed; Errors is complete once Body has been read to its end.
type Response struct {
	Status int
	Header http.Header
	Body   io.ReadCloser
	Errors func() string // what the responder wrote to its error stream
}

// Dial opens a connection to a responder.
type Dial func(ctx context.Context) (net.Conn, error)

// Do sends one request to the responder, and returns when its headers have come. body may be nil. The context also ends
// the reading of the response's body.
func Do(ctx context.Context, dial Dial, params map[string]string, body io.Reader) (*Response, error) {
	conn, err := dial(ctx)
	if err != nil {
		return nil, err
	}
	release := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	closeAll := func() { release(); conn.Close() }
	sent := make(chan error, 1)
	go func() { sent <- send(conn, params, body) }()
	out := &stream{records: bufio.NewReader(conn)}
	finish := func() {
		closeAll() // stops a sender that still writes
		<-sent
	}
	r := bufio.NewReader(out)
	resp, err := readHead(r)
	if err != nil {
		finish()
		if ctx.Err() != nil {
			err = ctx.Err()
		} else if text := strings.TrimSpace(out.errors.String()); text != "" {
			err = fmt.Errorf("%w: %s", err, text)
		}
		return nil, err
	}
	resp.Body = &responseBody{r, finish}
	resp.Errors = out.errors.String
	return resp, nil
}

type responseBody struct {
	io.Reader
	finish func()
}

func (b *responseBody) Close() error {
	if b.finish != nil {
		b.finish()
		b.finish = nil
	}
	return nil
}

func send(conn net.Conn, params map[string]string, body io.Reader) error {
	w := bufio.NewWriterSize(conn, 16<<10)
	if err := record(w, typeBegin, []byte{0, roleResponder, 0, 0, 0, 0, 0, 0}); err != nil {
		return err
	}
	var pairs bytes.Buffer
	for name, value := range params {
		length(&pairs, len(name))
		length(&pairs, len(value))
		pairs.WriteString(name)
		pairs.WriteString(value)
	}
	for pairs.Len() > 0 {
		if err := record(w, typeParams, pairs.Next(maxRecord)); err != nil {
			return err
		}
	}
	if err := record(w, typeParams, nil); err != nil {
		return err
	}
	if body != nil {
		buf := make([]byte, 32<<10)
		for {
			n, err := body.Read(buf)
			if n > 0 {
				if err := record(w, typeStdin, buf[:n]); err != nil {
					return err
				}
			}
			if err == io.EOF {
				break
			}
			if err != nil {
				conn.Close() // the responder must not take half a body for a whole one
				return err
			}
		}
	}
	if err := record(w, typeStdin, nil); err != nil {
		return err
	}
	return w.Flush()
}

// length writes the length of a name or value: in one byte, or in four with the high bit set (section 3.4).
func length(b *bytes.Buffer, n int) {
	if n < 128 {
		b.WriteByte(byte(n))
		return
	}
	_ = binary.Write(b, binary.BigEndian, uint32(n)|1<<31)
}

func record(w io.Writer, kind byte, content []byte) error {
	head := [8]byte{1, kind, 0, 1}
	binary.BigEndian.PutUint16(head[4:], uint16(len(content)))
	if _, err := w.Write(head[:]); err != nil {
		return err
	}
	_, err := w.Write(content)
	return err
}

// stream is the responder's standard output, without the protocol's records. It collects the error stream apart.
type stream struct {
	records *bufio.Reader
	left    int // bytes left of the present record's content
	padding int
	ended   bool
	errors  bytes.Buffer
}

const maxErrors = 64 << 10

func (s *stream) Read(p []byte) (int, error) {
	for s.left == 0 {
		if s.ended {
			return 0, io.EOF
		}
		if _, err := s.records.Discard(s.padding); err != nil {
			return 0, unexpected(err)
		}
		s.padding = 0
		var head [8]byte
		if _, err := io.ReadFull(s.records, head[:]); err != nil {
			return 0, unexpected(err)
		}
		n := int(binary.BigEndian.Uint16(head[4:]))
		s.padding = int(head[6])
		switch head[1] {
		case typeStdout:
			s.left = n
			continue
		case typeStderr:
			if _, err := io.CopyN(&capped{&s.errors, maxErrors}, s.records, int64(n)); err != nil {
				return 0, unexpected(err)
			}
			continue
		case typeEnd:
			s.ended = true
		}
		if _, err := s.records.Discard(n); err != nil {
			return 0, unexpected(err)
		}
	}
	n, err := s.records.Read(p[:min(len(p), s.left)])
	s.left -= n
	return n, unexpected(err)
}

type capped struct {
	b   *bytes.Buffer
	max int
}

func (c *capped) Write(p []byte) (int, error) {
	c.b.Write(p[:min(len(p), max(0, c.max-c.b.Len()))])
	return len(p), nil
}

func unexpected(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// readHead reads the headers in CGI's form (RFC 3875, section 6.2): Status instead of a status line; a Location alone
// means 302.
func readHead(r *bufio.Reader) (*Response, error) {
	head, err := textproto.NewReader(r).ReadMIMEHeader()
	if err != nil {
		return nil, fmt.Errorf("the answer has no whole headers: %w", unexpected(err))
	}
	resp := &Response{Status: http.StatusOK, Header: http.Header(head)}
	if status := head.Get("Status"); status != "" {
		number, _, _ := strings.Cut(status, " ")
		if resp.Status, err = strconv.Atoi(number); err != nil || resp.Status < 100 || resp.Status > 999 {
			return nil, fmt.Errorf("the answer's status is %q", status)
		}
		head.Del("Status")
	} else if head.Get("Location") != "" {
		resp.Status = http.StatusFound
	}
	return resp, nil
}
