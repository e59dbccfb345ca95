package stackfile

import (
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// words are a few kinds with their keys, as the real ones have.
var words = Vocabulary{
	"nginx":   {},
	"php":     {Keys: []string{"extensions", "settings", "writable", "requires"}},
	"mariadb": {Keys: []string{"port", "main", "database", "seed", "user", "settings"}},
	"sqlite":  {Keys: []string{"main", "database"}},
	"redis":   {Keys: []string{"port", "main", "settings"}, Fields: []string{"index"}},
	"custom":  {Keys: []string{"command", "port", "listens", "every", "processes", "proof", "writable"}},
}

func folder(t *testing.T, shared, local string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "Ferry Office")
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, Name), []byte(shared), 0o644))
	if local != "" {
		require.NoError(t, os.WriteFile(filepath.Join(dir, LocalName), []byte(local), 0o644))
	}
	return dir
}

func read(t *testing.T, shared, local string) *File {
	t.Helper()
	f, err := Read(folder(t, shared, local), words)
	require.NoError(t, err)
	return f
}

func faults(t *testing.T, shared, local string) Faults {
	t.Helper()
	_, err := Read(folder(t, shared, local), words)
	var f Faults
	require.ErrorAs(t, err, &f)
	return f
}

const whole = `
name = "saltmarsh-ferry"

[part.web]
kind = "nginx"

[part.app]
kind = ["php", "custom"]
version = ">= 8.1, < 8.4"
extensions = ["mysqli", "redis"]
settings = { memory_limit = "256M", max_execution_time = 30, display_errors = true, date.timezone = "UTC" }
[part.app.custom]
version = ""
command = "./office --port {port}"

[part.db]
kind = ["mariadb", "sqlite"]
database = "ferry"
[part.db.mariadb]
version = ">= 10.6"
port = 13400
settings = { max_connections = 20 }

[part.seats]
kind = "redis"
main = true

[[site]]
name = "ferry"
root = "public"
app = "app"
server = "web"
expect = { path = "/", status = 200, text = "Next sailing" }

[[site]]
name = "crew"

[env]
OFFICE = "Saltmarsh"
SIZE = 3
DSN = "mysql://{db.user}@{db.host}:{db.port}/{db.database}"
`

func TestReadWhole(t *testing.T) {
	f := read(t, whole, "")
	assert.Equal(t, "saltmarsh-ferry", f.Name)
	assert.Equal(t, []string{"app", "db", "seats", "web"}, f.PartNames())
	app := f.Parts["app"]
	assert.Equal(t, Texts{"php", "custom"}, app.Kind)
	assert.Equal(t, map[string]Text{"memory_limit": "256M", "max_execution_time": "30", "display_errors": "true",
		"date.timezone": "UTC"}, app.Settings)
	assert.Equal(t, "./office --port {port}", app.For("custom").Command)
	assert.Empty(t, app.For("php").Command, "what is written for one kind holds for it only")
	db := f.Parts["db"]
	assert.Equal(t, ">= 10.6", db.For("mariadb").Version)
	assert.Equal(t, 13400, db.For("mariadb").Port)
	assert.Empty(t, db.For("sqlite").Version)
	assert.Equal(t, "ferry", db.For("sqlite").Database)
	assert.Equal(t, Texts{"sqlite"}, db.For("sqlite").Kind)
	require.Len(t, f.Sites, 2)
	assert.Equal(t, &Expect{Path: "/", Status: 200, Text: "Next sailing"}, f.Sites[0].Expect)
	assert.Nil(t, f.Sites[1].Expect)
	assert.Equal(t, Text("3"), f.Env["SIZE"])
}

func TestNameOfFolder(t *testing.T) {
	assert.Equal(t, "ferry-office", read(t, "", "").Name)
	assert.Equal(t, "stack", nameOf("船"))
	assert.Len(t, nameOf(strings.Repeat("ab", 60)), 63)
	assert.Equal(t, "a-b", nameOf("--A__b.."))
}

