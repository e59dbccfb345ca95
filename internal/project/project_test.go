package project

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/stackfile"
	"dravit/internal/version"
)

func write(t *testing.T, dir, name, text string) {
	t.Helper()
	path := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

func TestManifests(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"composer.json": `{"require": {"php": "^8.1", "ext-intl": "*", "ext-zend-opcache": "*", ` +
			`"saltmarsh/ferry": "1.0"}}`,
		"package.json":    `{"engines": {"node": ">=18 <21", "npm": ">=9"}, "packageManager": "pnpm@8.6.0+sha256.abc"}`,
		"pyproject.toml":  "[project]\nrequires-python = \">=3.9\"\n[tool.poetry.dependencies]\npython = \"^3.8\"\n",
		"Gemfile":         "source \"x\"\nruby \"~> 3.1\", \">= 3.1.2\"\ngem \"rack\"\n",
		"go.mod":          "module ferry\n\ngo 1.22\n",
		".tool-versions":  "# pinned\nnodejs 20.11.0\npython 3.11.7 3.10.2 # either\nloner\n",
		".nvmrc":          "lts/iron\n",
		".node-version":   "v20\n",
		".python-version": "3.11\n3.10\n",
		".ruby-version":   "ruby-3.1.2\n",
		".php-version":    "8.2\n",
	} {
		write(t, dir, name, text)
	}
	m := Look(dir, nil, nil, nil).Manifests["."]
	assert.Empty(t, m.Faults)
	assert.Equal(t, []Wanted{{"php", "intl", "composer.json"}, {"php", "zend_opcache", "composer.json"}}, m.Extensions)
	assert.Equal(t, []Demand{
		{"php", "^8.1", version.Composer, "composer.json"},
		{"node", ">=18 <21", version.NPM, "package.json"},
		{"npm", ">=9", version.NPM, "package.json"},
		{"pnpm", "8.6.0", version.Pin, "package.json"},
		{"python", ">=3.9", version.PEP440, "pyproject.toml"},
		{"ruby", "~> 3.1, >= 3.1.2", version.RubyGems, "Gemfile"},
		{"go", "1.22", version.Minimum, "go.mod"},
		{"node", "20.11.0", version.Pin, ".tool-versions"}, {"python", "3.11.7 3.10.2", version.Pin, ".tool-versions"},
		{"node", "lts/iron", version.Pin, ".nvmrc"},
		{"node", "v20", version.Pin, ".node-version"},
		{"python", "3.11 3.10", version.Pin, ".python-version"},
		{"ruby", "ruby-3.1.2", version.Pin, ".ruby-version"}, {"php", "8.2", version.Pin, ".php-version"},
	}, m.Demands)
}

// What cannot be read or understood is said and demands nothing.
func TestBadManifests(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "composer.json", "{")
	write(t, dir, "package.json", `{"engines": ["node 18"]}`)
	write(t, dir, "pyproject.toml", "[tool.poetry.dependencies]\npython = \"one day\"\n")
	write(t, dir, ".nvmrc", "\n# nothing\n")
	require.NoError(t, os.Mkdir(filepath.Join(dir, ".ruby-version"), 0o755))
	m := Look(dir, nil, nil, nil).Manifests["."]
	assert.Empty(t, m.Demands)
	require.Len(t, m.Faults, 4)
	assert.Contains(t, m.Faults[0], "composer.json: ")
	assert.Contains(t, m.Faults[1], ".nvmrc: it names no version")
	assert.Contains(t, m.Faults[2], ".ruby-version")
	assert.Contains(t, m.Faults[3], `pyproject.toml: "one day" is not understood`)
}

// A site's folder has manifests of its own; those of other folders are not looked at.
func TestFolders(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "old/composer.json", `{"require": {"php": "^7.4"}}`)
	write(t, dir, "old/public/index.php", "")
	write(t, dir, "other/composer.json", `{"require": {"php": "^5.6"}}`)
	write(t, dir, "public/index.html", "")
	f := Look(dir, []stackfile.SiteConfig{{Name: "a", Root: "old/public"}, {Name: "b", Root: "../outside"}}, nil, nil)
	assert.Len(t, f.Manifests, 1)
	assert.Equal(t, "^7.4", f.Manifests["old"].Demands[0].Text)
	assert.Equal(t, Folder{Exists: true, Index: "index.php"}, f.Folders["old/public"])
	assert.Equal(t, []string{"a/b", "a", "."}, Above("a/b/"))
	assert.Equal(t, []string{"."}, Above("."))
	assert.Empty(t, Above("../x"))
}
