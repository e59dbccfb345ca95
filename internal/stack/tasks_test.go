package stack

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/kind"
	"dravit/internal/materialise"
	"dravit/internal/stackfile"
	"dravit/internal/task"
)

// What has to answer before a task runs follows from what its part uses, not from roles: a store that uses an
// application waits for what the task prepares.
func TestBeforeTasks(t *testing.T) {
	part := func(name string, role kind.Role, uses ...string) kind.Part {
		return kind.Part{Name: name, Role: role, Uses: uses}
	}
	spec := materialise.Spec{Parts: []kind.Part{
		part("db", kind.RoleDatabase),
		part("seats", kind.RoleCache, "db"),
		part("lookout", kind.RoleApp, "db"),
		part("keys", kind.RoleDatabase, "lookout"), // an application's, with a store's interface
		part("app", kind.RoleRuntime, "db", "seats", "keys"),
		part("web", kind.RoleWeb),
	}}
	of := func(part string) []task.Task {
		return []task.Task{{TaskConfig: stackfile.TaskConfig{Name: "tables", Part: part}}}
	}
	for _, c := range []struct {
		name  string
		due   []task.Task
		seeds []seed
		want  []string
	}{
		{"of no part", of(""), nil, []string{"db", "seats"}},
		{"of a part that uses stores alone", of("lookout"), nil, []string{"db", "seats"}},
		{"of a part that uses a store that uses an application", of("app"), nil,
			[]string{"db", "keys", "lookout", "seats"}},
		{"of a store", of("keys"), nil, []string{"db", "keys", "lookout", "seats"}},
		{"a seed alone", nil, []seed{{Part: part("db", kind.RoleDatabase)}}, []string{"db", "seats"}},
	} {
		assert.Equal(t, c.want, beforeTasks(spec, c.due, c.seeds), c.name)
	}
	spec.Parts = spec.Parts[5:]
	assert.Equal(t, []string{}, beforeTasks(spec, of(""), nil), "without stores nothing starts before")
}
