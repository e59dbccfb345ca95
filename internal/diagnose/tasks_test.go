package diagnose

import (
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/kind"
	kinds "dravit/internal/kind/all"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/pattern"
	"dravit/internal/project"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

func TestTaskRemedies(t *testing.T) {
	site := []SiteFacts{{Spec: materialise.Site{Name: "day", App: "app"}}}
	first := func(names ...string) (all []TaskFacts) {
		for _, name := range names {
			all = append(all, TaskFacts{Name: name, Part: "app", When: "first-start"})
		}
		return all
	}
	for _, c := range []struct {
		name      string
		cause     string
		tasks     []TaskFacts
		suggested Suggested
		want      string
	}{
		{"its task", "tables-missing", first("tables"), Suggested{}, "dravit task tables"},
		{"several tasks", "tables-missing", first("schema", "seed"), Suggested{},
			"run the task that does it: dravit task schema, or dravit task seed"},
		{"a task that does something else", "tables-missing", []TaskFacts{{Name: "install", Command: "npm install"}},
			Suggested{},
			"as it was"},
		{"older tables", "tables-outdated", []TaskFacts{{Name: "x", Command: "php artisan migrate", When: "by-hand"},
			{Name: "install", Command: "composer install", When: "first-start"}}, Suggested{}, "dravit task x"},
		{"older tables, by a suggestion", "tables-outdated", nil, Suggested{Tables: "flask db upgrade"},
			"dravit run --part app -- flask db upgrade"},
		{"packages", "packages-missing", []TaskFacts{{Name: "x", Command: "php artisan migrate"},
			{Name: "deps", Command: "composer install", Part: "app"}}, Suggested{}, "dravit task deps"},
		{"a task of another part", "tables-missing",
			[]TaskFacts{{Name: "x", Part: "api", When: "first-start"}}, Suggested{}, "as it was"},
		{"a task at another time", "packages-missing",
			[]TaskFacts{{Name: "x", Part: "app", When: "by-hand"}}, Suggested{}, "as it was"},
		{"a suggestion", "packages-missing", nil, Suggested{Packages: "composer install"},
			"add this to dravit.toml, then dravit start:\n\t[[task]]\n\tname = \"packages\"\n\tpart = \"app\"\n" +
				"\tcommand = \"composer install\"\n\twhen = \"first-start\""},
		{"another cause", "script-syntax", first("tables"), Suggested{}, "as it was"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := &doctor{f: Facts{Sites: site, Tasks: c.tasks, Suggested: map[string]Suggested{"app": c.suggested}}}
			d.add(seen, cause.ID(c.cause), about.Site("day"), "x", "as it was")
			d.taskRemedies()
			assert.Equal(t, c.want, d.all[0].Remedy)
			if _, lines, ok := strings.Cut(d.all[0].Remedy, trouble.Paste); ok {
				var file map[string]any
				assert.NoError(t, toml.Unmarshal([]byte(lines), &file), "it can be pasted")
			}
		})
	}
}

func TestFailedTaskIsACause(t *testing.T) {
	got := Causes(Facts{Tasks: []TaskFacts{
		{Name: "tables", When: "first-start", Failed: "it exited with code 1",
			Tail: []string{"low tide"}, LogFile: "/l"},
		{Name: "rows", When: "every-start"},
		{Name: "count", When: "by-hand", Failed: "it exited with code 2"},
	}})
	require.Len(t, got, 1)
	assert.Equal(t, "task.tables task-failed", got[0].Subject.String()+" "+string(got[0].Cause))
	assert.Equal(t, []string{"it exited with code 1", "/l: low tide"}, got[0].Evidence)
}

// A seed that failed is the cause: what a start does after it is not there yet.
func TestFailedSeedIsACause(t *testing.T) {
	f := shop()
	f.Gateway.Runs = false
	f.Seeds = map[string]string{"db": "seed.sql: line 3: fog"}
	got := Causes(f)
	require.Len(t, got, 1, "that the gateway does not run follows from it")
	assert.Equal(t, "part.db.seed seed-failed", got[0].Subject.String()+" "+string(got[0].Cause))
	assert.Equal(t, []string{"seed.sql: line 3: fog"}, got[0].Evidence)
	f.Seeds["db"] = "the dump is of mariadb 11.8, and the part runs 10.11 (dravit supply mariadb 11.8, then start): fog"
	assert.Equal(t, "dravit supply mariadb 11.8, then start", Causes(f)[0].Remedy)
}

