package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/about"
	"dravit/internal/plan"
)

// What runs on something else than at the last good start is said, with the reason that the machine gives.
func TestChangesOfPrograms(t *testing.T) {
	const maria = "/usr/sbin/mariadbd"
	now := "mariadb 10.11.19"
	for _, c := range []struct {
		name         string
		was          plan.Chosen
		from, to     string
		because      string
		unchanged    bool
		withoutParts bool
	}{
		{name: "the same", was: plan.Chosen{Kind: "mariadb", Version: "10.11.19", Program: maria}, unchanged: true},
		{name: "upgraded in its place", was: plan.Chosen{Kind: "mariadb", Version: "10.11.2", Program: maria},
			from: "mariadb 10.11.2", to: now, because: maria + " became 10.11.19"},
		{name: "gone", was: plan.Chosen{Kind: "mariadb", Version: "10.5.9", Program: "/opt/mariadbd"},
			from: "mariadb 10.5.9", to: now, because: "/opt/mariadbd is gone"},
		{name: "the same version elsewhere",
			was:  plan.Chosen{Kind: "mariadb", Version: "10.11.19", Program: "/opt/mariadbd"},
			from: now + " at /opt/mariadbd", to: now + " at " + maria, because: "/opt/mariadbd is gone"},
		{name: "built in before", was: plan.Chosen{Kind: "sqlite", Version: "3.1.0"},
			from: "sqlite 3.1.0", to: now, because: "another program is used now"},
	} {
		t.Run(c.name, func(t *testing.T) {
			in := machine(t, "debian", "[part.db]\nkind = \"mariadb\"\n")
			in.History.Good = plan.Good{At: "2026-11-20T10:00:00Z",
				Parts: map[string]plan.Chosen{"db": c.was, "gone": {Kind: "redis"}}}
			p := decide(in)
			assert.Equal(t, "2026-11-20T10:00:00Z", p.Since)
			if c.unchanged {
				assert.Empty(t, p.Changes)
				return
			}
			assert.Equal(t,
				[]plan.Change{{Subject: about.Part("db").At("version"), Was: c.from, Now: c.to, Because: c.because}},
				p.Changes,
				"and nothing of a part that the stack file does not have any more")
		})
	}
	in := machine(t, "debian", "[part.db]\nkind = \"redis\"\nversion = \"1.0\"\n")
	in.History.Good.Parts = map[string]plan.Chosen{"db": {Kind: "redis", Version: "7.0.15",
		Program: "/usr/bin/redis-server"}}
	p := decide(in)
	require.Len(t, p.Changes, 1)
	assert.Equal(t, "nothing", p.Changes[0].Now)
	in = machine(t, "debian", "[part.seats]\nkind = \"dravit-cache\"\n")
	in.Version = "0.2.0"
	in.History.Good.Parts = map[string]plan.Chosen{"seats": {Kind: "dravit-cache", Version: "0.1.0"}}
	assert.Equal(t, "Dravit itself was replaced", decide(in).Changes[0].Because)
}

// What was edited in the stack file is shown, but no variable's value.
func TestEdits(t *testing.T) {
	in := machine(t, "debian", "[part.db]\nkind = \"mariadb\"\nport = 3310\nversion = \"10\"\n[env]\nNEW = \"1\"\n"+
		"SAME = \"s\"\nOTHER = \"o\"\n")
	now := in.File.Values()
	was := map[string]string{
		"name":             now["name"],
		"part.db.kind":     "mariadb",
		"part.db.port":     "3306",
		"part.db.database": "boats",
		"part.db.version":  "10",
		"env.SAME":         now["env.SAME"],
		"env.OTHER":        "a digest of another",
		"env.OLD":          "a digest",
	}
	in.History.Good.File = was
	const because = "the stack file was edited"
	assert.Equal(t, []plan.Change{
		{Subject: about.Parse("env.NEW"), Was: "nothing", Now: "a value", Because: because},
		{Subject: about.Parse("env.OLD"), Was: "a value", Now: "nothing", Because: because},
		{Subject: about.Parse("env.OTHER"), Was: "a value", Now: "another", Because: because},
		{Subject: about.Parse("part.db.database"), Was: "boats", Now: "nothing", Because: because},
		{Subject: about.Parse("part.db.port"), Was: "3306", Now: "3310", Because: because},
	}, decide(in).Edits)
	in.History.Good.File = nil
	assert.Empty(t, decide(in).Edits, "there was no good start")
}
