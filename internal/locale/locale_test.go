package locale

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPick(t *testing.T) {
	for _, c := range []struct {
		system, list string
		listed, mac  bool
		want         string
	}{
		{"Debian", "C\nC.utf8\nPOSIX\n", true, false, "C.UTF-8"},
		{"Fedora", "C\nC.UTF-8\nen_US.utf8\nPOSIX\n", true, false, "C.UTF-8"},
		{"an older one, without C.UTF-8", "C\nPOSIX\nde_DE.utf8\nen_US.utf8\n", true, false, "en_US.UTF-8"},
		{"one with no locales", "C\nPOSIX\n", true, false, "C"},
		{"Alpine, without locale(1)", "", false, false, "C.UTF-8"},
		{"macOS", "C\nPOSIX\nen_GB.UTF-8\nen_US.UTF-8\n", true, true, "en_US.UTF-8"},
	} {
		assert.Equal(t, c.want, pick(c.list, c.listed, c.mac), c.system)
	}
}
