package stackfile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each placeholder of a value is checked, wherever it is in it.
func TestPlaceholders(t *testing.T) {
	const stack = `
[part.db]
kind = "mariadb"
[part.app]
kind = "custom"
command = "./serve --port {port}"
[[site]]
name = "ferry"
app = "app"
[[site]]
name = "crew"
app = "app"
[env]
X = "VALUE"
`
	for _, c := range []struct{ value, fault, hint string }{
		{"{db.host}", "", ""},
		{"{db.host}:{db.port}/{site.ferry.url}", "", ""},
		{"{{db.host}} and {{anything}}", "", ""},
		{"no placeholder {at all", "", ""},
		{"{db}", "{db} is no placeholder", "{part.field}, {site.NAME.field}, or {{db}} for the text itself"},
		{"{db.host.name}", "{db.host.name} is no placeholder", ""},
		{"{site.a.b.c}", "{site.a.b.c} is no placeholder", ""},
		{"{boat.host}", `{boat.host}: no part is named "boat"`, "the parts are app, db"},
		{"{db.hots}", `{db.hots}: a part has no "hots"`, "fields: "},
		{"{site.pier.url}", `{site.pier.url}: no site is named "pier"`, "the sites are ferry, crew"},
		{"{site.ferry.colour}", `{site.ferry.colour}: a site has no "colour"`, "fields: "},
		{"{db.host} {db.port} {db.colour}", `{db.colour}: a part has no "colour"`, ""},
	} {
		t.Run(c.value, func(t *testing.T) {
			text := strings.ReplaceAll(stack, "VALUE", c.value)
			if c.fault == "" {
				assert.Equal(t, Text(c.value), read(t, text, "").Env["X"])
				return
			}
			got := faults(t, text, "")
			require.Len(t, got, 1)
			assert.Equal(t, c.fault, got[0].What)
			assert.Contains(t, got[0].Hint, c.hint)
			assert.Equal(t, `X = "`+c.value+`"`, got[0].Text)
			assert.Equal(t, 1, got[0].Col)
		})
	}
	assert.Len(t, faults(t, strings.ReplaceAll(stack, "VALUE", "{a} {b.c} {db.d}"), ""), 3, "one fault each")
}

// A command knows a few placeholders; what merely looks like one is the shell's.
func TestCommandPlaceholders(t *testing.T) {
	command := func(text string) string {
		return "[part.app]\nkind = \"custom\"\ncommand = '" + text + "'\n[part.db]\nkind = \"mariadb\"\n"
	}
	for _, text := range []string{"serve {port}", "{dravit} version", "sh -c \"f() { echo x; }; f\"",
		"echo {a,b} ${HOME}", "awk {print}"} {
		assert.Equal(t, text, read(t, command(text), "").Parts["app"].Command)
	}
	for text, hint := range map[string]string{
		"serve {prot}":    "a command has {",
		"serve {Port}":    "a command has {",
		"serve {host}":    "a command has {",
		"serve {db.port}": "what part db exports is in its environment: $DB_PORT",
	} {
		got := faults(t, command(text), "")
		require.Len(t, got, 1, text)
		assert.Contains(t, got[0].Hint, hint, text)
	}
}

func TestFaultsAsText(t *testing.T) {
	f := Faults{{File: Name, Line: 2, Col: 3, What: "low tide"}, {File: LocalName, Line: 4, Col: 1, What: "fog"}}
	assert.EqualError(t, f, "dravit.toml:2:3: low tide\ndravit.local.toml:4:1: fog")
	assert.EqualError(t, f[:1], "dravit.toml:2:3: low tide")
}

// Faults come in the order of the files and their lines, however the keys are sorted; a long line is shown in part.
func TestFaultsAreInOrder(t *testing.T) {
	long := "[part.zebra]\nzulu = 1\nkind = \"nginx\"\n[part.ant]\nkind = \"nginx\"\nalpha = \"" +
		strings.Repeat("x", 400) + "\"\n"
	got := faults(t, long, "[part.ant]\nomega = 1\n")
	require.Len(t, got, 3)
	assert.Equal(t, []string{LocalName, Name, Name}, []string{got[0].File, got[1].File, got[2].File})
	assert.Equal(t, []int{2, 2, 6}, []int{got[0].Line, got[1].Line, got[2].Line})
	assert.Len(t, got[2].Text, maxLine)
}

// A setting with a dot in its name may be written without quotes; those that follow it are read as well.
func TestDottedSettings(t *testing.T) {
	f := read(t, `
[part.app]
kind = "php"
[part.app.settings]
a.b = "1"
a.c.d = 2
memory_limit = true
z = 1.5
`, "")
	assert.Equal(t, map[string]Text{"a.b": "1", "a.c.d": "2", "memory_limit": "true", "z": "1.5"},
		f.Parts["app"].Settings)
	got := faults(t,
		"[part.app]\nkind = \"php\"\nsettings = { \"a b\" = \"1\", c = [1], d = \"x\\ny\" }\n[env]\nA.B = \"1\"\n", "")
	var all []string
	for _, x := range got {
		all = append(all, x.What)
	}
	assert.ElementsMatch(t, []string{
		`"a b" cannot be the name of a setting`,
		`c must be a text, a number or true or false, not a list`,
		`d must be one line`,
		`A must be a text, not a table`,
	}, all)
}

// What is in the table of one kind is checked as the part's own keys are.
func TestTableOfOneKind(t *testing.T) {
	stack := "[part.db]\nkind = [\"mariadb\", \"sqlite\"]\n"
	f := read(t, stack+"[part.db.mariadb]\nport = 3307\n", "")
	assert.Equal(t, 3307, f.Parts["db"].For("mariadb").Port)
	assert.Zero(t, f.Parts["db"].For("sqlite").Port)
	for table, fault := range map[string]string{
		"[part.db.mariadb]\nkind = \"mariadb\"\n": `"kind" is already in the table's name`,
		"[part.db.redis]\nport = 1\n":             "part db is never of kind redis",
		"[part.db.sqlite]\nport = 1\n":            `a part of kind sqlite has no "port"`,
	} {
		got := faults(t, stack+table, "")
		require.Len(t, got, 1, table)
		assert.Equal(t, fault, got[0].What)
	}
	got := faults(t, "[part.db]\nkind = [\"mariadb\", \"sqlite\"]\nmariadb = 1\n", "")
	require.Len(t, got, 1)
	assert.Equal(t, "mariadb must be a table, written [part.db.mariadb]", got[0].What)
}
