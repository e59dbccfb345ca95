package settings

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
)

func TestSources(t *testing.T) {
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	const source = "[[source]]\nformat = \"npm\"\naddress = \"https://packages.quay.example/\"\n"
	for _, c := range []struct{ text, words string }{
		{source, ""},
		{"[[source]]\nformat = \"npm\"\noff = true\n", ""},
		{source + source, "it has several sources"},
		{"[[source]]\nformat = \"tar\"\n", `a source of format "tar" is not known`},
		{"[[source]]\nformat = \"npm\"\nadress = \"x\"\n", "unknown key"},
	} {
		require.NoError(t, os.WriteFile(h.Path(Name), []byte(c.text), 0o600))
		s, err := Read(h)
		if c.words == "" {
			require.NoError(t, err, c.text)
			assert.Len(t, s.Sources, 1)
		} else {
			assert.ErrorContains(t, err, c.words)
		}
	}
}
