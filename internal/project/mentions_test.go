package project

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A port that an installer wrote down is found with file and line; other numbers, packages and stack files are not.
func TestMentions(t *testing.T) {
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
	assert.Equal(t, []Mention{{".env", 1, "13306", "DB_PORT=13306"},
		{"config/settings.php", 2, "13306", "$db = ['host' => '127.0.0.1', 'port' => 13306];"}},
		Mentions(dir, []string{"13306", ""}))
	assert.Empty(t, Mentions(dir, nil))
}

// Files of variables are read as their libraries read them; samples, packages and links are not.
func TestVariables(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		".env": "# the ferry\nDB_HOST=db # its name\nexport DB_PORT = \"3306\"\nA='b c' \nEMPTY=\nno " +
			"line\n",
		".env.local":        "KEY=\"a#b\"\n",
		".env.example":      "DB_HOST=x\n",
		"backend/.env":      "API=1\n",
		"a/b/c/.env":        "DEEP=1\n",
		"node_modules/.env": "X=1\n",
		"settings.env.dist": "X=1\n",
		".hidden/.env":      "X=1\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, ".env.link")))
	assert.Equal(t, []Variable{{".env", 2, "DB_HOST", "db"}, {".env", 3, "DB_PORT", "3306"}, {".env", 4, "A", "b c"},
		{".env", 5, "EMPTY", ""}, {".env.local", 1, "KEY", "a#b"}, {"backend/.env", 1, "API", "1"}}, Variables(dir))
	assert.Empty(t, Variables(filepath.Join(dir, "none")))
}