// wrongFiles are stack files with one fault each, and what is said of it.
var wrongFiles = map[string]struct {
	text      string
	line, col int
	what      string
	hint      string
}{
	"unknown key": {"nam = \"x\"", 1, 1, `unknown key "nam"`, `did you mean "name"?`},
	"unknown table": {"[parts.web]\nkind = \"nginx\"", 1, 2, `unknown key "parts"`,
		"here that is called [part.NAME]"},
	"far from any key": {"zeppelin = 1", 1, 1, `unknown key "zeppelin"`, ""},
	"port of a worker": {"[part.x]\nkind = \"custom\"\ncommand = \"a\"\nlistens = false\nport = 3000", 5, 1,
		"a worker has no port", "listens = false"},
	"placeholder of a worker": {"[part.x]\nkind = \"custom\"\ncommand = \"a {port}\"\nlistens = false", 3, 1,
		"a worker has no port", "remove {port}"},
	"processes of a server": {"[part.x]\nkind = \"custom\"\ncommand = \"a\"\nprocesses = 2", 4, 1,
		"only a worker has processes", ""},
	"proof of a server": {"[part.x]\nkind = \"custom\"\ncommand = \"a\"\nproof = { command = \"true\" }", 4, 1,
		"only a worker has a proof", ""},
	"interval of a server": {"[part.x]\nkind = \"custom\"\ncommand = \"a\"\nevery = \"5m\"", 4, 1,
		"only a worker runs at intervals", "listens = false"},
	"interval that is none": {"[part.x]\nkind = \"custom\"\ncommand = \"a\"\nlistens = false\nevery = \"often\"", 5, 1,
		`"often" is no duration`, ""},
	"interval without rest": {"[part.x]\nkind = \"custom\"\ncommand = \"a\"\nlistens = false\nevery = \"9ms\"", 5, 1,
		"at most once a second", "1s"},
	"interval with processes": {"[part.x]\nkind = \"custom\"\ncommand = \"a\"\nlistens = false\nevery = \"5m\"\n" +
		"processes = 2", 5, 1, "has one process", "processes"},
	"proof of two sorts": {"[part.x]\nkind = \"custom\"\ncommand = \"a\"\nlistens = false\n" +
		"proof = { command = \"true\", file = \"x\" }", 5, 1, "either a command or a file", ""},
	"task without command": {"[[task]]\nname = \"tables\"", 1, 3, `this task has no "command"`, ""},
	"task of no part": {"[[task]]\nname = \"tables\"\ncommand = \"true\"\npart = \"app\"", 4, 1,
		`no part is named "app"`, ""},
	"task at no time": {"[[task]]\nname = \"tables\"\ncommand = \"true\"\nwhen = \"noon\"", 4, 1,
		`"noon" cannot be a when`, "by-hand"},
	"task twice": {"[[task]]\nname = \"a\"\ncommand = \"true\"\n[[task]]\nname = \"a\"\ncommand = \"true\"", 5, 1,
		`two tasks have the name "a"`, ""},
	"task after itself": {"[[task]]\nname = \"a\"\ncommand = \"true\"\nafter = [\"a\"]", 4, 1,
		"the task a waits for itself", ""},
	"task after none": {"[[task]]\nname = \"tables\"\ncommand = \"true\"\nafter = [\"tabels\"]", 4, 1,
		`no task is named "tabels"`, `did you mean "tables"?`},
	"task outside": {"[[task]]\nname = \"a\"\ncommand = \"true\"\nfolder = \"/tmp\"", 4, 1,
		"outside the project", "relative"},
	"task for no time": {"[[task]]\nname = \"a\"\ncommand = \"true\"\ntimeout = \"long\"", 4, 1,
		`"long" is no duration`, ""},
	"files of a task by hand": {"[[task]]\nname = \"a\"\ncommand = \"true\"\nif_changed = [\"*.sql\"]", 4, 1,
		"only a task with when", "first-start"},
	"files outside": {"[[task]]\nname = \"a\"\ncommand = \"true\"\nwhen = \"first-start\"\n" +
		"if_changed = [\"../*.sql\"]", 5, 1, `"../*.sql" names no files of the project`, "wildcards"},
	"variable of a task": {"[[task]]\nname = \"a\"\ncommand = \"true\"\nenv = { A = \"{db.port}\" }", 4, 9,
		`no part is named "db"`, ""},
	"name and each": {"[[site]]\nname = \"ferry\"\neach = \"crew/*\"", 3, 1,
		"a name, or a name for each folder", "take one"},
	"aliases with each": {"[[site]]\neach = \"crew/*\"\naliases = [\"x\"]", 3, 1,
		"only the names of their folders", ""},
	"each without a wildcard": {"[[site]]\neach = \"crew\"", 2, 1, `"crew" cannot be an each`, "crew/*"},
	"each of deep folders":    {"[[site]]\neach = \"*/crew\"", 2, 1, `"*/crew" cannot be`, "crew/*"},
	"each outside":            {"[[site]]\neach = \"../*\"", 2, 1, "outside the project", "relative"},
	"include outside": {"[[site]]\nname = \"ferry\"\ninclude = \"/etc/x\"", 3, 1,
		"outside the project", "relative"},
	"suffix of the neighbours": {"[[site]]\nname = \"ferry\"\nsuffix = \"local\"", 3, 1, "RFC 6762", ""},
	"suffix of the world":      {"[[site]]\nname = \"ferry\"\nsuffix = \"dev\"", 3, 1, "public suffix", ""},
	"suffix that is none": {"[[site]]\nname = \"ferry\"\nsuffix = \".test\"", 3, 1,
		`".test" cannot be a suffix`, ""},
	"listen to whom": {"[[site]]\nname = \"ferry\"\nlisten = \"world\"", 3, 1,
		`"world" cannot be a listen`, ""},
	"folders for others": {"[[site]]\neach = \"crew/*\"\nlisten = \"network\"", 3, 1,
		"from this machine only", ""},
	"dotenv that is served": {"dotenv = \"env.txt\"", 1, 1, "cannot be a dotenv", ""},
	"dotenv without keys":   {"dotenv = { file = \".env\" }", 1, 1, `has no "keys"`, ""},
	"dotenv with no key":    {"dotenv = { file = \".env\", keys = [] }", 1, 27, "names no variable", "DB_HOST"},
	"dotenv of bad keys": {"dotenv = { file = \".env\", keys = [\"DB HOST\"] }", 1, 27,
		`"DB HOST" cannot be in keys`, "letters"},
	"dotenv, number": {"dotenv = 3", 1, 1, "must be a file, or a table", ""},
	"dotenv outside": {"dotenv = \"../.env\"", 1, 1, "outside the project", ""},
	"requirement that is none": {"[part.app]\nkind = \"php\"\n[part.app.requires]\n" +
		"settings = { memory_limit = \">= much\" }", 4, 14, "does not compare with a number", ">= 128M"},
	"unknown requirement": {"[part.app]\nkind = \"php\"\n[part.app.requires]\nsetings = { }", 4, 1,
		`unknown key "setings"`, "settings"},
	"writable folder outside": {"[part.app]\nkind = \"php\"\nwritable = [\"cache\", \"../x\"]", 3, 1,
		"outside the project", "relative"},
	"writable outside": {"[part.app]\nkind = \"php\"\nrequires = { writable = [\"../x\"] }", 3, 14,
		"outside the project", "relative"},
	"requires of a store": {"[part.db]\nkind = \"mariadb\"\nrequires = { writable = [\"x\"] }", 3, 1,
		`a part of kind mariadb has no "requires"`, ""},
	"seed outside": {"[part.db]\nkind = \"mariadb\"\nseed = \"/x.sql\"", 3, 1,
		"outside the project", "relative"},
	"wrong type, text": {"name = 3", 1, 1, "name must be a text, not 3", ""},
	"wrong type, number": {"[part.db]\nkind = \"mariadb\"\nport = \"x\"", 3, 1,
		`port must be a whole number, not "x"`, ""},
	"wrong type, bool": {"[part.db]\nkind = \"mariadb\"\nmain = 1", 3, 1,
		"main must be true or false, not 1", ""},
	"wrong type, list": {"[part.app]\nkind = \"php\"\nextensions = \"intl\"", 3, 1,
		`extensions must be a list of texts, not "intl"`, ""},
	"wrong type in list": {"[part.app]\nkind = [\"php\", 3]", 2, 1,
		"kind must be a text or a list of texts", ""},
	"wrong type, table": {"[part]\nweb = 3", 2, 1, "part web must be a table, written [part.web]", ""},
	"wrong type, sites": {"site = \"x\"", 1, 1, "site must be a list of tables, written [[site]]", ""},
	"wrong type, setting": {"[part.app]\nkind = \"php\"\nsettings = { a = [1] }", 3, 14,
		"a must be a text, a number or true or false, not a list", ""},
	"wrong type, env": {"[env]\nA = { b = 1 }", 2, 1, "A must be a text, not a table", ""},
	"date":            {"name = 2026-01-01", 1, 1, "name must be a text, not a date", ""},
	"out of range": {"[part.db]\nkind = \"mariadb\"\nport = 70000", 3, 1,
		"port must be between 1 and 65535, not 70000", ""},
	"bad name": {"name = \"A b\"", 1, 1, `"A b" cannot be a name`, "small letters"},
	"bad part name": {"[part.\"a b\"]\nkind = \"nginx\"", 1, 7,
		`"a b" cannot be a part's name`, "letters"},
	"bad extension": {"[part.app]\nkind = \"php\"\nextensions = [\"a b\"]", 3, 1,
		`"a b" cannot be in extensions`, ""},
	"extension outside": {"[part.app]\nkind = \"php\"\nextensions = [\"../kelp.so\"]", 3, 1,
		`the extension file "../kelp.so" is outside the project`, "relative to the project"},
	"requirement's version": {"[requires]\ngit = \"new\"", 2, 1, `"new" is not a version constraint`, ""},
	"requirement's sort": {"[requires]\ngit = 2", 2, 1,
		"git must be a version or a table, not 2", `">= 2.30"`},
	"requirement's key": {"[requires]\ngit = { vesrion = \"2\" }", 2, 9, `unknown key "vesrion"`,
		`did you mean "version"?`},
	"requirement's expression": {"[requires]\ngit = { pattern = \"v[0-9]+\" }", 2, 9,
		`"v[0-9]+" has no group around the version`, ""},
	"requirement's name": {"[requires]\n\"a b\" = \"1\"", 2, 1, `"a b" cannot be a program's name`, ""},
	"bad setting name": {"[part.app]\nkind = \"php\"\nsettings = { \"a b\" = 1 }", 3, 14,
		`"a b" cannot be the name of a setting`, ""},
	"two lines in a setting": {"[part.app]\nkind = \"php\"\nsettings = { a = \"1\\nb = 2\" }", 3,
		14, "a must be one line", ""},
	"line break in a text": {"[part.x]\nkind = \"custom\"\ncommand = \"a\\nb\"", 3, 1,
		`cannot be a command`, ""},
	"bad version": {"[part.app]\nkind = \"php\"\nversion = \"eight\"", 3, 1,
		`"eight" is not a version constraint`, ""},
	"bad variable": {"[env]\n\"A B\" = \"1\"", 2, 1, `"A B" cannot be a variable's name`, ""},
	"unknown kind": {"[part.db]\nkind = \"mariabd\"", 2, 1, `unknown kind "mariabd"`,
		`did you mean "mariadb"?`},
	"very unknown kind": {"[part.db]\nkind = \"oracle\"", 2, 1, `unknown kind "oracle"`,
		"the kinds are custom, mariadb"},
	"empty kind": {"[part.db]\nkind = []", 2, 1, "kind must not be an empty list", ""},
	"no kind":    {"[part.db]\ndatabase = \"x\"", 1, 7, `part db has no "kind"`, ""},
	"key of another kind": {"[part.web]\nkind = \"nginx\"\ndatabase = \"x\"", 3, 1,
		`a part of kind nginx has no "database"`, ""},
	"key of no kind of list": {"[part.db]\nkind = [\"redis\", \"sqlite\"]\nextensions = [\"x\"]", 3, 1,
		`a part of kind redis or sqlite has no "extensions"`, ""},
	"key under the wrong kind": {"[part.db]\nkind = [\"mariadb\", \"sqlite\"]\n[part.db.sqlite]\nport = 1", 4, 1,
		`a part of kind sqlite has no "port"`, ""},
	"table of a kind not there": {"[part.db]\nkind = \"sqlite\"\n[part.db.mariadb]\nport = 1", 3, 10,
		"part db is never of kind mariadb", "its kind is sqlite"},
	"kind within a kind": {"[part.db]\nkind = \"mariadb\"\n[part.db.mariadb]\nkind = \"sqlite\"", 4, 1,
		`"kind" is already in the table's name`, ""},
	"custom without command": {"[part.x]\nkind = \"custom\"", 1, 7, `part x has no "command"`,
		"says what to run: command = "},
	"twice in a list": {"[part.app]\nkind = \"php\"\nextensions = [\"intl\", \"intl\"]", 3, 1,
		`"intl" is in extensions twice`, ""},
	"unknown part": {"[part.app]\nkind = \"php\"\nuses = [\"bd\"]\n[part.db]\nkind = \"mariadb\"", 3, 1,
		`no part is named "bd"`, `did you mean "db"?`},
	"unknown app":       {"[[site]]\nname = \"a\"\napp = \"app\"", 3, 1, `no part is named "app"`, ""},
	"unknown server":    {"[[site]]\nname = \"a\"\nserver = \"web\"", 3, 1, `no part is named "web"`, ""},
	"site without name": {"[[site]]\nroot = \"x\"", 1, 3, `neither "name" nor "each"`, ""},
	"same alias twice": {"[[site]]\nname = \"a\"\naliases = [\"b\", \"*.c\"]\n[[site]]\nname = \"b\"", 5, 1,
		`two sites have the name "b"`, ""},
	"same name with its ending": {"[[site]]\nname = \"a\"\n[[site]]\nname = \"a.localhost\"", 4, 1,
		`two sites have the name "a"`, ""},
	"same alias with its ending": {"[[site]]\nname = \"a\"\nsuffix = \"test\"\naliases = [\"a.test\"]", 4, 1,
		`two sites have the name "a"`, ""},
	"bad alias": {"[[site]]\nname = \"a\"\naliases = [\"a.*.b\"]", 3, 1,
		`"a.*.b" cannot be in aliases`, ""},
	"same site twice": {"[[site]]\nname = \"a\"\n[[site]]\nname = \"a\"", 4, 1,
		`two sites have the name "a"`, ""},
	"root outside": {"[[site]]\nname = \"a\"\nroot = \"../b\"", 3, 1,
		`the document root "../b" is outside the project`, ""},
	"root absolute": {"[[site]]\nname = \"a\"\nroot = \"/etc\"", 3, 1, "is outside the project", ""},
	"expect of nonsense": {"[[site]]\nname = \"a\"\nexpect = { sttus = 1 }", 3, 12,
		`unknown key "sttus"`, `did you mean "status"?`},
	"expect status": {"[[site]]\nname = \"a\"\nexpect = { status = 20 }", 3, 12,
		"status must be between 100 and 599", ""},
	"expect path": {"[[site]]\nname = \"a\"\nexpect = { path = \"x\" }", 3, 12,
		`"x" cannot be a path`, "it begins with /"},
	"placeholder of no part": {"[env]\nA = \"{db.port}\"", 2, 1, `no part is named "db"`, ""},
	"placeholder of no field": {"[part.db]\nkind = \"mariadb\"\n[env]\nA = \"{db.prt}\"", 4, 1,
		`a part has no "prt"`, "fields: host"},
	"same variables": {"[part.crew-db]\nkind = \"mariadb\"\n[part.crew_db]\nkind = \"sqlite\"", 3, 7,
		"would both be CREW_DB_*", ""},
}

