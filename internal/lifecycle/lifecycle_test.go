package lifecycle

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A stack's state is its worst part's.
func TestWorse(t *testing.T) {
	order := []State{Answers, Asleep, Stopped, Stopping, Starting, Waiting, Pausing, Unwell, Failed}
	for i, a := range order {
		for j, b := range order {
			assert.Equal(t, order[max(i, j)], Worse(a, b), "%s %s", a, b)
		}
	}
}
