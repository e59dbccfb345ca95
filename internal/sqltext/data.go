package sqltext

import (
	"bytes"
	"io"
)

// Data returns the lines after the last statement, up to the line \. that ends the rows of a COPY (postgresql.org,
// "COPY"), without that one. It must be read to its end before the next call of Next; a Scanner has no rows beyond it.
func (s *Scanner) Data() io.Reader {
	if s.at(0) == '\r' {
		s.step(1)
	}
	if s.at(0) == '\n' { // of the statement's line
		s.step(1)
	}
	s.start = s.pos
	return &rows{s: s, begins: true}
}

type rows struct {
	s      *Scanner
	begins bool // a line begins
	done   bool
}

func (r *rows) Read(p []byte) (int, error) {
	s := r.s
	if r.done {
		return 0, io.EOF
	}
	s.start = s.pos
	if s.end() {
		r.done = true
		return 0, s.failed(s.line)
	}
	if r.begins && s.at(0) == '\\' && s.at(1) == '.' && (s.at(2) == '\n' || s.at(2) == '\r' || s.at(2) == 0) {
		s.start = s.pos
		s.restOfLine()
		r.done = true
		return 0, io.EOF
	}
	n := min(len(s.buf)-s.pos, len(p))
	// Only a whole line may be followed by the end: stop after the last line break.
	if i := bytes.LastIndexByte(s.buf[s.pos:s.pos+n], '\n'); i >= 0 {
		n = i + 1
		if j := bytes.Index(s.buf[s.pos:s.pos+n], []byte("\n\\.")); j >= 0 {
			n = j + 1
		}
	}
	copy(p, s.buf[s.pos:s.pos+n])
	r.begins = s.buf[s.pos+n-1] == '\n'
	s.step(n)
	return n, nil
}