// Each kind of fault, with the place that is blamed and the words for it.
func TestFaults(t *testing.T) {
	for name, c := range wrongFiles {
		t.Run(name, func(t *testing.T) {
			got := faults(t, c.text, "")
			require.Len(t, got, 1, "%v", got)
			f := got[0]
			assert.Equal(t, Name, f.File)
			assert.Equal(t, c.line, f.Line, "line")
			assert.Equal(t, c.col, f.Col, "column")
			assert.Equal(t, strings.Split(c.text, "\n")[c.line-1], f.Text)
			assert.Contains(t, f.What, c.what)
			assert.Contains(t, f.Hint, c.hint)
			if c.hint == "" {
				assert.NotContains(t, f.Hint, "did you mean")
			}
		})
	}
}

func TestCircles(t *testing.T) {
	got := faults(t, `[part.a]
kind = "custom"
command = "x"
uses = ["b"]
[part.b]
kind = "custom"
command = "x"
uses = ["c"]
[part.c]
kind = "custom"
command = "x"
uses = ["a"]
[part.d]
kind = "custom"
command = "x"
uses = ["d"]
`, "")
	require.Len(t, got, 2)
	assert.Equal(t, "parts wait for each other: a -> b -> c -> a", got[0].What)
	assert.Equal(t, 4, got[0].Line)
	assert.Equal(t, "parts wait for each other: d -> d", got[1].What)
}

