package locale

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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

func TestInstalled(t *testing.T) {
	for _, name := range []string{"C.utf8", "C.UTF-8"} {
		dir := t.TempDir()
		assert.False(t, installed(dir))
		require.NoError(t, os.Mkdir(filepath.Join(dir, name), 0o755))
		assert.False(t, installed(dir), "a folder without a locale in it")
		require.NoError(t, os.WriteFile(filepath.Join(dir, name, "LC_CTYPE"), nil, 0o644))
		assert.True(t, installed(dir))
	}
}
