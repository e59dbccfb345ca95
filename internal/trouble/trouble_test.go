package trouble

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCodeOfFindsTroubleInAChain(t *testing.T) {
	err := fmt.Errorf("starting db: %w", &Trouble{Code: PortTaken, What: "port 5432 is taken", Because: "postgres has it"})
	assert.Equal(t, PortTaken, CodeOf(err))
	assert.EqualError(t, err, "starting db: port 5432 is taken: postgres has it")
	assert.EqualError(t, &Trouble{What: "low tide"}, "low tide")
	assert.Empty(t, CodeOf(errors.New("port 5432 is taken")), "a sentence is no code")
	assert.Empty(t, CodeOf(nil))
}
