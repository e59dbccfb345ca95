package ui

import (
	"crypto/rand"
	"fmt"
	"io"
	"math/big"
	"regexp"
	"strings"
	"sync"
)

// Results contain texts of repositories, logs and other programs. A control character in them could change the
// terminal's title, hide what follows, or type for the user. So all output passes through a screen, which lets only
// Dravit's own sequences through: they carry a number that other programs do not know.

// ticket is the number in the sequences of this process.
var ticket = sync.OnceValue(func() string {
	n, err := rand.Int(rand.Reader, big.NewInt(900_000_000))
	if err != nil {
		return "" // no sequence passes: no colours
	}
	return fmt.Sprint(100_000_000 + n.Int64())
})

// style encloses a text between a sequence (ECMA-48 SGR) and the one that ends it.
func style(sgr, text string) string {
	return control(sgr, "m") + text + control("0", "m")
}

// control is a control sequence (ECMA-48 CSI) with its parameters and its last letter.
func control(parameters, final string) string { return "\x1b[" + parameters + ";" + ticket() + final }

// own matches Dravit's own sequences.
var own = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile("\x1b\\[([?0-9;]*);" + ticket() + "([A-Za-z])")
})

// eraseLine goes back to the line's first column and erases what is there.
func eraseLine() string { return control("", "G") + control("", "K") }

// screen is a writer that removes control characters other than Dravit's own.
type screen struct{ w io.Writer }

func (s screen) Write(p []byte) (int, error) {
	text := string(p)
	var b strings.Builder
	at := 0
	for _, m := range own().FindAllStringSubmatchIndex(text, -1) {
		b.WriteString(printable(text[at:m[0]]))
		b.WriteString("\x1b[" + text[m[2]:m[3]] + text[m[4]:m[5]])
		at = m[1]
	}
	b.WriteString(printable(text[at:]))
	if _, err := io.WriteString(s.w, b.String()); err != nil {
		return 0, err
	}
	return len(p), nil
}

// printable removes from a text what controls a terminal: control characters other than line ends and tabs (C0, C1,
// DEL), and the marks that reverse the order of letters.
func printable(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n', r == '\t':
			return r
		case r < ' ', r >= 0x7f && r < 0xa0:
			return -1
		case r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
			return -1
		}
		return r
	}, text)
}
