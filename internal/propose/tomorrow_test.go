package propose

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/stackfile"
)

// made is a kind that nobody has written.
type made struct {
	kind.Defaults
	traits kind.Traits
}

func (m made) Traits() *kind.Traits                { return &m.traits }
func (made) Command(kind.Part) kind.Command        { return kind.Command{} }
func (made) Ladder(kind.Part) []kind.Rung          { return nil }
func (made) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{} }

// A store of a new sort, a runtime of a new language and a web server with rules of its own are proposed by what they
// say about themselves: no line of this package names them.
func TestKindsOfTomorrow(t *testing.T) {
	kinds := append(slices.Clone(all.Kinds()),
		made{traits: kind.Traits{Name: "lamp", Role: "identity", Signs: kind.Signs{Part: "keys",
			Names: []string{"lamp"}, Packages: []string{"npm:lamp-client"}, Variables: []string{"LAMP"}, Light: true}}},
		made{traits: kind.Traits{Name: "abacus", Role: kind.RoleApp, Code: &kind.Code{Title: "a server in abacus",
			Ecosystem: "bead", Manifest: "beads.txt", Entries: []string{"count.bead"}, Run: "abacus"}}},
		made{traits: kind.Traits{Name: "slate", Role: kind.RoleRuntime, Interpreter: "slate", Code: &kind.Code{
			Title: "pages of slate", Pages: ".slate", Manifest: "slates.txt",
			Install: []kind.Installation{{There: "slates", Command: "slate fetch"}}}}})
	propose := func(files map[string]string) string {
		t.Helper()
		m := machine
		m.Kinds = kinds
		p, err := Look(t.Context(), folder(t, "day", files), m)
		require.NoError(t, err)
		return p.Text()
	}
	text := propose(map[string]string{"count.bead": "PORT", "beads.txt": "", ".env.example": "LAMP_URL=lamp://keys\n",
		"compose.yaml": "services:\n  who:\n    image: lamp:3\n"})
	for _, line := range []string{"[part.app]\n", `kind = "abacus"`, `command = "abacus count.bead"`, "[part.keys]\n",
		`kind = "lamp"`} {
		assert.Contains(t, text, line)
	}
	text = propose(map[string]string{"public/index.slate": "", "slates.txt": "boats"})
	for _, line := range []string{`kind = "slate"`, `root = "public"`} {
		assert.Contains(t, text, line)
	}
	assert.NotContains(t, text, "command")
}
