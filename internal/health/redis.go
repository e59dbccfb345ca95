package health

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"strings"
	"time"

	"dravit/internal/kind"
)

// Redis connects to a server that speaks Redis' protocol (RESP), sends each command and returns the replies to those that follow
// the log-in. A reply that is an error ends it with a Miss.
func Redis(ctx context.Context, dial func(context.Context) (net.Conn, error), password string, commands ...[]string) ([]string, error) {
	conn, err := dial(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if deadline, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(deadline)
	} else {
		_ = conn.SetDeadline(time.Now().Add(Deadline))
	}
	r := bufio.NewReader(conn)
	if password != "" {
		if _, err := call(conn, r, "AUTH", password); err != nil {
			return nil, err
		}
	}
	var replies []string
	for _, c := range commands {
		reply, err := call(conn, r, c...)
		if err != nil {
			return nil, err
		}
		replies = append(replies, reply)
	}
	return replies, nil
}

func call(conn net.Conn, r *bufio.Reader, words ...string) (string, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "*%d\r\n", len(words))
	for _, w := range words {
		fmt.Fprintf(&b, "$%d\r\n%s\r\n", len(w), w)
	}
	if _, err := conn.Write([]byte(b.String())); err != nil {
		return "", err
	}
	line, err := r.ReadString('\n')
	if err != nil {
		return "", err
	}
	line = strings.TrimRight(line, "\r\n")
	if line == "" {
		return "", &kind.Miss{Expected: "a reply to " + words[0], Got: "an empty line"}
	}
	switch line[0] {
	case '-':
		return "", &kind.Miss{Expected: words[0] + " accepted", Got: line[1:]}
	case '$':
		if line == "$-1" {
			return "", nil
		}
		text, err := r.ReadString('\n') // probes read short values without line ends only
		return strings.TrimRight(text, "\r\n"), err
	}
	return line[1:], nil
}

// Cache are the upper rungs of a part that speaks Redis' protocol.
func Cache(p kind.Part) []kind.Rung {
	address := fmt.Sprintf("%s:%d", kind.Host, p.Port)
	ground, line := Ground(p, "tcp", address)
	return append(ground,
		kind.Rung{Name: kind.Greets, Ask: func(ctx context.Context) error {
			replies, err := Redis(ctx, line.Take, p.Password, []string{"PING"})
			if err == nil && replies[0] != "PONG" {
				err = &kind.Miss{Expected: "PONG", Got: replies[0]}
			}
			return err
		}},
		kind.Rung{Name: kind.Works, Ask: func(ctx context.Context) error {
			// A key of its own, gone again at once, at the latest by itself: nothing of the application's is touched.
			value := fmt.Sprint(time.Now().UnixNano())
			key := "dravit:probe:" + value // others look at the same time
			replies, err := Redis(ctx, line.Take, p.Password, []string{"SET", key, value, "EX", "10"}, []string{"GET", key}, []string{"DEL", key})
			if err == nil && replies[1] != value {
				err = &kind.Miss{Expected: "the value written, " + value, Got: replies[1]}
			}
			return err
		}})
}

// CacheExports is how a part that speaks Redis' protocol is reached.
func CacheExports(p kind.Part) kind.Exports {
	port := fmt.Sprint(p.Port)
	url := "redis://:" + p.Password + "@" + kind.Host + ":" + port
	return kind.Exports{URL: url, Common: map[string]string{
		"REDIS_URL": url, "REDIS_HOST": kind.Host, "REDIS_PORT": port, "REDIS_PASSWORD": p.Password,
	}}
}
