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

func TestTakes(t *testing.T) {
	ways := Beginnings{{"GRANT ", "rights"}, {"FLUSH PRIVILEGES", ""}}
	var l Left
	for head, want := range map[string]bool{"GRANT": true, "GRANTED X": false, "GRANT ALL ON X": true,
		"FLUSH PRIVILEGES": true, "SELECT GRANT ": false} {
		assert.Equal(t, want, l.Takes(head, ways), head)
	}
	assert.Equal(t, []string{"rights"}, l.Out)
}
