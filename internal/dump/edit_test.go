package dump

import (
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEditKeepsLinesAndLongRows(t *testing.T) {
	long := strings.Repeat("x", 3*longest)
	text := "one\ntwo\n" + long + "two\nlast two"
	for name, r := range map[string]io.Reader{
		"whole":        strings.NewReader(text),
		"in halves":    iotest.HalfReader(strings.NewReader(text)),
		"byte by byte": iotest.OneByteReader(strings.NewReader(text)),
	} {
		got, err := io.ReadAll(iotest.OneByteReader(Edit(r, func(line []byte) []byte {
			if strings.HasPrefix(string(line), "two") {
				return Blank(line)
			}
			return []byte(strings.ReplaceAll(string(line), "last", "LAST"))
		})))
		require.NoError(t, err, name)
		assert.Equal(t, "one\n\n"+long+"two\nLAST two", string(got), name)
	}
	_, err := io.ReadAll(Edit(iotest.TimeoutReader(strings.NewReader(text)), func(line []byte) []byte { return line }))
	assert.ErrorIs(t, err, iotest.ErrTimeout, "an error of the source is passed on")
}

func TestLeft(t *testing.T) {
	var l Left
	for range 3 {
		l.Note("an owner")
	}
	for i := range 50 {
		l.Note(strings.Repeat("o", i))
	}
	assert.Len(t, l.Out, 20)
	assert.Equal(t, "an owner", l.Out[0])
}
