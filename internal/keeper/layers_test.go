package keeper

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/materialise"
)

// Parts stop after all that may still ask them: also a store that uses an application, and an application that uses
// another one.
func TestLayers(t *testing.T) {
	spec := materialise.Spec{
		Parts: []kind.Part{
			{Name: "db", Role: kind.RoleDatabase},
			{Name: "keys", Role: kind.RoleDatabase, Uses: []string{"api"}},
			{Name: "api", Role: kind.RoleApp, Uses: []string{"db"}},
			{Name: "app", Role: kind.RoleRuntime, Uses: []string{"db", "keys"}},
			{Name: "web", Role: kind.RoleWeb},
			{Name: "mail", Role: kind.RoleMail},
		},
		Sites: []materialise.Site{{Name: "ferry", Server: "web", App: "app"}, {Name: "alone", Server: "web"}},
	}
	of := func(names ...string) [][]string {
		return layers(names, func(name string) []string { return needed(spec, name) })
	}
	assert.Equal(t, [][]string{{"web", "mail"}, {"app"}, {"keys"}, {"api"}, {"db"}},
		of("db", "keys", "api", "app", "web", "mail"))
	assert.Equal(t, [][]string{{"web", "db"}}, of("web", "db"), "what is not among them keeps nobody waiting")
	assert.Empty(t, of())

	spec.Parts[0].Uses = []string{"app"} // a circle, which a stack file cannot have
	total := 0
	for _, layer := range of("db", "keys", "api", "app") {
		total += len(layer)
	}
	assert.Equal(t, 4, total, "each is stopped once")
}

// A start of no part at first is not one of all parts, also after it went through the socket.
func TestFirstOfNone(t *testing.T) {
	for _, first := range [][]string{nil, {}, {"db"}} {
		text, err := json.Marshal(request{First: first})
		require.NoError(t, err)
		var got request
		require.NoError(t, json.Unmarshal(text, &got))
		assert.Equal(t, first, got.First)
	}
}