// The proxy of a front end is told where the stack's own back end is.
func TestProxyElsewhere(t *testing.T) {
	f := shop(page("/a", "proxy ECONNREFUSED 127.0.0.1:3001"))
	f.Parts[0].Traits.Symptoms = nil
	f.Pages[0].Evidence.Parts[0].Traits.Symptoms = []kind.Symptom{kind.When("proxy-elsewhere",
		pattern.New(`proxy (\S+ \S+)`), "elsewhere: $1", "look")}
	f.Parts = append(f.Parts, PartFacts{Spec: kind.Part{Name: "api", Role: kind.RoleApp, Port: 18001},
		Status: lifecycle.Status{State: lifecycle.Answers}})
	f.Mentions = []project.Mention{{File: "vite.config.js", Line: 4, Word: "3001",
		Text: "target: 'http://localhost:3001'"}}
	got := Causes(f)
	assert.Equal(t, "in vite.config.js:4, use process.env.API_URL, which is that of part api", got[0].Remedy)
	assert.Equal(t, "vite.config.js:4", got[0].Place)

	// a line in which the back end itself listens is none of the proxy's, and tells which part it means
	f.Mentions = append([]project.Mention{{File: "api/server.js", Line: 9, Word: "3001",
		Text: "app.listen(process.env.PORT || 3001)"}, {File: "README.json", Line: 1, Word: "3001", Text: "3001"}},
		f.Mentions...)
	f.Parts = append(f.Parts, PartFacts{Spec: kind.Part{Name: "boats", Role: kind.RoleApp, Port: 18002,
		Want: stackfile.PartConfig{Command: "cd api && npm start"}},
		Status: lifecycle.Status{State: lifecycle.Answers}})
	assert.Equal(t, "in vite.config.js:4, use process.env.BOATS_URL, which is that of part boats",
		Causes(f)[0].Remedy)
	f.Parts = f.Parts[:2]
	assert.Equal(t, "correct vite.config.js:4", Causes(f)[0].Remedy)
	assert.Equal(t, []string{"3001"}, Words(Causes(shop(f.Pages[0]))))
}

// A package that the manifest does not name is not installed by installing what it names.
func TestPackageThatNobodyNamed(t *testing.T) {
	node := Suggested{Add: "npm install", Manifest: "package.json", Named: []string{"boats"}}
	python := Suggested{Manifest: "api/requirements.txt", Named: []string{"boats", "pyyaml", "psycopg2"}}
	ruby := Suggested{Add: "bundle add", Manifest: "Gemfile", Named: []string{"boats"}}
	for _, c := range []struct {
		kind, what, want string
		own              Suggested
	}{
		{"node", "the module tide is not installed", "dravit run --part app -- npm install tide", node},
		{"node", "the module @quay/tide/x is not installed", "dravit run --part app -- npm install @quay/tide", node},
		{"node", "the module boats/low is not installed", "as it was", node},
		{"node", "the module ./tide is not installed", "as it was", node},
		{"node", "the module $(rm) is not installed", "as it was", node},
		{"node", "the module tide is not installed", "as it was", Suggested{}},
		{"python", "the package PIL is not installed for this interpreter", "add the line pillow to " +
			"api/requirements.txt; as it was", python},
		{"python", "the package tide_tables.low is not installed for this interpreter", "add the line tide-tables to " +
			"api/requirements.txt; as it was", python},
		{"python", "the package boats_extra is not installed for this interpreter", "add the line boats-extra to " +
			"api/requirements.txt; as it was", python},
		{"python", "the package yaml is not installed for this interpreter", "as it was", python},
		{"python", "the package psycopg2 is not installed for this interpreter", "as it was", python},
		{"python", "the package _sqlite3 is not installed for this interpreter", "as it was", python},
		{"ruby", "the library tide/low is not installed for this Ruby", "dravit run --part app -- bundle add tide-low",
			ruby},
		{"ruby", "the gem tide is not installed for this Ruby", "as it was", ruby},
		{"ruby", "the library boats/low is not installed for this Ruby", "as it was", ruby},
	} {
		d := &doctor{f: Facts{Sites: []SiteFacts{{Spec: materialise.Site{Name: "day", App: "app"}}},
			Parts:     []PartFacts{{Spec: kind.Part{Name: "app"}, Traits: *kinds.Kinds().TraitsOf(c.kind)}},
			Suggested: map[string]Suggested{"app": c.own}}}
		d.add(seen, "packages-missing", about.Site("day"), c.what, "as it was")
		d.taskRemedies()
		assert.Equal(t, c.want, d.all[0].Remedy, c.what)
	}
}

