package dump

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"slices"
)

// longest is the longest line that is edited, in bytes. Longer ones are rows.
const longest = 64 << 10

// Edit returns a reader of SQL in which edit has had each line of r, with its line break, in its hands: what edit
// returns takes its place. A line that edit takes out must leave its line break, so that line numbers stay. Lines that
// are longer than 64 KB pass by.
func Edit(r io.Reader, edit func(line []byte) []byte) io.Reader {
	return &editor{in: bufio.NewReaderSize(r, longest), edit: edit}
}

type editor struct {
	in    *bufio.Reader
	edit  func([]byte) []byte
	rest  []byte // what was read and not yet returned
	long  bool   // rest was the beginning of a long line
	ended error
}

func (e *editor) Read(p []byte) (int, error) {
	for len(e.rest) == 0 {
		if e.ended != nil {
			return 0, e.ended
		}
		line, err := e.in.ReadSlice('\n')
		within := e.long
		e.long = errors.Is(err, bufio.ErrBufferFull)
		if err != nil && !e.long {
			e.ended = err
		}
		if e.rest = line; !within && !e.long && len(line) > 0 {
			e.rest = e.edit(line)
		}
	}
	n := copy(p, e.rest)
	e.rest = e.rest[n:]
	return n, nil
}

// Blank returns the line break of a line.
func Blank(line []byte) []byte {
	if bytes.HasSuffix(line, []byte("\n")) {
		return line[len(line)-1:]
	}
	return nil
}

// Left collects what was left out of a dump, each thing once, in the order in which it came.
type Left struct{ Out []string }

// Note adds a thing.
func (l *Left) Note(thing string) {
	const most = 20 // a dump may name thousands of owners
	if len(l.Out) < most && !slices.Contains(l.Out, thing) {
		l.Out = append(l.Out, thing)
	}
}
