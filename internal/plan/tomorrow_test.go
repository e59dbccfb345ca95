package plan_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/environment"
	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/stackfile"
)

// lamp is a kind that nobody has written: an identity server with two ports, which uses a database and says in fields
// of its own what others have to know.
type lamp struct{ kind.StoreDefaults }

var lampTraits = kind.Traits{Name: "lamp", Role: "identity", Keys: []string{"port", "uses"}, Fields: []string{"realm"},
	BuiltIn: "1.0.0"}

func (lamp) Traits() *kind.Traits           { return &lampTraits }
func (lamp) Command(kind.Part) kind.Command { return kind.Command{Path: "/usr/bin/lamp"} }
func (lamp) Ladder(kind.Part) []kind.Rung   { return nil }
func (lamp) Needs(stackfile.PartConfig) kind.Needs {
	return kind.Needs{Port: true, PortBase: 19000, More: []kind.NamedPort{{Name: "management", Base: 19000}}}
}
func (lamp) Exports(p kind.Part) kind.Exports {
	return kind.Exports{URL: "http://" + p.Address(), Fields: map[string]string{"realm": "ferry-" + p.Name}}
}

// A kind of a sort that nobody thought of needs no line outside of its package: it gets its ports, keeps them, and
// others read its fields.
func TestKindOfTomorrow(t *testing.T) {
	kinds := append(slices.Clone(all.Kinds()), lamp{})
	text := "[part.keys]\nkind = \"lamp\"\nuses = [\"db\"]\n[part.db]\nkind = \"sqlite\"\n[env]\n" +
		"REALM = \"{keys.realm}\"\nADMIN = \"http://{keys.host}:{keys.management_port}\"\n"
	file, err := stackfile.Parse("ferry", []byte(text), nil, kinds.Vocabulary())
	require.NoError(t, err)
	wrong := text + "X = \"{keys.bucket}\"\nY = \"{db.realm}\"\n"
	_, err = stackfile.Parse("ferry", []byte(wrong), nil, kinds.Vocabulary())
	require.ErrorContains(t, err, `a part has no "bucket"`)
	require.ErrorContains(t, err, `a part has no "realm"`)

	in := machine(t, "debian", "")
	in.File = file
	p := plan.Make(in, kinds.ByName())
	require.True(t, p.OK, "%+v", p.Faults)
	keys := part(t, p, "keys")
	assert.Equal(t, []string{"db"}, keys.Uses)
	assert.Equal(t, map[string]int{"management": 19001}, keys.Ports)
	assert.Equal(t, 19000, keys.Port)
	assert.Equal(t, "19001", decision(t, p, "part.keys.port.management").Choice)

	book := &ledger.Ledger{Stacks: map[string]ledger.Stack{}}
	materialise.Enter(book, "abc", "/p", ledger.Mark{}, p)
	assert.Equal(t, 19001, book.Stacks["abc"].Ports[plan.PortKey("keys", "management")])
	in.Ledger.Ports = map[string]int{"keys": 19000, plan.PortKey("keys", "management"): 19444}
	assert.Equal(t, 19444, part(t, plan.Make(in, kinds.ByName()), "keys").Ports["management"], "it keeps its port")

	parts := []kind.Part{{Name: "keys", Kind: "lamp", Role: "identity", Port: 19000,
		Ports: map[string]int{"management": 19001}}}
	vars := environment.Variables(parts, kinds, file.Env, environment.Machine{}, nil)
	assert.Equal(t, "ferry-keys", kind.Getenv(vars, "REALM"))
	assert.Equal(t, "http://127.0.0.1:19001", kind.Getenv(vars, "ADMIN"))
	assert.Equal(t, "19001", kind.Getenv(vars, "KEYS_MANAGEMENT_PORT"))
	assert.Equal(t, "ferry-keys", kind.Getenv(vars, "KEYS_REALM"))
}
