// Package health climbs ladders, and speaks the protocols of the rungs.
package health

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/proc"
	"dravit/internal/run"
)

// Deadline is how long one rung may take.
const Deadline = 5 * time.Second

// Result is the result of one rung. Holds is nil if the rung was not asked.
type Result struct {
	Rung     kind.RungName `json:"rung"`
	Holds    *bool         `json:"holds"`
	Advisory bool          `json:"advisory"` // by its nature, or as the system does not tell this time
	MS       float64       `json:"ms"`
	Expected string        `json:"expected,omitempty"`
	Got      string        `json:"got,omitempty"`
	Silent   bool          `json:"silent,omitempty"` // nothing came in time
}

// Miss says what the rung expected and what came. Call it only on a rung that does not hold.
func (r Result) Miss() string {
	return fmt.Sprintf("%s: expected %s, got %s", r.Rung, r.Expected, r.Got)
}

// SiteResult is the result of asking a site.
type SiteResult struct {
	Name  string          `json:"name"`
	URL   string          `json:"url"`
	State lifecycle.State `json:"state,omitempty"` // what follows from the rungs; "": nobody asked for it
	Rungs []Result        `json:"rungs"`           // nil: the site was not asked
	// BecauseOf is the part behind the site that does not answer, which explains the failure, or "".
	BecauseOf string `json:"because_of,omitempty"`
}

// Once returns a function that asks once: the first caller asks, and all others wait for and get the same answer.
func Once(ask func(ctx context.Context) error) func(ctx context.Context) error {
	var once sync.Once
	var err error
	return func(ctx context.Context) error {
		once.Do(func() { err = ask(ctx) })
		return err
	}
}

// Climb asks the rungs from the lowest up, each with a deadline. It stops at the first rung that does not hold; an
// advisory rung that does not hold stops nothing.
func Climb(ctx context.Context, ladder []kind.Rung) []Result { return climb(ctx, ladder, Deadline) }

// climb is Climb with another deadline.
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
			r.Silent = true
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
			r.Advisory = r.Advisory || miss.Untold
		} else {
			r.Expected, r.Got = expected[rung.Name], err.Error()
		}
		fell = !r.Advisory
	}
	return results
}

// expected returns what a rung is for, if its failure does not say so.
var expected = map[kind.RungName]string{
	kind.Alive: "a running process", kind.Open: "a socket that accepts", kind.Ours: "the socket of this part's process",
	kind.Greets: "a greeting in the server's own protocol", kind.Works: "a round trip of real work",
	kind.Resolves: "a loopback address", kind.Reaches: "the gateway's answer", kind.Routed: "the answer of this stack",
	kind.Replies: "a reply", kind.Matches: "the expected text",
}

// Holds reports whether a ladder holds: its top rung was asked, and every rung that was asked holds, advisory ones
// aside.
func Holds(results []Result) bool {
	for _, r := range results {
		if !r.Advisory && (r.Holds == nil || !*r.Holds) {
			return false
		}
	}
	return len(results) > 0
}

// FirstMiss returns the first rung that does not hold, advisory ones aside, or nil.
func FirstMiss(results []Result) *Result {
	for i, r := range results {
		if !r.Advisory && r.Holds != nil && !*r.Holds {
			return &results[i]
		}
	}
	return nil
}

// Aligned returns the results of a ladder with nil for each rung below another one that the part's kind leaves out, so
// that the rungs of several parts can stand below each other.
func Aligned(results []Result) []*Result {
	var all []*Result
	below := kind.PartRungs
	for i := range results {
		if n := slices.Index(below, results[i].Rung); n >= 0 {
			all = append(all, make([]*Result, n)...)
			below = below[n+1:]
		}
		all = append(all, &results[i])
	}
	return all
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

// SharedConn is the connection that a ladder's open rung makes. The rungs above reuse it: some servers log a client
// that says nothing.
type SharedConn struct {
	network, address string
	conn             net.Conn
}

// Take returns the connection, or a new one if it was taken already. The caller must close it.
func (l *SharedConn) Take(ctx context.Context) (net.Conn, error) {
	if conn := l.conn; conn != nil {
		l.conn = nil
		return conn, nil
	}
	return (&net.Dialer{}).DialContext(ctx, l.network, l.address)
}

// LowerRungs returns the lower rungs of a part with a socket: alive, open, ours. network is "tcp" or "unix".
func LowerRungs(p kind.Part, network, address string) ([]kind.Rung, *SharedConn) {
	shared := &SharedConn{network: network, address: address}
	return []kind.Rung{
		Alive(p),
		{Name: kind.Open,
			Ask: func(ctx context.Context) (err error) {
				if shared.conn, err = shared.Take(ctx); err != nil {
					return &kind.Miss{Expected: "a socket that accepts at " + address, Got: Plain(err)}
				}
				return nil
			},
			After: func() {
				if shared.conn != nil {
					shared.conn.Close()
				}
			}},
		{Name: kind.Ours, Ask: func(context.Context) error {
			owns, err := run.Seen(p).Owns(network, address)
			if errors.Is(err, proc.ErrHidden) {
				return &kind.Miss{Expected: "the socket of this part's process at " + address, Untold: true,
					Got: "no word: " + err.Error()}
			}
			if err == nil && !owns {
				got := "another process's, whose answers do not count"
				if network == "tcp" {
					got = "that of " + proc.PortHolder(address).String() +
						", which this stack did not start: its answers do not count"
				}
				err = &kind.Miss{Expected: "the socket of this part's process at " + address, Got: got}
			}
			return err
		}},
	}, shared
}

// Alive returns the rung that asks whether any process of the part is alive.
func Alive(p kind.Part) kind.Rung {
	return kind.Rung{Name: kind.Alive, Ask: func(context.Context) error {
		if !run.Seen(p).Alive() {
			return &kind.Miss{Expected: "a running process", Got: "none"}
		}
		return nil
	}}
}

// LadderOf returns the rungs of a part. Where the stack runs no process for it, nothing asks for one.
func LadderOf(k kind.Kind, p kind.Part) []kind.Rung {
	ladder := k.Ladder(p)
	if run.Of(p).Offers().Process {
		return ladder
	}
	return slices.DeleteFunc(ladder, func(r kind.Rung) bool { return r.Name == kind.Alive || r.Name == kind.Ours })
}

// Plain returns a network error in a few words.
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

// Client returns an HTTP client that gets each connection from dial and closes it after one request. It follows no
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
