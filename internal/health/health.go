// Package health runs ladders and speaks the protocols that their rungs ask in.
package health

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"dravit/internal/kind"
	"dravit/internal/members"
	"dravit/internal/proc"
)

// Deadline is how long one rung may take.
const Deadline = 5 * time.Second

// Result is what one rung came to. Holds is nil where it was not asked.
type Result struct {
	Rung     kind.RungName `json:"rung"`
	Holds    *bool         `json:"holds"`
	Advisory bool          `json:"advisory"`
	MS       float64       `json:"ms"`
	Expected string        `json:"expected,omitempty"`
	Got      string        `json:"got,omitempty"`
}

// Miss says what the rung expected, and what came. It is meant for one that does not hold.
func (r Result) Miss() string {
	return fmt.Sprintf("%s: expected %s, got %s", r.Rung, r.Expected, r.Got)
}

// Once makes of a question one that is asked once, by whoever comes first; the others wait for its answer.
func Once(ask func(ctx context.Context) error) func(ctx context.Context) error {
	var once sync.Once
	var err error
	return func(ctx context.Context) error {
		once.Do(func() { err = ask(ctx) })
		return err
	}
}

// Climb asks the rungs from the ground up, each with a deadline. The rungs above the first that does not hold are not
// asked; an advisory one that does not hold stops nothing.
func Climb(ctx context.Context, ladder []kind.Rung) []Result { return climb(ctx, ladder, Deadline) }

// climb is Climb with another time for each rung.
func climb(ctx context.Context, ladder []kind.Rung, deadline time.Duration) []Result {
	results := make([]Result, len(ladder))
	defer func() {
		for _, rung := range ladder {
			if rung.After != nil {
				rung.After()
			}
		}
	}()
	fell := false
	for i, rung := range ladder {
		r := &results[i]
		r.Rung, r.Advisory = rung.Name, rung.Advisory
		if fell {
			continue
		}
		asked, cancel := context.WithTimeout(ctx, deadline)
		began := time.Now()
		err := rung.Ask(asked)
		r.MS = float64(time.Since(began).Microseconds()) / 1000
		if err != nil && asked.Err() != nil && ctx.Err() == nil {
			err = &kind.Miss{Expected: "an answer within " + deadline.String(), Got: "none"}
		}
		cancel()
		holds := err == nil
		r.Holds = &holds
		if holds {
			continue
		}
		var miss *kind.Miss
		if errors.As(err, &miss) {
			r.Expected, r.Got = miss.Expected, miss.Got
		} else {
			r.Expected, r.Got = expected[rung.Name], err.Error()
		}
		fell = !rung.Advisory
	}
	return results
}

// expected says what a rung is for, where its failure does not.
var expected = map[kind.RungName]string{
	kind.Alive: "a running process", kind.Open: "a socket that accepts", kind.Ours: "the socket of this part's process",
	kind.Greets: "a greeting in the server's own protocol", kind.Works: "a round trip of real work",
	kind.Resolves: "a loopback address", kind.Reaches: "the gateway's answer", kind.Routed: "the answer of this stack",
	kind.Replies: "a reply", kind.Matches: "the expected text",
}

// Holds tells whether a ladder holds: its top rung was asked, and every rung asked holds, the advisory ones aside.
func Holds(results []Result) bool {
	for _, r := range results {
		if !r.Advisory && (r.Holds == nil || !*r.Holds) {
			return false
		}
	}
	return len(results) > 0
}

// FirstMiss returns the first rung that does not hold, nil where the ladder does.
func FirstMiss(results []Result) *Result {
	for i, r := range results {
		if !r.Advisory && r.Holds != nil && !*r.Holds {
			return &results[i]
		}
	}
	return nil
}

// All climbs ladders side by side.
func All(ctx context.Context, ladders [][]kind.Rung) [][]Result {
	results := make([][]Result, len(ladders))
	var wg sync.WaitGroup
	for i := range ladders {
		wg.Go(func() { results[i] = Climb(ctx, ladders[i]) })
	}
	wg.Wait()
	return results
}

// SharedConn is the connection that a ladder's open rung makes. The rungs above may take it over, so that the server
// sees one
// visitor and not one that leaves without a word, which some servers note in their log.
type SharedConn struct {
	network, address string
	conn             net.Conn
}

// Take returns the connection, which is the caller's to close from then on, or a new one where it is taken already.
func (l *SharedConn) Take(ctx context.Context) (net.Conn, error) {
	if conn := l.conn; conn != nil {
		l.conn = nil
		return conn, nil
	}
	return (&net.Dialer{}).DialContext(ctx, l.network, l.address)
}

// LowerRungs are the lower rungs of a part with a socket: alive, open, ours. network is "tcp" or "unix".
func LowerRungs(p kind.Part, network, address string) ([]kind.Rung, *SharedConn) {
	line := &SharedConn{network: network, address: address}
	return []kind.Rung{
		Alive(p),
		{Name: kind.Open,
			Ask: func(ctx context.Context) (err error) {
				if line.conn, err = line.Take(ctx); err != nil {
					return &kind.Miss{Expected: "a socket that accepts at " + address, Got: Plain(err)}
				}
				return nil
			},
			After: func() {
				if line.conn != nil {
					line.conn.Close()
				}
			}},
		{Name: kind.Ours, Ask: func(context.Context) error {
			owns, err := members.Own(p.Lock, network, address)
			if err == nil && !owns {
				got := "somebody else's, whose answers do not count"
				if network == "tcp" {
					got = "that of " + proc.PortHolder(address).String() +
						", which this stack did not start: its answers do not count"
				}
				err = &kind.Miss{Expected: "the socket of this part's process at " + address, Got: got}
			}
			return err
		}},
	}, line
}

// Alive asks whether any process of the part lives.
func Alive(p kind.Part) kind.Rung {
	return kind.Rung{Name: kind.Alive, Ask: func(context.Context) error {
		if !members.Alive(p.Lock) {
			return &kind.Miss{Expected: "a running process", Got: "none"}
		}
		return nil
	}}
}

// Plain puts a network error in few words.
func Plain(err error) string {
	var sys *os.SyscallError
	switch {
	case errors.As(err, &sys):
		return sys.Err.Error()
	case errors.Is(err, context.DeadlineExceeded) || os.IsTimeout(err):
		return "no answer"
	}
	text := err.Error()
	if i := strings.LastIndex(text, ": "); i >= 0 && strings.HasPrefix(text, "dial ") {
		return text[i+2:]
	}
	return text
}

// Client returns an HTTP client whose every connection comes from dial and is closed after its request. It follows no
// redirect.
func Client(dial func(ctx context.Context) (net.Conn, error)) *http.Client {
	return &http.Client{
		Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) },
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// Dial returns a function that dials one address.
func Dial(network, address string) func(ctx context.Context) (net.Conn, error) {
	return func(ctx context.Context) (net.Conn, error) { return (&net.Dialer{}).DialContext(ctx, network, address) }
}
