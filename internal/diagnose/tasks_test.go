package diagnose

import (
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/materialise"
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
		suggested map[string]string
		want      string
	}{
		{"its task", "tables-missing", first("tables"), nil, "dravit task tables"},
		{"several tasks", "tables-missing", first("schema", "seed"), nil,
			"run the task that does it: dravit task schema, or dravit task seed"},
		{"a task that does something else", "tables-missing", []TaskFacts{{Name: "install", Command: "npm install"}},
			nil,
			"as it was"},
		{"older tables", "tables-outdated", []TaskFacts{{Name: "x", Command: "php artisan migrate", When: "by-hand"},
			{Name: "install", Command: "composer install", When: "first-start"}}, nil, "dravit task x"},
		{"older tables, by a suggestion", "tables-outdated", nil, map[string]string{"tables-missing": "flask db " +
			"upgrade"},
			"dravit run --part app -- flask db upgrade"},
		{"packages", "packages-missing", []TaskFacts{{Name: "x", Command: "php artisan migrate"},
			{Name: "deps", Command: "composer install", Part: "app"}}, nil, "dravit task deps"},
		{"a task of another part", "tables-missing",
			[]TaskFacts{{Name: "x", Part: "api", When: "first-start"}}, nil, "as it was"},
		{"a task at another time", "packages-missing",
			[]TaskFacts{{Name: "x", Part: "app", When: "by-hand"}}, nil, "as it was"},
		{"a suggestion", "packages-missing", nil, map[string]string{"packages-missing": "composer install"},
			"add this to dravit.toml, then dravit start:\n\t[[task]]\n\tname = \"packages\"\n\tpart = \"app\"\n" +
				"\tcommand = \"composer install\"\n\twhen = \"first-start\""},
		{"another cause", "script-syntax", first("tables"), nil, "as it was"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := &doctor{f: Facts{Sites: site, Tasks: c.tasks, Suggested: c.suggested}}
			d.add(seen, c.cause, "site.day", "x", "as it was")
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
	assert.Equal(t, "task.tables task-failed", got[0].Subject+" "+got[0].Cause)
	assert.Equal(t, []string{"it exited with code 1", "/l: low tide"}, got[0].Evidence)
}
