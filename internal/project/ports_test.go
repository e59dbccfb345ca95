package project

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A port that an installer wrote down is found with file and line; other numbers, packages and stack files are not.
func TestPortsIn(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"config/settings.php":   "<?php\n$db = ['host' => '127.0.0.1', 'port' => 13306];\n",
		".env":                  "DB_PORT=13306\nX=133060\nY=1.13306\n",
		"dravit.toml":           "port = 13306\n",
		"vendor/x/config.php":   "13306\n",
		"package-lock.json":     "13306\n",
		"readme.txt":            "13306\n",
		"config/other.yml":      "port: 16379\n",
		"node_modules/a/b.json": "13306\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	assert.Equal(t, []Mention{{".env", 1, 13306}, {"config/settings.php", 2, 13306}},
		PortsIn(dir, []int{13306}))
	assert.Empty(t, PortsIn(dir, nil))
}
