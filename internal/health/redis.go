package health

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"time"

	"github.com/alicebob/miniredis/v2/proto"

	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// session is a connection to a server that speaks Redis' protocol (RESP), after the log-in.
type session struct {
	conn net.Conn
	r    *bufio.Reader
}

func logIn(ctx context.Context, dial func(context.Context) (net.Conn, error), password string) (*session, error) {
	conn, err := dial(ctx)
	if err != nil {
		return nil, err
	}
	s := &session{conn, bufio.NewReader(conn)}
	s.until(ctx)
	if password != "" {
		if _, err := s.call("AUTH", password); err != nil {
			conn.Close()
			return nil, err
		}
	}
	return s, nil
}

// until sets the deadline of what follows: the context's, else Deadline from now.
func (s *session) until(ctx context.Context) {
	end, ok := ctx.Deadline()
	if !ok {
		end = time.Now().Add(Deadline)
	}
	_ = s.conn.SetDeadline(end)
}

// Redis connects to a server that speaks Redis' protocol, logs in, sends each command and returns its reply. A reply
// that is an error ends it with a *kind.Miss.
func Redis(ctx context.Context, dial func(context.Context) (net.Conn, error), password string,
	commands ...[]string) ([]string, error) {
	s, err := logIn(ctx, dial, password)
	if err != nil {
		return nil, err
	}
	defer s.conn.Close()
	return s.all(commands...)
}

func (s *session) all(commands ...[]string) ([]string, error) {
	var replies []string
	for _, c := range commands {
		reply, err := s.call(c...)
		if err != nil {
			return nil, err
		}
		replies = append(replies, reply)
	}
	return replies, nil
}

// call sends one command and returns its reply, or "" if the key does not exist.
func (s *session) call(words ...string) (string, error) {
	var command bytes.Buffer // collected, and sent in one write
	if err := proto.Write(&command, words); err != nil {
		return "", err
	}
	if _, err := s.conn.Write(command.Bytes()); err != nil {
		return "", err
	}
	raw, err := proto.Read(s.r)
	if errors.Is(err, proto.ErrProtocol) {
		return "", &kind.Miss{Expected: "a reply to " + words[0], Got: "an answer that is not Redis' protocol"}
	}
	if err != nil || raw == noReply {
		return "", err
	}
	reply, err := proto.Parse(raw)
	if refusal, refused := reply.(error); refused {
		return "", &kind.Miss{Expected: words[0] + " accepted", Got: refusal.Error()}
	}
	return fmt.Sprint(reply), err
}

// noReply is the reply for a key that does not exist (RESP, "Null bulk strings").
const noReply = "$-1\r\n"

// Cache returns the upper rungs of a part that speaks Redis' protocol.
func Cache(p kind.Part) []kind.Rung {
	address := p.Address()
	lower, shared := LowerRungs(p, "tcp", address)
	var s *session // greets logs in, and works continues in the same session
	return append(lower,
		kind.Rung{Name: kind.Greets,
			Ask: func(ctx context.Context) (err error) {
				if s, err = logIn(ctx, shared.Take, p.Password); err != nil {
					return err
				}
				reply, err := s.call("PING")
				if err == nil && reply != "PONG" {
					err = &kind.Miss{Expected: "PONG", Got: reply}
				}
				return err
			},
			After: func() {
				if s != nil {
					s.conn.Close()
				}
			}},
		kind.Rung{Name: kind.Works, Ask: func(ctx context.Context) error {
			// Use a key of our own, delete it at once, and let it expire in any case: the application's keys stay as
			// they are.
			value := fmt.Sprint(time.Now().UnixNano())
			key := "dravit:probe:" + value // others look at the same time
			s.until(ctx)
			replies, err := s.all([]string{"SET", key, value, "EX", "10"}, []string{"GET", key}, []string{"DEL", key})
			if err == nil && replies[1] != value {
				err = &kind.Miss{Expected: "the value written, " + value, Got: replies[1]}
			}
			return err
		}})
}

// CacheExports returns how a part that speaks Redis' protocol is reached.
func CacheExports(p kind.Part) kind.Exports {
	port := fmt.Sprint(p.Port)
	u := url.URL{Scheme: "redis", Host: p.Address()}
	if p.Password != "" {
		u.User = url.UserPassword("default", p.Password)
	}
	return kind.Exports{URL: u.String(), Common: map[string]string{
		"REDIS_URL": u.String(), "REDIS_HOST": p.HostName(), "REDIS_PORT": port, "REDIS_PASSWORD": p.Password,
	}}
}

// RedisClients matches what clients write about a part that speaks Redis' protocol.
var RedisClients = pattern.New(`(?i)redis|WRONGPASS|NOAUTH`)

// FlushCache empties a part that speaks Redis' protocol.
func FlushCache(ctx context.Context, p kind.Part) error {
	_, err := Redis(ctx, Dial("tcp", p.Address()), p.Password, []string{"FLUSHALL"})
	return err
}
