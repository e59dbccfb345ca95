package gateway

import (
	"errors"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"dravit/internal/health"
	"dravit/internal/logfile"
	"dravit/internal/requests"
)

// noted is an answer whose status and length are noted for the log of requests.
type noted struct {
	http.ResponseWriter
	status int
	bytes  int64
}

func (n *noted) WriteHeader(status int) {
	if n.status == 0 && status >= http.StatusOK {
		n.status = status
	}
	n.ResponseWriter.WriteHeader(status)
}

func (n *noted) Write(b []byte) (int, error) {
	if n.status == 0 {
		n.status = http.StatusOK
	}
	written, err := n.ResponseWriter.Write(b)
	n.bytes += int64(written)
	return written, err
}

// Unwrap lets http.ResponseController reach the connection.
func (n *noted) Unwrap() http.ResponseWriter { return n.ResponseWriter }

// lengths are how long the logs of the parts behind a site are. They are asked again after lengthsLast, or when an
// answer has ended, so that many requests at once share what is known.
type lengths struct {
	mu    sync.Mutex
	at    time.Time
	of    map[string]int64 // by part; never changed once it is there
	ended int64            // how many answers had ended then
	count atomic.Int64     // of the answers that have ended
}

// lengthsLast is how long a length counts as that of now: what is written in this time may be taken for that of a
// request which came just after it.
const lengthsLast = 5 * time.Millisecond

// logLengths returns how long the logs are of the parts behind a site, by part.
func (to *target) logLengths(now time.Time, logs func(stackID, part string) string) map[string]int64 {
	l := &to.lengths
	l.mu.Lock()
	defer l.mu.Unlock()
	ended := l.count.Load()
	if l.of == nil || l.ended != ended || now.Sub(l.at) > lengthsLast {
		of := make(map[string]int64, len(to.Behind))
		for _, part := range to.Behind {
			of[part] = logfile.Size(logs(to.StackID, part))
		}
		l.of, l.at, l.ended = of, now, ended
	}
	return l.of
}

// plain reports whether anybody who asks the same gets the same answer, as far as the request tells.
func plain(r *http.Request) bool {
	return r.URL.RawQuery == "" && r.Header["Cookie"] == nil && r.Header["Authorization"] == nil && r.ContentLength == 0
}

// follow has a request answered by do, and notes it in the log of its stack. Dravit's own checks are not noted.
func (t *table) follow(w http.ResponseWriter, r *http.Request, to *target, do func(w http.ResponseWriter)) {
	asks := r.Header.Get(health.CheckHeader)
	if t.log == nil || to.Private || asks == health.Checks {
		do(w)
		return
	}
	came := time.Now()
	from := to.logLengths(came, t.logs)
	n := &noted{ResponseWriter: w}
	defer func() {
		broke := recover()
		x := requests.Request{At: came, Site: to.Site, Method: r.Method, Path: r.URL.Path, Status: n.status,
			Bytes: n.bytes, MS: float64(time.Since(came).Microseconds()) / 1000, Server: to.Server, App: to.App,
			Left: r.Context().Err() != nil, Again: asks == health.Again, Plain: plain(r)}
		if n.status == 0 && r.Header["Upgrade"] != nil && broke == nil {
			x.Status = http.StatusSwitchingProtocols // the connection was taken over
		}
		if err, ok := broke.(error); ok && errors.Is(err, http.ErrAbortHandler) {
			x.Status = 0
		}
		if x.Failed() || to.Buffered || to.App != "" && logfile.Size(t.logs(to.StackID, to.App)) != from[to.App] {
			x.From = from
			x.To = make(map[string]int64, len(to.Behind))
			for _, part := range to.Behind {
				x.To[part] = logfile.Size(t.logs(to.StackID, part))
			}
		}
		to.lengths.count.Add(1)
		t.log.Add(to.StackID, x)
		if broke != nil {
			panic(broke)
		}
	}()
	do(n)
}