// Why a task failed is said as it would be of a page, with what removes that.
func TestWhyATaskFailed(t *testing.T) {
	app := PartFacts{Spec: kind.Part{Name: "app", Role: kind.RoleRuntime, Project: "/ferry"},
		Traits: *kinds.Kinds().TraitsOf("python")}
	trace := func(line, end string) []string {
		return []string{"Traceback (most recent call last):", `  File "/ferry/manage.py", line 4, in x`,
			"    " + line, end}
	}
	for _, c := range []struct {
		tail              []string
		what, does, place string
	}{
		{trace("import tide", "ModuleNotFoundError: No module named 'tide'"),
			"the package tide is not installed for this interpreter", "dravit task deps, then dravit start",
			"manage.py:4"},
		{trace("fares[1]", "IndexError: low"), "IndexError: low", "correct manage.py:4, then dravit start",
			"manage.py:4"},
		{trace(`e["MOOR"]`, "Error: MOOR_KEY is not set"), "the application wants the variable MOOR_KEY, and it is " +
			"not set", "add it to dravit.toml with its value, then dravit start:\n\t[env]\n\tMOOR_KEY = \"VALUE\"",
			"manage.py:4"},
		{[]string{"low tide"}, "", "its output says what is wrong; dravit task tables runs it alone, and dravit " +
			"start goes on", ""},
	} {
		got := Causes(Facts{Parts: []PartFacts{app}, Tasks: []TaskFacts{
			{Name: "tables", When: "first-start", Command: "pip install x", Failed: "it exited with code 1",
				Tail: c.tail},
			{Name: "deps", When: "first-start", Command: "pip install -r requirements.txt"}}})
		want := "the task tables failed, so nothing was started after it"
		if c.what != "" {
			want += ": " + c.what
		}
		i := slices.IndexFunc(got, func(c Cause) bool { return c.Cause == cause.TaskFailed })
		require.GreaterOrEqual(t, i, 0)
		assert.Equal(t, []string{want, c.does, c.place}, []string{got[i].What, got[i].Remedy, got[i].Place})
		assert.Equal(t, "it exited with code 1", got[i].Evidence[0])
	}
}

// What is to be done in the folder in which a part works is said so.
func TestRemediesInAFolder(t *testing.T) {
	web := PartFacts{Spec: kind.Part{Name: "web", Want: stackfile.PartConfig{Command: "cd front && vite"}},
		Traits: *kinds.Kinds().TraitsOf("node")}
	d := &doctor{f: Facts{Parts: []PartFacts{web}, Suggested: map[string]Suggested{"web": {Add: "npm install",
		Packages: "npm ci", Manifest: "front/package.json", Named: []string{"vite"}}}}}
	d.add(seen, cause.CommandMissing, about.Part("web"), "the command vite does not exist", "install it")
	d.add(seen, cause.PackagesMissing, about.Part("web"), "the module tide is not installed", "as it was")
	d.add(seen, cause.CommandMissing, about.Part("api"), "the command vite does not exist", "install it")
	d.uninstalled()
	d.taskRemedies()
	assert.Equal(t, cause.PackagesMissing, d.all[0].Cause)
	assert.Equal(t, "add this to dravit.toml, then dravit start:\n\t[[task]]\n\tname = \"packages\"\n"+
		"\tpart = \"web\"\n\tcommand = \"npm ci\"\n\twhen = \"first-start\"\n\tfolder = \"front\"", d.all[0].Remedy)
	assert.Equal(t, "cd front && dravit run --part web -- npm install tide", d.all[1].Remedy)
	assert.Equal(t, cause.CommandMissing, d.all[2].Cause, "of its folder nothing is known")
}
