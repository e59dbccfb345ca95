// Package sqltext splits the text of a dump into statements, as the client of its server would: in one pass, with
// bounded memory, and without obeying anything that the text says to a client.
package sqltext

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"dravit/internal/pattern"
)

// Syntax is how a server writes SQL, as far as the end of a statement depends on it.
type Syntax struct {
	Backslash bool // a backslash in '…' and "…" takes the next character along (MariaDB)
	Hash      bool // # begins a comment, and -- only before a space (MariaDB)
	Versioned bool // /*! and /*M! begin text that the server obeys, not a comment (MariaDB)
	Delimiter bool // the line "DELIMITER x" changes what ends a statement (client mariadb)
	Nested    bool // comments contain comments (PostgreSQL)
	Dollar    bool // $tag$ … $tag$ and E'…' are strings (PostgreSQL)
	Bodies    bool // BEGIN ATOMIC … END, and semicolons in parentheses (PostgreSQL)
	Commands  bool // a backslash at the beginning of a statement begins a command for the client (psql)
	Brackets  bool // […] is a name (SQLite)
	Triggers  bool // CREATE TRIGGER ends at the semicolon after END (SQLite, sqlite3_complete)
	Longest   int  // the longest statement, in bytes
}

// Statement is a statement without what ends it, or a command for a client, without its line break.
type Statement struct {
	Text    []byte // valid until the next call of the Scanner
	Line    int    // at which it begins, from 1
	Command bool   // see Syntax.Commands
}

// Scanner reads statements. Its methods must not be called at once.
type Scanner struct {
	// Escapes makes a backslash in '…' take the next character along, from the next statement on: a session of
	// PostgreSQL may ask for it (standard_conforming_strings).
	Escapes bool

	in        io.Reader
	syntax    Syntax
	buf       []byte // buf[start:] was read and not returned
	start     int
	pos       int // of the next byte to look at
	line      int // of buf[pos]
	delimiter []byte
	ended     error // of in
}

// New returns a scanner of a text.
func New(in io.Reader, s Syntax) *Scanner {
	return &Scanner{in: in, syntax: s, line: 1, delimiter: []byte(";"), buf: make([]byte, 0, 64<<10)}
}

// ErrTooLong says that a statement is longer than Syntax.Longest.
var ErrTooLong = errors.New("the statement is too long")

// more reads on. It reports whether there is more after buf.
func (s *Scanner) more() bool {
	if s.ended != nil {
		return false
	}
	if s.start > 0 {
		n := copy(s.buf, s.buf[s.start:])
		s.buf, s.pos, s.start = s.buf[:n], s.pos-s.start, 0
	}
	if len(s.buf) > s.syntax.Longest {
		s.ended = ErrTooLong
		return false
	}
	if len(s.buf) == cap(s.buf) {
		s.buf = append(make([]byte, 0, 2*cap(s.buf)), s.buf...)
	}
	n, err := s.in.Read(s.buf[len(s.buf):cap(s.buf)])
	s.buf = s.buf[:len(s.buf)+n]
	s.ended = err
	return n > 0 || err == nil
}

// at returns the byte that is n after the next one, or 0 at the end.
func (s *Scanner) at(n int) byte {
	for s.pos+n >= len(s.buf) {
		if !s.more() {
			return 0
		}
	}
	return s.buf[s.pos+n]
}

// end reports whether the text has ended.
func (s *Scanner) end() bool {
	for s.pos >= len(s.buf) {
		if !s.more() {
			return true
		}
	}
	return false
}

// step goes over n bytes, which were looked at.
func (s *Scanner) step(n int) {
	s.line += bytes.Count(s.buf[s.pos:s.pos+n], newLine)
	s.pos += n
}

var newLine = []byte("\n")

