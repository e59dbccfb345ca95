package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Messages understand words for kinds and keys that have another name in a stack file.
func TestWordsOfOthers(t *testing.T) {
	w := newWorld(t)
	for text, says := range map[string]string{
		"[part.db]\nkind = \"mysql\"\n":                     "here that is called mariadb",
		"[part.db]\nkind = \"postgresql\"\n":                "here that is called postgres",
		"[part.web]\nkind = \"httpd\"\n":                    "here that is called apache",
		"[part.q]\nkind = \"worker\"\n":                     "custom, with a command",
		"[part.q]\nkind = \"tidal\"\n":                      "python, redis, ruby, sqlite", // the whole list
		"[part.db]\nkind = \"mariadb\"\npassword = \"x\"\n": "Dravit makes the passwords",
		"[[site]]\nname = \"a\"\ndomain = \"a.test\"\n":     "aliases, or suffix",
		"[[site]]\nname = \"a\"\nssl = true\n":              "every site answers over HTTPS",
		"[[site]]\nname = \"a\"\nphp = \"8.2\"\n":           "a part of kind php",
		"[part.app]\nkind = \"node\"\n":                     "has no \"command\"",
		"[part.app]\nkind = \"php\"\nversion = \"  \"\n":    "the version is empty",
		"\xef\xbb\xbfname = \"x\"\n":                        "byte order mark",
	} {
		w.write("dravit.toml", text)
		r := w.dravit("plan")
		assert.Equal(t, 2, r.code, text)
		assert.Contains(t, flat(r.stderr), says, text)
	}
	for word, says := range map[string]string{"up": "dravit start", "down": "dravit stop", "list": "dravit status",
		"init": "dravit propose", "strat": "dravit start"} {
		r := w.dravit(word)
		assert.Equal(t, 2, r.code, word)
		assert.Contains(t, r.stderr, says, word)
	}
	for text, says := range map[string]string{
		"[part.db]\nkind = \"mariadb\"\ndatabase = \"mysql\"\n": "the server's own",
		"[part.db]\nkind = \"mariadb\"\nuser = \"root\"\n":      "the server's own",
	} {
		w.write("dravit.toml", text)
		r := w.dravit("plan")
		assert.Equal(t, 3, r.code, text)
		assert.Contains(t, flat(r.all()), says, text)
	}
	// A file of the project is named, with what to do about it.
	w.write(".python-version", "3.7\n")
	w.write("dravit.toml", "[part.app]\nkind = \"python\"\ncommand = \"x\"\n")
	assert.Contains(t, flat(w.dravit("plan").all()), "or change .python-version")

	require.NoError(t, os.Remove(filepath.Join(w.dir, "dravit.toml")))
	r := w.dravit("start")
	assert.Equal(t, 2, r.code)
	assert.NotContains(t, r.stderr, "docs/", "an installed program has no docs folder")
}

// A site's name may have dots, as its aliases may.
func TestSiteNameWithDots(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"x\"\n[[site]]\nname = \"north.quay\"\n")
	w.write("public/index.html", "<h1>North</h1>")
	w.must("start")
	url := w.status().Sites[0].URL
	assert.Contains(t, url, "http://north.quay.localhost")
	_, body, _ := get(t, "GET", url, nil)
	assert.Contains(t, body, "North")
	w.must("check")
}

// If every extension is loaded, one is switched off by a list of those to leave out, which also works on other
// machines.
func TestExtensionsOffLeavesOut(t *testing.T) {
	w := newWorld(t)
	file := "name = \"x\"\n[part.app]\nkind = \"php\"\n[[site]]\nname = \"day\"\napp = \"app\"\n"
	w.write("dravit.toml", file)
	w.write("public/index.php", hello)
	w.must("start")
	w.must("extensions", "off", "redis")
	text, err := os.ReadFile(filepath.Join(w.dir, "dravit.toml"))
	require.NoError(t, err)
	assert.Equal(
		t,
		strings.Replace(file, "kind = \"php\"\n", "kind = \"php\"\nwithout = [\"redis\"]\n", 1),
		string(text),
	)
	assert.NotContains(t, w.must("run", "--", "php", "-m").stdout, "redis")
	w.must("extensions", "on", "redis")
	assert.Contains(t, w.must("run", "--", "php", "-m").stdout, "redis")

	w.write("dravit.toml", strings.Replace(file, "kind = \"php\"\n", "kind = \"php\"\ndebugger = true\n", 1))
	r := w.dravit("extensions", "off", "xdebug")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "debugger = true")
}
