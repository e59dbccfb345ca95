package nats

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
)

// session is a connection to the broker after the log-in, in its text protocol (docs.nats.io, "Client Protocol"). The
// broker's own client library takes longer to initialise than everything else that a command does.
type session struct {
	conn  net.Conn
	r     *bufio.Reader
	inbox string // the subject of the replies to it
}

// maxMessage is the longest message that a check reads, in bytes.
const maxMessage = 64 << 10

// open connects with dial and logs in.
func open(ctx context.Context, dial func(context.Context) (net.Conn, error), token string) (*session, error) {
	conn, err := dial(ctx)
	if err != nil {
		return nil, err
	}
	s := &session{conn: conn, r: bufio.NewReader(conn), inbox: "_INBOX." + rand.Text()}
	s.until(ctx)
	if err := s.logIn(token); err != nil {
		conn.Close()
		return nil, err
	}
	return s, nil
}

// until sets the deadline for what follows: the context's, else the usual time of a rung.
func (s *session) until(ctx context.Context) {
	deadline, ok := ctx.Deadline()
	if !ok {
		deadline = time.Now().Add(health.Deadline)
	}
	_ = s.conn.SetDeadline(deadline)
}

func (s *session) logIn(token string) error {
	greeting, err := s.line()
	if err != nil {
		return err
	}
	if !strings.HasPrefix(greeting, "INFO ") {
		return &kind.Miss{Expected: "the greeting of NATS", Got: fmt.Sprintf("%.100q", greeting)}
	}
	options, err := json.Marshal(map[string]any{"verbose": false, "pedantic": false, "auth_token": token, "lang": "go"})
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(s.conn, "CONNECT %s\r\nSUB %s 1\r\nPING\r\n", options, s.inbox); err != nil {
		return err
	}
	answer, err := s.line()
	if err != nil {
		return err
	}
	if refusal, refused := strings.CutPrefix(answer, "-ERR "); refused {
		return &kind.Miss{Expected: "a log-in with the stack's token", Got: strings.Trim(refusal, "'")}
	}
	if answer != "PONG" {
		return &kind.Miss{Expected: "PONG", Got: fmt.Sprintf("%.100q", answer)}
	}
	return nil
}

// line returns the next line that is not about the connection itself.
func (s *session) line() (string, error) {
	for {
		line, err := s.r.ReadString('\n')
		if err != nil {
			return "", err
		}
		line = strings.TrimRight(line, "\r\n")
		if line != "PING" && line != "+OK" {
			return line, nil
		}
		if line == "PING" {
			if _, err := io.WriteString(s.conn, "PONG\r\n"); err != nil {
				return "", err
			}
		}
	}
}

// publish sends a message on a subject. Replies come to the session's inbox.
func (s *session) publish(subject string, message []byte) error {
	_, err := fmt.Fprintf(s.conn, "PUB %s %s %d\r\n%s\r\n", subject, s.inbox, len(message), message)
	return err
}

// next returns the next message to the session's inbox.
func (s *session) next() ([]byte, error) {
	line, err := s.line()
	if err != nil {
		return nil, err
	}
	words := strings.Fields(line) // MSG SUBJECT SID [REPLY] BYTES
	length := 0
	if len(words) >= 4 {
		_, err = fmt.Sscan(words[len(words)-1], &length)
	}
	if err != nil || len(words) < 4 || words[0] != "MSG" || length < 0 || length > maxMessage {
		return nil, &kind.Miss{Expected: "a message", Got: fmt.Sprintf("%.100q", line)}
	}
	message := make([]byte, length+len("\r\n"))
	if _, err := io.ReadFull(s.r, message); err != nil {
		return nil, err
	}
	return message[:length], nil
}

// request sends a request to the broker's interface for streams, and decodes the reply into v (docs.nats.io, "JetStream
// API").
func (s *session) request(subject string, question, into any) error {
	text, err := json.Marshal(question)
	if err != nil {
		return err
	}
	if err := s.publish(subject, text); err != nil {
		return err
	}
	answer, err := s.next()
	if err != nil {
		return err
	}
	var failed struct {
		Error *struct{ Description string }
	}
	if err := json.Unmarshal(answer, &failed); err != nil {
		return err
	}
	if failed.Error != nil {
		return &kind.Miss{Expected: "an answer from " + subject, Got: failed.Error.Description}
	}
	return json.Unmarshal(answer, into)
}