func TestNotTOML(t *testing.T) {
	got := faults(t, "name = \"x\"\n[part.web\nkind = \"nginx\"", "")
	require.Len(t, got, 1)
	assert.Equal(t, 2, got[0].Line)
	assert.Contains(t, got[0].What, "this is not TOML")
	got = faults(t, "name = \"x\"\nname = \"y\"", "")
	require.Len(t, got, 1)
	assert.Contains(t, got[0].What, "name")
}

// The local file overrides any key, and is blamed for its own faults.
func TestLocal(t *testing.T) {
	f := read(t, whole, `
[part.app]
kind = "custom"
[part.seats]
port = 6390
[[site]]
name = "crew"
root = "crew"
[[site]]
name = "yard"
[env]
OFFICE = "Home"
`)
	assert.Equal(t, Texts{"custom"}, f.Parts["app"].Kind)
	assert.Equal(t, "./office --port {port}", f.Parts["app"].For("custom").Command)
	assert.Equal(t, 6390, f.Parts["seats"].Port)
	assert.Equal(t, Texts{"redis"}, f.Parts["seats"].Kind)
	require.Len(t, f.Sites, 3)
	assert.Equal(t, "public", f.Sites[0].Root)
	assert.Equal(t, "crew", f.Sites[1].Root)
	assert.Equal(t, "yard", f.Sites[2].Name)
	assert.Equal(t, Text("Home"), f.Env["OFFICE"])
	assert.Equal(t, Text("3"), f.Env["SIZE"])

	got := faults(t, whole, "[part.db]\nprot = 3\n")
	require.Len(t, got, 1)
	assert.Equal(t, LocalName, got[0].File)
	assert.Equal(t, 2, got[0].Line)
	assert.Equal(t, "prot = 3", got[0].Text)
}

