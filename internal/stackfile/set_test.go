package stackfile

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A change of one key keeps everything else as it is written.
func TestSet(t *testing.T) {
	const app = "# The ferry.\nname = \"ferry\"\n\n# its pages\n[part.app]\nkind = \"php\" # or 8.3\n"
	memory := Change{"part.app.settings", "memory_limit", "512M"}
	for name, c := range map[string]struct {
		text   string
		change Change
		want   string // "": it is refused
	}{
		"a table that is not there": {app, memory, "# The ferry.\nname = \"ferry\"\n\n# its pages\n[part.app]\n" +
			"kind = \"php\" # or 8.3\nsettings = { memory_limit = \"512M\" }\n"},
		"a table in one line": {app + "settings = { post_max_size = \"8M\" } # small\n", memory,
			app + "settings = { post_max_size = \"8M\", memory_limit = \"512M\" } # small\n"},
		"an empty one": {app + "settings = {}\n", memory, app + "settings = { memory_limit = \"512M\" }\n"},
		"a table of its own": {app + "[part.app.settings]\npost_max_size = \"8M\"\n", memory,
			app + "[part.app.settings]\nmemory_limit = \"512M\"\npost_max_size = \"8M\"\n"},
		"another value": {app + "settings = { memory_limit = \"1M\", a = \"b\" }\n", memory,
			app + "settings = { memory_limit = \"512M\", a = \"b\" }\n"},
		"a list": {app + "writable = [\"var\"]\n", Change{"part.app", "writable", []string{"var", "up"}},
			app + "writable = [\"var\", \"up\"]\n"},
		"a part that is written in one line": {"[part]\napp = { kind = \"php\" }\n", memory,
			"[part]\napp = { kind = \"php\", settings = { memory_limit = \"512M\" } }\n"},
		"a new table": {app, Change{"env", "MOOR_PORT", "3306"}, app + "\n[env]\nMOOR_PORT = \"3306\"\n"},
		"a new part":  {app, Change{"part.mail", "kind", "redis"}, app + "\n[part.mail]\nkind = \"redis\"\n"},
		"a table at its place": {app + "[env]\nA = \"1\"\n", Change{"env", "B", "2"}, app + "[env]\nB = \"2\"\nA " +
			"= \"1\"\n"},
		"at the top": {app, Change{"", "dotenv", map[string]any{"file": ".env", "keys": []string{"DB_PORT"}}},
			"# The ferry.\nname = \"ferry\"\ndotenv = { file = \".env\", keys = [\"DB_PORT\"] }\n\n# its pages\n" +
				"[part.app]\nkind = \"php\" # or 8.3\n"},
		"at the top of a file of tables": {"[part.app]\nkind = \"php\"\n", Change{"", "name", "ferry"},
			"name = \"ferry\"\n\n[part.app]\nkind = \"php\"\n"},
		"without a line end": {"[part.app]\nkind = \"php\"", memory,
			"[part.app]\nkind = \"php\"\nsettings = { memory_limit = \"512M\" }\n"},
		"dotted keys": {"part.app.kind = \"php\"\n", memory, "part.app.kind = \"php\"\n\n[part.app.settings]\n" +
			"memory_limit = \"512M\"\n"},
		"what is no value": {app, Change{"part.app", "color", "red"}, ""},
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, Name), []byte(c.text), 0o600))
		edits, err := Set(dir, []Change{c.change}, words)
		if c.want == "" {
			assert.Error(t, err, name)
			continue
		}
		require.NoError(t, err, name)
		require.Len(t, edits, 1, name)
		assert.Equal(t, Name, edits[0].File)
		assert.Equal(t, c.want, string(edits[0].Text), name)
		again, err := Set(dir, []Change{c.change}, words)
		require.NoError(t, err)
		assert.Equal(t, edits, again, "it writes nothing")
	}
}

// The machine's own file is changed where it has the key.
func TestSetLocal(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, Name), []byte("[part.app]\nkind = \"php\"\n"), 0o600))
	local := "[part.app]\nsettings = { memory_limit = \"1M\" }\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, LocalName), []byte(local), 0o600))
	edits, err := Set(dir, []Change{{"part.app.settings", "memory_limit", "2M"}, {"part.app", "writable",
		[]string{"var"}}}, words)
	require.NoError(t, err)
	require.Len(t, edits, 2)
	assert.Equal(t, "[part.app]\nkind = \"php\"\nwritable = [\"var\"]\n", string(edits[0].Text))
	assert.Equal(t, "[part.app]\nsettings = { memory_limit = \"2M\" }\n", string(edits[1].Text))
	_, err = Set(t.TempDir(), []Change{{"", "name", "x"}}, words)
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestChangeAsTOML(t *testing.T) {
	assert.Equal(t, []string{"[part.app.settings]", `memory_limit = "512M"`},
		Change{"part.app.settings", "memory_limit", "512M"}.TOML())
	assert.Equal(t, []string{`dotenv = { file = ".env", keys = ["A", "B"] }`},
		Change{"", "dotenv", map[string]any{"file": ".env", "keys": []string{"A", "B"}}}.TOML())
	assert.Equal(t, []string{"[part.app]", "processes = 3"}, Change{"part.app", "processes", 3}.TOML())
}
