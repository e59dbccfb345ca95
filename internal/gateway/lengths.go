package gateway

import (
	"sort"
	"sync"
	"sync/atomic"
	"time"

	"dravit/internal/logfile"
	"dravit/internal/requests"
)

// lengths knows how long the logs of the parts behind the sites were at any moment of the last requests. It
// looks at the logs on its own while requests come, so that whoever answers them asks for nothing.
type lengths struct {
	file func(stackID, part string) string

	asked  atomic.Int64 // when a request came last, in nanoseconds of Unix time
	awake  atomic.Bool  // whether the logs are looked at
	waking chan struct{}

	mu   sync.Mutex // guards what follows
	logs map[string]*series

	stop    chan struct{}
	stopped sync.WaitGroup
}

// series is how long a log was: each length with the time at which it was seen first.
type series struct {
	file    string
	lengths []seenLength
}

type seenLength struct {
	at     int64 // in nanoseconds of Unix time
	length int64
}

const (
	lengthEvery = 3 * time.Millisecond // between two looks
	lengthsRest = 2 * time.Second      // after the last request nobody looks any more
	mostLengths = 4096                 // of a log that are kept
)

func newLengths(file func(stackID, part string) string) *lengths {
	l := &lengths{file: file, waking: make(chan struct{}, 1), logs: map[string]*series{}, stop: make(chan struct{})}
	l.stopped.Go(l.watch)
	return l
}

func (l *lengths) close() {
	close(l.stop)
	l.stopped.Wait()
}

// watch looks at the logs while requests come.
func (l *lengths) watch() {
	tick := time.NewTicker(lengthEvery)
	defer tick.Stop()
	for {
		if !l.awake.Load() {
			tick.Stop()
			select {
			case <-l.waking:
				tick.Reset(lengthEvery)
			case <-l.stop:
				return
			}
		}
		select {
		case <-tick.C:
			l.look()
			if l.rests() {
				l.awake.Store(false)
				if !l.rests() { // a request that came just now has seen the logs looked at
					l.awake.Store(true)
				}
			}
		case <-l.stop:
			return
		}
	}
}

// rests reports whether no request has come lately.
func (l *lengths) rests() bool { return time.Now().UnixNano()-l.asked.Load() > int64(lengthsRest) }

// look notes the lengths of all logs that have changed.
func (l *lengths) look() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range l.logs {
		length := logfile.Size(s.file)
		s.note(time.Now().UnixNano(), length) // the time after the look: what it saw was written before
	}
}

// note adds a length, if it is another one.
func (s *series) note(now, length int64) {
	n := len(s.lengths)
	if n > 0 && s.lengths[n-1].length == length {
		return
	}
	if n >= mostLengths {
		s.lengths = append(s.lengths[:0], s.lengths[n-mostLengths/2:]...)
	}
	s.lengths = append(s.lengths, seenLength{now, length})
}

// comes notes that a request for a target comes now. The first one after a rest looks at the logs itself: what was
// written in the meantime is none of it.
func (l *lengths) comes(to *target, now time.Time) {
	at := now.UnixNano()
	l.asked.Store(at)
	if l.awake.Load() && to.followed.Load() {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, part := range to.Behind {
		key := to.StackID + "/" + part
		if l.logs[key] == nil {
			l.logs[key] = &series{file: l.file(to.StackID, part)}
		}
	}
	for _, s := range l.logs {
		s.note(at, logfile.Size(s.file))
	}
	to.followed.Store(true)
	if l.awake.CompareAndSwap(false, true) {
		select {
		case l.waking <- struct{}{}:
		default:
		}
	}
}

// at returns how long a log was at a time: as the look before it saw it.
func (s *series) at(t int64) int64 {
	i := sort.Search(len(s.lengths), func(i int) bool { return s.lengths[i].at > t })
	if i == 0 {
		if len(s.lengths) == 0 {
			return 0
		}
		return s.lengths[0].length
	}
	return s.lengths[i-1].length
}

// fill adds to a request how long the logs were before and after it, if it failed, or if the server or the part behind
// it wrote something until a moment after it: what a runtime wrote may come later than what its server says of that.
func (l *lengths) fill(stackID string, behind []string, r *requests.Request) {
	came, ended := r.At.UnixNano(), r.Ended().Add(2*lengthEvery).UnixNano()
	l.mu.Lock()
	defer l.mu.Unlock()
	if !r.Failed() && !l.grew(stackID, r.App, came, ended) && !l.grew(stackID, r.Server, came, ended) {
		return
	}
	r.From, r.To = make(map[string]int64, len(behind)), make(map[string]int64, len(behind))
	for _, part := range behind {
		if s := l.logs[stackID+"/"+part]; s != nil {
			r.From[part], r.To[part] = s.at(came), s.at(ended)
			if late := s.at(ended + int64(requests.Settles)); late > r.To[part] {
				if r.Late == nil {
					r.Late = map[string]int64{}
				}
				r.Late[part] = late
			}
		}
	}
}

// grew reports whether the log of a part got longer while a request was answered, or a moment later. The caller holds
// mu.
func (l *lengths) grew(stackID, part string, came, ended int64) bool {
	s := l.logs[stackID+"/"+part]
	return s != nil && s.at(came) != s.at(ended+int64(requests.Settles))
}
