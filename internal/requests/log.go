package requests

import (
	"bytes"
	"encoding/json"
	"log/slog"
	"os"
	"sync"
	"time"
)

const (
	flushEvery = 100 * time.Millisecond // between two writes
	maxPending = 20_000                 // requests of a stack that wait for their writing; more of them are left out
	maxLog     = 8 << 20                // a longer log is rotated, in bytes
	rotated    = ".1"                   // the end of the name of the log before
)

// Log writes requests to the logs of their stacks, from a goroutine of its own: whoever answers requests waits for no
// disk. The zero value is no log; use NewLog.
type Log struct {
	file func(stackID string) string // where a stack's log is; see File

	mu      sync.Mutex // guards what follows; nothing waits while it is held
	pending map[string][]Request
	left    map[string]int // how many were left out, by stack

	stop    chan struct{}
	stopped sync.WaitGroup
}

// NewLog returns a log that writes until it is closed.
func NewLog(file func(stackID string) string) *Log {
	l := &Log{file: file, pending: map[string][]Request{}, left: map[string]int{}, stop: make(chan struct{})}
	l.stopped.Go(func() {
		tick := time.NewTicker(flushEvery)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				l.flush()
			case <-l.stop:
				l.flush()
				return
			}
		}
	})
	return l
}

// Add takes a request. It never waits.
func (l *Log) Add(stackID string, r Request) {
	if len(r.Path) > maxPath {
		r.Path = r.Path[:maxPath]
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.pending[stackID]) >= maxPending {
		l.left[stackID]++
		return
	}
	l.pending[stackID] = append(l.pending[stackID], r)
}

// Close writes what is pending, and ends the log.
func (l *Log) Close() {
	close(l.stop)
	l.stopped.Wait()
}

// flush writes what is pending. What cannot be written is lost: the disk may be full.
func (l *Log) flush() {
	l.mu.Lock()
	pending, left := l.pending, l.left
	l.pending, l.left = make(map[string][]Request, len(pending)), map[string]int{}
	l.mu.Unlock()
	for id, all := range pending {
		if err := write(l.file(id), all); err != nil {
			slog.Debug("the log of requests cannot be written", "stack", id, "error", err)
		}
		if n := left[id]; n > 0 {
			slog.Warn("requests were left out of the log: more came than can be written", "stack", id, "requests", n)
		}
	}
}

// write appends to a log, and rotates it when it is too long. It creates no folder: a stack without one is gone.
func write(file string, all []Request) error {
	var text bytes.Buffer
	out := json.NewEncoder(&text)
	out.SetEscapeHTML(false)
	for _, r := range all {
		if err := out.Encode(r); err != nil {
			return err
		}
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
	_, err = f.Write(text.Bytes())
	return err
}