// A part narrowed on one machine leaves what the shared file says of its other kinds alone.
func TestLocalNarrowsKind(t *testing.T) {
	f := read(t, whole, "[part.db]\nkind = \"sqlite\"\n")
	assert.Equal(t, Texts{"sqlite"}, f.Parts["db"].Kind)
	assert.NotContains(t, f.Parts["db"].Of, "mariadb")
}

func TestFind(t *testing.T) {
	dir := folder(t, "", "")
	deep := filepath.Join(dir, "public", "pictures")
	require.NoError(t, os.MkdirAll(deep, 0o755))
	got, err := Find(deep)
	require.NoError(t, err)
	assert.Equal(t, dir, got)
	_, err = Find(t.TempDir())
	assert.ErrorIs(t, err, ErrNone)
}

func TestExpand(t *testing.T) {
	got := Expand("x {db.port} {not a one} {seats.host}{db.port} {site.day.url} {{date}} "+
		"{\"a\":{\"b\":1}} {\"a\":{db.port}}",
		func(path []string) string { return strings.Join(path, "/") })
	assert.Equal(t,
		"x db/port {not a one} seats/hostdb/port site/day/url {date} {\"a\":{\"b\":1}} {\"a\":db/port}", got)
}

func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"", "abc", 3},
		{"port", "port", 0},
		{"prot", "port", 1},
		{"kin", "kind", 1},
		{"vershun", "version", 2},
		{"abc", "xyz", 3}} {
		assert.Equal(t, c.want, distance(c.a, c.b), "%s %s", c.a, c.b)
		assert.Equal(t, c.want, distance(c.b, c.a), "%s %s", c.b, c.a)
	}
}

