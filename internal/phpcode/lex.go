package phpcode

import (
	"bytes"
	"strings"
)

// sort is what a token is.
type sort int

const (
	end      sort = iota // the end of the source
	word                 // a name, with its backslashes: Tide\Table
	variable             // with its dollar sign
	text                 // a string without its quotes, as it is written
	sign                 // an operator or a bracket; "->", "?->" and "::" are one
)

type token struct {
	sort sort
	text string
	line int
}

// lexer splits PHP into tokens (php.net, "List of Parser Tokens"), as far as Scan needs them apart.
type lexer struct {
	src  []byte
	at   int
	line int
	html bool // outside of <?php ... ?>
}

// skip moves on by n bytes, and counts the lines.
func (l *lexer) skip(n int) {
	n = min(n, len(l.src)-l.at)
	l.line += bytes.Count(l.src[l.at:l.at+n], []byte{'\n'})
	l.at += n
}

// until moves behind the next mark, or to the end of the source, and returns what stands before it.
func (l *lexer) until(mark string) string {
	rest := l.src[l.at:]
	n := bytes.Index(rest, []byte(mark))
	if n < 0 {
		l.skip(len(rest))
		return string(rest)
	}
	l.skip(n + len(mark))
	return string(rest[:n])
}

func (l *lexer) begins(mark string) bool { return bytes.HasPrefix(l.src[l.at:], []byte(mark)) }

// next returns the next token. Comments, numbers and what is outside of PHP are left out.
func (l *lexer) next() token {
	for l.at < len(l.src) {
		if l.html {
			l.until("<?")
			l.html = false
			for _, opening := range []string{"php", "="} {
				if l.begins(opening) {
					l.skip(len(opening))
				}
			}
			continue
		}
		c := l.src[l.at]
		switch {
		case l.begins("?>"):
			l.skip(2)
			l.html = true
			return token{sign, ";", l.line}
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			l.skip(1)
		case c >= '0' && c <= '9':
			l.word() // with the letters of 0x1f and 1.5e3
		case l.begins("/*"):
			l.skip(2)
			l.until("*/")
		case l.begins("//") || c == '#' && !l.begins("#["):
			l.comment()
		default:
			return l.token(c)
		}
	}
	return token{sort: end, line: l.line}
}

// comment skips a comment that ends with the line or with PHP.
func (l *lexer) comment() {
	rest := l.src[l.at:]
	n := bytes.IndexByte(rest, '\n')
	if n < 0 {
		n = len(rest)
	}
	if closing := bytes.Index(rest[:n], []byte("?>")); closing >= 0 {
		n = closing
	}
	l.skip(n)
}

// token returns the token that begins with c.
func (l *lexer) token(c byte) token {
	line := l.line
	switch {
	case c == '\'' || c == '"' || c == '`':
		return token{text, l.quoted(c), line}
	case l.begins("<<<"):
		if s, ok := l.heredoc(); ok {
			return token{text, s, line}
		}
	case c == '$' && l.at+1 < len(l.src) && letter(l.src[l.at+1]):
		l.skip(1)
		return token{variable, "$" + l.word(), line}
	case letter(c) || c == '\\':
		return token{word, l.word(), line}
	}
	for _, s := range []string{"?->", "->", "::"} {
		if l.begins(s) {
			l.skip(len(s))
			return token{sign, s, line}
		}
	}
	l.skip(1)
	return token{sign, string(c), line}
}

func letter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= 0x80
}

func (l *lexer) word() string {
	from := l.at
	for l.at < len(l.src) {
		if c := l.src[l.at]; !letter(c) && c != '\\' && (c < '0' || c > '9') {
			break
		}
		l.at++
	}
	return string(l.src[from:l.at])
}

// quoted returns what is between two quotes. In double quotes, an expression in braces may hold further quotes.
func (l *lexer) quoted(quote byte) string {
	l.skip(1)
	from, depth := l.at, 0
	for l.at < len(l.src) {
		switch c := l.src[l.at]; {
		case c == '\\':
			l.skip(1)
		case quote == '"' && c == '{' && (depth > 0 || l.begins("{$")):
			depth++
		case c == '}' && depth > 0:
			depth--
		case c == quote && depth == 0:
			l.skip(1)
			return string(l.src[from : l.at-1])
		}
		l.skip(1)
	}
	return string(l.src[from:l.at])
}

// heredoc returns the text of a heredoc or nowdoc (php.net, "Strings"), and whether there is one here.
func (l *lexer) heredoc() (string, bool) {
	rest := l.src[l.at+3:]
	n := bytes.IndexByte(rest, '\n')
	if n < 0 {
		return "", false
	}
	label := strings.Trim(strings.TrimSpace(string(rest[:n])), `"'`)
	if label == "" || !letter(label[0]) {
		return "", false
	}
	l.skip(3 + n + 1)
	from := l.at
	for l.at < len(l.src) {
		line := l.src[l.at:]
		if n := bytes.IndexByte(line, '\n'); n >= 0 {
			line = line[:n+1]
		}
		trimmed := bytes.TrimLeft(line, " \t")
		if bytes.HasPrefix(trimmed, []byte(label)) &&
			(len(trimmed) == len(label) || !letter(trimmed[len(label)])) {
			s := string(l.src[from:l.at])
			l.skip(len(line) - len(trimmed) + len(label))
			return s, true
		}
		l.skip(len(line))
	}
	return string(l.src[from:]), true
}
