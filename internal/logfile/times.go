package logfile

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"sort"
	"sync"
	"time"
)

// Programs write to their logs without Dravit between, and many write no time. So the keeper notes now and then how
// long a log is: what was written between two notes was written between their times.

// timesFile names the notes beside a log: pairs of the log's size, in bytes, and the time, in milliseconds since 1970.
func timesFile(log string) string { return log + ".times" }

const (
	noteSize  = 16      // bytes of a note
	mostNotes = 1 << 16 // of a log; then the older half is dropped
)

// Clock notes the times of logs.
type Clock struct {
	mu   sync.Mutex
	last map[string]int64 // sizes, by log
}

// Note notes that a log has its present size now, if it is another than before. A log that was shortened begins anew.
func (c *Clock) Note(log string, now time.Time) error {
	size := Size(log)
	c.mu.Lock()
	defer c.mu.Unlock()
	was, known := c.last[log]
	if size == was && known {
		return nil
	}
	if c.last == nil {
		c.last = map[string]int64{}
	}
	c.last[log] = size
	notes := readNotes(log)
	if n := len(notes); n > 0 && notes[n-1].size > size {
		notes = nil
	} else if n > 0 && notes[n-1].size == size {
		return nil
	}
	if len(notes) == 0 || len(notes) >= mostNotes {
		notes = append(notes[len(notes)/2:], note{size, now})
		var b []byte
		for _, x := range notes {
			b = x.append(b)
		}
		return os.WriteFile(timesFile(log), b, 0o600)
	}
	f, err := os.OpenFile(timesFile(log), os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(note{size, now}.append(nil))
	return errors.Join(err, f.Close())
}

type note struct {
	size int64
	at   time.Time
}

func (n note) append(b []byte) []byte {
	b = binary.LittleEndian.AppendUint64(b, uint64(n.size))
	return binary.LittleEndian.AppendUint64(b, uint64(n.at.UnixMilli()))
}

// readNotes returns the notes of a log, or nil if there are none, or they cannot be read: they only help.
func readNotes(log string) []note {
	b, err := os.ReadFile(timesFile(log))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var all []note
	for ; len(b) >= noteSize; b = b[noteSize:] {
		all = append(all, note{int64(binary.LittleEndian.Uint64(b)),
			time.UnixMilli(int64(binary.LittleEndian.Uint64(b[8:])))})
	}
	return all
}

// Line is a line of a log, without its end.
type Line struct {
	Text string
	At   time.Time // when it was written, to half a second; zero: unknown
}

// TailAt is Tail with the times of the lines.
func TailAt(log string, n int) (lines []Line, end int64, err error) {
	texts, end, err := Tail(log, n)
	if err != nil {
		return nil, end, err
	}
	notes := readNotes(log)
	lines = make([]Line, len(texts))
	after := end // of the line
	for i := len(texts) - 1; i >= 0; i-- {
		lines[i] = Line{Text: texts[i], At: timeOf(notes, after)}
		after -= int64(len(texts[i]) + 1)
	}
	return lines, end, nil
}

// timeOf returns when the byte before an offset was there first.
func timeOf(notes []note, offset int64) time.Time {
	i := sort.Search(len(notes), func(i int) bool { return notes[i].size >= offset })
	if i == len(notes) {
		return time.Time{}
	}
	return notes[i].at
}