// Whatever a file holds, reading it ends with a File or with faults that are in it.
func FuzzRead(f *testing.F) {
	f.Add(whole)
	f.Add("[[site]]\nname=\"a\"\n[[site.expect]]\n[part.a.b.c]\nd=[[1],[{a=1}]]")
	f.Add("a.b.c = 1\n[a.b]\nd = 2")
	f.Fuzz(func(t *testing.T, text string) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, Name), []byte(text), 0o644))
		file, err := Read(dir, words)
		if err == nil {
			require.NotEmpty(t, file.Name)
			return
		}
		var got Faults
		require.ErrorAs(t, err, &got)
		require.NotEmpty(t, got)
		for _, x := range got {
			require.LessOrEqual(t, x.Line, strings.Count(text, "\n")+1)
		}
	})
}

// Each key that is in the table of one kind only goes before the part's own, whatever keys there will be.
func TestForKeepsEachKey(t *testing.T) {
	own := PartConfig{}
	fields := reflect.ValueOf(&own).Elem()
	for i := range fields.NumField() {
		switch f := fields.Field(i); f.Interface().(type) {
		case string:
			f.SetString("kelp")
		case int:
			f.SetInt(7)
		case bool:
			f.SetBool(true)
		case []string, Texts:
			f.Set(reflect.ValueOf([]string{"kelp"}).Convert(f.Type()))
		case map[string]Text:
			f.Set(reflect.ValueOf(map[string]Text{"kelp": "1", "both": "own"}))
		case *Requirements:
			f.Set(reflect.ValueOf(&Requirements{Functions: []string{"kelp"}}))
		}
	}
	own.Of, own.Also = nil, nil
	got := PartConfig{Kind: Texts{"php", "node"}, Of: map[string]PartConfig{"php": own}}.For("php")
	own.Kind = Texts{"php"}
	assert.Equal(t, own, got)

	all := PartConfig{Uses: []string{"db"}, Settings: map[string]Text{"both": "all", "salt": "2"},
		Of: map[string]PartConfig{"php": own}}
	assert.Equal(t, map[string]Text{"kelp": "1", "both": "own", "salt": "2"}, all.For("php").Settings)
	assert.Equal(t, map[string]Text{"both": "all", "salt": "2"}, all.Settings, "the part itself stays as it is")
	assert.Equal(t, map[string]Text{"both": "all", "salt": "2"}, all.For("node").Settings)
	none := PartConfig{Uses: []string{"db"}, Of: map[string]PartConfig{"php": {Uses: []string{}}}}.For("php")
	assert.Equal(t, []string{}, none.Uses, "an empty list says: none")
}
