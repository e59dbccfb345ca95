package dump

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

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
