package diagnose

import (
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/kind"
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
	for what, want := range map[string]string{
		"the module tide is not installed":         "dravit run --part app -- npm install tide",
		"the module @quay/tide/x is not installed": "dravit run --part app -- npm install @quay/tide",
		"the module boats/low is not installed":    "as it was",
		"the module ./tide is not installed":       "as it was",
		"the module $(rm) is not installed":        "as it was",
	} {
		d := &doctor{f: Facts{Sites: []SiteFacts{{Spec: materialise.Site{Name: "day", App: "app"}}},
			Suggested: map[string]Suggested{"app": {Add: "npm install", Named: []string{"boats"}}}}}
		d.add(seen, "packages-missing", about.Site("day"), what, "as it was")
		d.taskRemedies()
		assert.Equal(t, want, d.all[0].Remedy, what)
	}
}

// What is to be done in the folder in which a part works is said so.
func TestRemediesInAFolder(t *testing.T) {
	web := PartFacts{Spec: kind.Part{Name: "web", Want: stackfile.PartConfig{Command: "cd front && vite"}}}
	d := &doctor{f: Facts{Parts: []PartFacts{web}, Suggested: map[string]Suggested{"web": {Add: "npm install",
		Packages: "npm ci", Named: []string{"vite"}}}}}
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
