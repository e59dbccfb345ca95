package stack

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/debian"
)

// A source without suites has those that this machine's own client has there.
func TestSuitesOfTheMachine(t *testing.T) {
	own := []debian.Source{{Address: "http://deb.example/debian", Suite: "bookworm"},
		{Address: "http://deb.example/debian/", Suite: "bookworm-updates"},
		{Address: "http://deb.example/security", Suite: "bookworm-security"}}
	assert.Equal(t, []string{"bookworm", "bookworm-updates"}, suitesOf(own, ""))
	assert.Equal(t, []string{"bookworm-security"}, suitesOf(own, "http://deb.example/security/"))
	assert.Equal(t, []string{"bookworm", "bookworm-updates"}, suitesOf(own, "http://mirror.example/debian"))
	assert.Empty(t, suitesOf(nil, "http://mirror.example/debian"))
}