// Next returns the next statement. At the end of the text the error is io.EOF; another one is that of the reader or
// ErrTooLong, and names the line.
func (s *Scanner) Next() (Statement, error) {
	for {
		s.blanks()
		s.start = s.pos
		if s.end() {
			return Statement{}, s.failed(s.line)
		}
		line := s.line
		switch {
		case s.syntax.Commands && s.at(0) == '\\':
			text := s.restOfLine()
			return Statement{Text: text, Line: line, Command: true}, nil
		case s.syntax.Delimiter && s.begins("delimiter") && blank(s.at(len("delimiter"))):
			text := bytes.TrimSpace(s.restOfLine()[len("delimiter"):])
			if len(text) > 0 {
				s.delimiter = bytes.Clone(text)
			}
			continue
		}
		text, whole := s.statement()
		if !whole {
			return Statement{}, s.failed(line)
		}
		if len(bytes.TrimSpace(text)) == 0 {
			continue
		}
		return Statement{Text: text, Line: line}, nil
	}
}

// failed returns why there is no statement: io.EOF, or what the reader said, with the line.
func (s *Scanner) failed(line int) error {
	switch {
	case errors.Is(s.ended, io.EOF):
		return io.EOF
	case errors.Is(s.ended, ErrTooLong):
		return fmt.Errorf("line %d: %w", line, s.ended)
	}
	return fmt.Errorf("line %d: the dump breaks off: %w", line, s.ended)
}

func blank(c byte) bool {
	return c == ' ' || c == '\t' || c == '\r' || c == '\n' || c == '\f' || c == '\v'
}

// begins reports whether the next bytes are a word of small letters, in any case.
func (s *Scanner) begins(word string) bool {
	for i := range len(word) {
		if s.at(i)|0x20 != word[i] {
			return false
		}
	}
	return true
}

// blanks goes over blanks and comments.
func (s *Scanner) blanks() {
	for !s.end() {
		s.start = s.pos
		if blank(s.at(0)) {
			s.step(1)
		} else if !s.comment() {
			return
		}
	}
}

// restOfLine returns the bytes up to the next line break, over which it goes.
func (s *Scanner) restOfLine() []byte {
	for !s.end() && s.at(0) != '\n' {
		s.pos++
	}
	text := s.buf[s.start:s.pos]
	if !s.end() {
		text = s.buf[s.start:s.pos]
		s.step(1)
	}
	return bytes.TrimSuffix(text, []byte("\r"))
}

// comment goes over a comment, if one begins here.
func (s *Scanner) comment() bool {
	switch c := s.at(0); {
	case c == '-' && s.at(1) == '-' && (!s.syntax.Hash || blank(s.at(2)) || s.at(2) == 0), c == '#' && s.syntax.Hash:
		for !s.end() && s.at(0) != '\n' {
			s.pos++
		}
		return true
	case c == '/' && s.at(1) == '*':
		if s.syntax.Versioned && (s.at(2) == '!' || s.at(2) == 'M' && s.at(3) == '!') && !s.noVersion() {
			return false
		}
		s.step(2)
		for depth := 1; depth > 0 && !s.end(); {
			switch {
			case s.at(0) == '*' && s.at(1) == '/':
				s.step(2)
				depth--
			case s.syntax.Nested && s.at(0) == '/' && s.at(1) == '*':
				s.step(2)
				depth++
			default:
				s.step(1)
			}
		}
		return true
	}
	return false
}

// noVersion reports whether the text that begins here is for a version that no server has: a note for a client.
func (s *Scanner) noVersion() bool {
	s.at(len("/*M!999999"))
	return bytes.HasPrefix(s.buf[s.pos:], []byte("/*!999999")) || bytes.HasPrefix(s.buf[s.pos:], []byte("/*M!999999"))
}

// until goes to the next byte that is a or b, or to the end of the text.
func (s *Scanner) until(a, b byte) {
	for !s.end() {
		rest := s.buf[s.pos:]
		n := bytes.IndexByte(rest, a)
		if n < 0 {
			n = len(rest)
		}
		if b != a {
			if m := bytes.IndexByte(rest[:n], b); m >= 0 {
				n = m
			}
		}
		s.step(n)
		if n < len(rest) {
			return
		}
	}
}

// quoted goes over a text in quotes, which begins here. A doubled quote ends one text and begins another.
func (s *Scanner) quoted(quote byte, escapes bool) {
	s.step(1)
	other := quote
	if escapes {
		other = '\\'
	}
	for s.until(quote, other); !s.end() && s.at(0) == '\\' && escapes; s.until(quote, other) {
		s.step(1)
		if !s.end() {
			s.step(1)
		}
	}
	if !s.end() {
		s.step(1)
	}
}

