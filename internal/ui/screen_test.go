package ui

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestScreenLetsOwnSequencesThrough(t *testing.T) {
	var out bytes.Buffer
	u := &UI{Out: screen{&out}}
	u.say(u.paint(red, "low tide") + " " + u.dim("x"))
	assert.Equal(t, "\x1b[31mlow tide\x1b[0m \x1b[38;5;8mx\x1b[0m\n", out.String())
	out.Reset()
	u.say(eraseLine() + control("?25", "l"))
	assert.Equal(t, "\x1b[G\x1b[K\x1b[?25l\n", out.String())
}

func TestScreenStopsControlCharacters(t *testing.T) {
	for in, want := range map[string]string{
		"\x1b]0;title\x07x": "]0;titlex", "\x1b[31mred": "[31mred", "a\rb": "ab", "a\bb": "ab",
		"\u009b31m": "31m", "\x7f": "",
		"Fähre\tat\nnoon": "Fähre\tat\nnoon", "\u202eabc": "abc", "\x1b[31;1mx": "[31;1mx",
		"\x1b[31;123456789m": "[31;123456789m",
	} {
		var out bytes.Buffer
		n, err := screen{&out}.Write([]byte(in))
		assert.NoError(t, err)
		assert.Equal(t, len(in), n, "all of it was taken")
		assert.Equal(t, want, out.String())
	}
}
