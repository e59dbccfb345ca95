package stackfile

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A command that changes into a folder first works there; one that goes anywhere else, or says where by a variable,
// counts as one of the project's own folder.
func TestFolderOfACommand(t *testing.T) {
	for text, want := range map[string]string{
		"cd web && vite":            "web",
		" cd ./web/front/ ; vite":   "web/front",
		"cd 'low tide' && vite":     "low tide",
		`cd "low tide" && vite`:     "low tide",
		"cd web\nvite":              "web",
		"vite":                      ".",
		"cd .. && vite":             ".",
		"cd /srv && vite":           ".",
		"cd $WEB && vite":           ".",
		`cd "$WEB/a" && vite`:       ".",
		"cd web || vite":            ".",
		"echo cd web && vite":       ".",
		"cd web/../../quay && vite": ".",
	} {
		assert.Equal(t, want, PartConfig{Command: text}.Folder(), text)
	}
	assert.Equal(t, []string{"web/front/bin", "web/bin", "bin"},
		PartConfig{Command: "cd web/front && vite"}.Above("bin"))
}
