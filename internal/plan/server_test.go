package plan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/plan"
)

// A part may be a server that somebody else runs, also one that Dravit ran before: it needs no program and no port of
// this machine's, and its data stay.
func TestServerOutsideTheStack(t *testing.T) {
	in := machine(t, "debian", `
[part.db]
kind = ["sqlite", "mariadb"]
version = ">= 99"
outside = "mysql://clerk@pier.test:3306/sailings"
`)
	in.History.Data = map[string]plan.Written{"db": {Kind: "mariadb", Version: "10.11.19"}}
	in.History.Good.Parts = map[string]plan.Chosen{"db": {Kind: "mariadb", Version: "10.11.19", Program: "/usr/sbin/x"}}
	in.Survey.Programs = nil
	p := decide(in)
	assert.True(t, p.OK, "%+v", p.Faults)
	db := part(t, p, "db")
	assert.Equal(t, []any{"mariadb", "outside", "pier.test", 3306, "clerk", "sailings", false},
		[]any{db.Kind, db.Origin, db.Outside, db.Port, db.Want.User, db.Want.Database, db.Data})
	assert.Contains(t, decision(t, p, "part.db.kind").Rejected[0].Because, "this kind has none")
	said := strings.Join(p.Warnings, "\n")
	assert.Contains(t, said, "so version in the stack file has no effect")
	assert.Contains(t, said, "unencrypted")
	assert.Equal(t, "mariadb at pier.test:3306", p.Changes[0].Now)
}
