package requests

import (
	"log/slog"
	"os"
	"strconv"
	"sync"
	"time"
	"unicode/utf8"
)

const (
	flushEvery = 100 * time.Millisecond // between two writes
	maxPending = 50_000                 // requests of a stack that wait for their writing; more of them are left out
	maxLog     = 8 << 20                // a longer log is rotated, in bytes
	rotated    = ".1"                   // the end of the name of the log before

	// Settles is how long after an answer what was written for it may reach the logs. A request is noted then.
	Settles = 150 * time.Millisecond
)

// Log writes requests to the logs of their stacks, from a goroutine of its own: whoever answers requests waits for no
// disk. The zero value is no log; use NewLog.
type Log struct {
	file func(stackID string) string // where a stack's log is; see File
	// fill adds From and To to a request; behind are the parts whose logs count.
	fill func(stackID string, behind []string, r *Request)

	mu      sync.Mutex // guards what follows; nothing waits while it is held
	pending map[string][]noted
	spare   map[string][]noted // buffers to use again
	left    map[string]int     // how many were left out, by stack

	stop    chan struct{}
	stopped sync.WaitGroup
}

// noted is a request that waits for its writing.
type noted struct {
	Request
	behind []string
}

// NewLog returns a log that writes until it is closed.
func NewLog(file func(stackID string) string, fill func(stackID string, behind []string, r *Request)) *Log {
	l := &Log{file: file, fill: fill, pending: map[string][]noted{}, spare: map[string][]noted{},
		left: map[string]int{}, stop: make(chan struct{})}
	l.stopped.Go(func() {
		tick := time.NewTicker(flushEvery)
		defer tick.Stop()
		for {
			select {
			case now := <-tick.C:
				l.flush(now.Add(-Settles))
			case <-l.stop:
				l.flush(time.Time{})
				return
			}
		}
	})
	return l
}

// Add takes a request. behind are the parts whose logs may say why it failed. It never waits.
func (l *Log) Add(stackID string, behind []string, r Request) {
	if len(r.Path) > maxPath {
		r.Path = r.Path[:maxPath]
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.pending[stackID]) >= maxPending {
		l.left[stackID]++
		return
	}
	l.pending[stackID] = append(l.pending[stackID], noted{r, behind})
}

// Close writes what is pending, and ends the log.
func (l *Log) Close() {
	close(l.stop)
	l.stopped.Wait()
}

// flush writes the requests that had ended before a time; zero: all. What cannot be written is lost: the disk may be
// full.
func (l *Log) flush(before time.Time) {
	l.mu.Lock()
	due, left := map[string][]noted{}, l.left
	for id, all := range l.pending { // in the order of their ends
		n := len(all)
		for n > 0 && !before.IsZero() && all[n-1].Ended().After(before) {
			n--
		}
		if n > 0 {
			due[id] = all[:n:n]
			l.pending[id] = append(l.spare[id][:0], all[n:]...)
			delete(l.spare, id)
		}
	}
	l.left = map[string]int{}
	l.mu.Unlock()
	for id, all := range due {
		if l.fill != nil {
			for i := range all {
				l.fill(id, all[i].behind, &all[i].Request)
			}
		}
		if err := write(l.file(id), all); err != nil {
			slog.Debug("the log of requests cannot be written", "stack", id, "error", err)
		}
		if n := left[id]; n > 0 {
			slog.Warn("requests were left out of the log: more came than can be written", "stack", id, "requests", n)
		}
		clear(all)
		l.mu.Lock()
		if len(l.pending[id]) == 0 {
			delete(l.pending, id) // a stack that nobody asks keeps no buffer
		} else if l.spare != nil {
			l.spare[id] = all[:0]
		}
		l.mu.Unlock()
	}
}

// write appends to a log, and rotates it when it is too long. It creates no folder: a stack without one is gone.
func write(file string, all []noted) error {
	var text []byte
	for _, r := range all {
		text = r.append(text)
	}
	if info, err := os.Stat(file); err == nil && info.Size() > maxLog {
		if err := os.Rename(file, file+rotated); err != nil {
			return err
		}
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.Write(text)
	return err
}

// append adds the request as a line of JSON (RFC 8259). There are thousands a second, which encoding/json would make a
// tenth of the gateway's work.
func (r Request) append(b []byte) []byte {
	b = append(b, `{"at":"`...)
	b = r.At.AppendFormat(b, time.RFC3339Nano)
	b = appendText(append(b, `","site":`...), r.Site)
	b = appendText(append(b, `,"method":`...), r.Method)
	b = appendText(append(b, `,"path":`...), r.Path)
	b = strconv.AppendInt(append(b, `,"status":`...), int64(r.Status), 10)
	b = strconv.AppendInt(append(b, `,"bytes":`...), r.Bytes, 10)
	b = strconv.AppendFloat(append(b, `,"ms":`...), r.MS, 'f', -1, 64)
	b = appendText(append(b, `,"server":`...), r.Server)
	if r.App != "" {
		b = appendText(append(b, `,"app":`...), r.App)
	}
	for _, x := range []struct {
		name string
		is   bool
	}{{"left", r.Left}, {"plain", r.Plain}, {"again", r.Again}} {
		if x.is {
			b = append(append(append(b, `,"`...), x.name...), `":true`...)
		}
	}
	b = appendLengths(b, `,"from":{`, r.From)
	b = appendLengths(b, `,"to":{`, r.To)
	b = appendLengths(b, `,"late":{`, r.Late)
	return append(b, "}\n"...)
}

func appendLengths(b []byte, head string, lengths map[string]int64) []byte {
	if len(lengths) == 0 {
		return b
	}
	b = append(b, head...)
	first := true
	for part, n := range lengths {
		if !first {
			b = append(b, ',')
		}
		first = false
		b = strconv.AppendInt(append(appendText(b, part), ':'), n, 10)
	}
	return append(b, '}')
}

// appendText adds a text as a string of JSON. What is no UTF-8 becomes U+FFFD.
func appendText(b []byte, text string) []byte {
	b = append(b, '"')
	for _, c := range text {
		switch {
		case c == '"' || c == '\\':
			b = append(b, '\\', byte(c))
		case c < ' ' || c == 0x7f:
			const hex = "0123456789abcdef"
			b = append(b, '\\', 'u', '0', '0', hex[c>>4], hex[c&15])
		default:
			b = utf8.AppendRune(b, c)
		}
	}
	return append(b, '"')
}