// dollar goes over a text in dollar quotes, if one begins here.
func (s *Scanner) dollar() bool {
	n := 1
	for wordly(s.at(n)) && (n > 1 || s.at(n) < '0' || s.at(n) > '9') {
		n++
	}
	if s.at(n) != '$' {
		return false
	}
	tag := string(s.buf[s.pos : s.pos+n+1])
	s.step(n + 1)
	for s.until('$', '$'); !s.end(); s.until('$', '$') {
		s.at(len(tag) - 1) // reads on
		if bytes.HasPrefix(s.buf[s.pos:], []byte(tag)) {
			s.step(len(tag))
			return true
		}
		s.step(1)
	}
	return true
}

func wordly(c byte) bool { return isWordly[c] }

// isWordly are the bytes of words.
var isWordly = func() (is [256]bool) {
	for c := range is {
		is[c] = c == '_' || c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z' || c >= 0x80
	}
	return is
}()

// wordLength returns the length of the word that begins here.
func (s *Scanner) wordLength() int {
	n := 1
	for {
		for rest := s.buf[s.pos:]; n < len(rest); n++ {
			if !wordly(rest[n]) && (rest[n] != '$' || !s.syntax.Dollar) {
				return n
			}
		}
		if !s.more() {
			return n
		}
	}
}

// statement goes to the end of a statement, and over what ends it. The last one may have no such end; it is not whole
// if the reader failed.
func (s *Scanner) statement() (text []byte, whole bool) {
	var b body
	for {
		if s.end() {
			return s.buf[s.start:s.pos], errors.Is(s.ended, io.EOF)
		}
		c := s.at(0)
		if c == s.delimiter[0] && s.delimits() {
			if !s.within(&b) {
				text := s.buf[s.start:s.pos]
				s.step(len(s.delimiter))
				return text, true
			}
			s.step(1)
			continue
		}
		s.token(c, &b)
	}
}

// token goes over what begins with c.
func (s *Scanner) token(c byte, b *body) {
	y := s.syntax
	switch {
	case c == '\'' || c == '"':
		s.quoted(c, y.Backslash || s.Escapes && c == '\'')
		b.other()
	case c == '`':
		s.quoted(c, false)
		b.other()
	case c == '[' && y.Brackets:
		s.quoted(']', false)
		b.other()
	case c == '$' && y.Dollar && s.dollar(), s.comment():
	case y.Dollar && c|0x20 == 'e' && s.at(1) == '\'':
		s.step(1)
		s.quoted('\'', true)
	case wordly(c):
		n := s.wordLength()
		b.word(s.buf[s.pos : s.pos+n])
		s.pos += n
	default:
		switch {
		case c == '\n':
			s.line++
		case c == '(':
			b.parentheses++
		case c == ')':
			b.parentheses--
		}
		if !blank(c) {
			b.other()
		}
		s.pos++
	}
}

// delimits reports whether the next bytes end a statement, unless something stands around them.
func (s *Scanner) delimits() bool {
	s.at(len(s.delimiter) - 1) // reads on
	return bytes.HasPrefix(s.buf[s.pos:], s.delimiter)
}

// within reports whether a semicolon belongs to the statement.
func (s *Scanner) within(b *body) bool {
	switch {
	case s.syntax.Bodies:
		return b.parentheses > 0 || b.blocks > 0
	case s.syntax.Triggers:
		return b.semicolon()
	}
	return false
}

// Head returns the first words of a statement in upper case with one space between them, at most some 200 bytes,
// without comments: text that MariaDB runs by its version counts as its words.
func (s Statement) Head() string {
	text := s.Text[:min(len(s.Text), headSize)]
	text = comments().ReplaceAll(text, []byte(" "))
	text = versions().ReplaceAll(text, []byte(" "))
	return strings.ToUpper(strings.Join(strings.Fields(string(text)), " "))
}

const headSize = 200

var (
	comments = pattern.New(`(?s)/\*[^!M].*?\*/|--[ \t][^\n]*\n`)
	versions = pattern.New(`/\*M?!\d*|\*/`)
)
