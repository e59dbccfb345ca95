package gateway

import (
	"errors"
	"net/http"
	"sync"
	"time"

	"dravit/internal/health"
	"dravit/internal/requests"
)

// noted is an answer whose status and length are noted for the log of requests.
type noted struct {
	http.ResponseWriter
	status int
	bytes  int64
	came   time.Time
	asks   string // what Dravit itself asks for; see health.CheckHeader
}

var notedPool = sync.Pool{New: func() any { return &noted{} }}

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

// plain reports whether anybody who asks the same gets the same answer, as far as the request tells.
func plain(r *http.Request) bool {
	return r.URL.RawQuery == "" && r.Header["Cookie"] == nil && r.Header["Authorization"] == nil && r.ContentLength == 0
}

// follow has a request answered by do, and notes it in the log of its stack. Dravit's own checks are not noted.
func (t *table) follow(w http.ResponseWriter, r *http.Request, to *target,
	do func(*table, http.ResponseWriter, *http.Request, *target)) {
	asks := ""
	if values := r.Header[health.CheckHeader]; len(values) > 0 {
		asks = values[0]
	}
	if t.log == nil || to.Private || asks == health.Checks {
		do(t, w, r, to)
		return
	}
	n := notedPool.Get().(*noted)
	*n = noted{ResponseWriter: w, came: time.Now(), asks: asks}
	t.lengths.comes(to, n.came)
	defer t.note(n, r, to)
	do(t, n, r, to)
}

// note adds a request to the log when its answer has ended. It is deferred, and passes a panic on.
func (t *table) note(n *noted, r *http.Request, to *target) {
	broke := recover()
	x := requests.Request{At: n.came, Site: to.Site, Method: r.Method, Path: r.URL.Path, Status: n.status,
		Bytes: n.bytes, MS: float64(time.Since(n.came).Microseconds()) / 1000, Server: to.Server, App: to.App,
		Left: r.Context().Err() != nil, Again: n.asks == health.Again, Plain: plain(r)}
	*n = noted{}
	notedPool.Put(n)
	if x.Status == 0 && r.Header["Upgrade"] != nil && broke == nil {
		x.Status = http.StatusSwitchingProtocols // the connection was taken over
	}
	if err, ok := broke.(error); ok && errors.Is(err, http.ErrAbortHandler) {
		x.Status = 0
	}
	t.log.Add(to.StackID, to.Behind, x)
	if broke != nil {
		panic(broke)
	}
}
