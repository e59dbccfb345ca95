package cause

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each identifier is documented, in the same order.
func TestCausesAreDocumented(t *testing.T) {
	find := func(file, words string) (all []string) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(words).FindAllStringSubmatch(string(text), -1) {
			all = append(all, m[1])
		}
		return all
	}
	assert.Equal(t, find("../../docs/causes.md", "(?m)^\\| `([a-z-]+)` \\|"), find("cause.go", `ID += "([a-z-]+)"`))
}
