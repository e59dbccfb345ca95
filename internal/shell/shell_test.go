package shell

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A shell reads each word as it was, whatever is in it.
func TestJoin(t *testing.T) {
	for _, words := range [][]string{
		{"plain", "/usr/bin/env", "a=b", "50%", "x@y"},
		{"", " ", "two words", "it's", "'", `"`, `\`, "$HOME", "`id`", "a;b", "a|b", "a&b", "*", "~",
			"#", "!", "a\nb", "ü", "-n"},
	} {
		out, err := exec.Command("/bin/sh", "-c", "printf '%s\\0' "+Join(words...)).Output()
		require.NoError(t, err)
		want := ""
		for _, w := range words {
			want += w + "\x00"
		}
		assert.Equal(t, want, string(out))
	}
	assert.Equal(t, "php -r 'echo 1;'", Join("php", "-r", "echo 1;"), "quotes only where they are needed")
}
