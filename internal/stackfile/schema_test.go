package stackfile

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The schema that editors get says the same as the reader, as far as a schema can.
func TestSchemaAgreesWithTheReader(t *testing.T) {
	text, err := json.Marshal(Schema(words))
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("dravit.schema.json", doc))
	schema, err := compiler.Compile("dravit.schema.json")
	require.NoError(t, err)
	valid := func(file string) bool {
		t.Helper()
		tree := map[string]any{}
		require.NoError(t, toml.Unmarshal([]byte(file), &tree))
		asJSON, err := json.Marshal(tree)
		require.NoError(t, err)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(asJSON)))
		require.NoError(t, err)
		return schema.Validate(value) == nil
	}
	assert.True(t, valid(whole))
	for _, bad := range []string{
		"nam = \"x\"", "name = 3", "name = \"A b\"", "[part.db]\nkind = \"mariabd\"",
		"[part.db]\ndatabase = \"x\"", "[part.db]\nkind = []",
		"[part.db]\nkind = \"mariadb\"\nport = 70000", "[part.db]\nkind = \"mariadb\"\nport = \"x\"",
		"[part.\"a b\"]\nkind = \"nginx\"",
		"[part.app]\nkind = \"php\"\nextensions = \"intl\"", "[part.app]\nkind = \"php\"\nextensions = [\"a b\"]",
		"[requires]\ngit = 3", "[requires]\ngit = { x = 1 }",
		"[part.app]\nkind = \"php\"\nextensions = [\"a\", \"a\"]",
		"[[site]]\nroot = \"x\"", "[[site]]\nname = \"a\"\nexpect = { status = 20 }",
		"[[site]]\nname = \"a\"\nexpect = { path = \"x\" }", "site = \"x\"",
		"[part.db]\nkind = \"mariadb\"\n[part.db.mariadb]\nprot = 1", "[env]\nA = { b = 1 }",
	} {
		assert.False(t, valid(bad), bad)
		_, err := Read(folder(t, bad, ""), words)
		assert.Error(t, err, bad)
	}
	for _, key := range []string{"name", "part", "site", "env"} {
		assert.NotEmpty(t,
			doc.(map[string]any)["properties"].(map[string]any)[key].(map[string]any)["description"], key)
	}
}

// Every key is explained where users look.
func TestEveryKeyIsDocumented(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "stack-file.md"))
	require.NoError(t, err)
	for _, table := range []reflect.Type{reflect.TypeFor[File](), reflect.TypeFor[PartConfig](),
		reflect.TypeFor[SiteConfig](), reflect.TypeFor[Expect]()} {
		for i := range table.NumField() {
			key := table.Field(i).Tag.Get("toml")
			if key == "-" {
				continue
			}
			assert.True(t, strings.Contains(string(text), "`"+key+"`") || strings.Contains(string(text), "["+key),
				"docs/stack-file.md does not explain %q", key)
			assert.NotEmpty(t, keyRules[table][key].doc, key)
		}
	}
}
