package plan_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/plan"
	"dravit/internal/survey"
	"dravit/internal/trouble"
)

// Every port that browsers refuse is skipped, and no other one (WHATWG Fetch, "bad port").
func TestPortsThatBrowsersRefuse(t *testing.T) {
	refused := map[int]bool{}
	for _, port := range []int{1719, 1720, 1723, 2049, 3659, 4045, 4190, 5060, 5061, 6000, 6566, 6665, 6666, 6667, 6668,
		6669, 6679, 6697, 10080} {
		refused[port] = true
	}
	in := machine(t, "debian", "[part.seats]\nkind = \"redis\"\n")
	for port := 1500; port < 11000; port++ {
		in.Ledger.Ports = map[string]int{"seats": port}
		if got := part(t, decide(in), "seats").Port; (got != port) != refused[port] {
			t.Errorf("the part had %d and gets %d", port, got)
		}
	}
}

// One bad pin hides no other, and what is skipped on the way to a free port is named, but not without end.
func TestPinsOneByOne(t *testing.T) {
	in := machine(t, "debian", `
[part.a]
kind = "redis"
port = 6390
[part.b]
kind = "redis"
port = 6390
[part.c]
kind = "redis"
port = 25
[part.d]
kind = "redis"
port = 6391
[part.e]
kind = "redis"
port = 6392
[part.f]
kind = "redis"
`)
	in.Survey.Host.LowestPort = 1024
	in.Survey.Ports = []survey.Port{{Protocol: "tcp", Port: 6391, Program: "chatter", PID: 7}}
	for i := range 8 {
		in.Survey.Ports = append(in.Survey.Ports,
			survey.Port{Protocol: "tcp", Port: 16379 + i, Program: "chatter", PID: 7})
	}
	p := decide(in)
	var got []string
	for _, f := range p.Faults {
		got = append(got, fmt.Sprint(f.Subject, " ", f.Code))
	}
	assert.Equal(t, []string{
		fmt.Sprint("part.b.port ", trouble.Contradiction),
		fmt.Sprint("part.c.port ", trouble.PortForbidden),
		fmt.Sprint("part.d.port ", trouble.PortTaken),
	}, got)
	assert.Equal(t, 6392, part(t, p, "e").Port)
	assert.Equal(t, 16387, part(t, p, "f").Port)
	assert.Len(t, decision(t, p, "part.f.port").Rejected, 5, "the first few")

	in.Ledger.Ports = map[string]int{"f": 16380}
	p = decide(in)
	rejected := decision(t, p, "part.f.port").Rejected
	assert.Equal(t, "16380", rejected[0].Option, "the port that it had")
	require.Len(t, p.Changes, 1)
	assert.Equal(t, "16380", p.Changes[0].Was)
	assert.Equal(t, "16387", p.Changes[0].Now)
}

// A port that two parts had, one after the other, is given once.
func TestPortIsGivenOnce(t *testing.T) {
	in := machine(t, "debian", "[part.a]\nkind = \"redis\"\n[part.b]\nkind = \"redis\"\n[part.c]\nkind = \"redis\"\n")
	in.Ledger.Ports = map[string]int{"a": 16400, "b": 16400}
	p := decide(in)
	assert.Equal(t, 16400, part(t, p, "a").Port)
	assert.Equal(t, 16379, part(t, p, "b").Port)
	assert.Equal(t, 16380, part(t, p, "c").Port)
}

// The port on which other machines see a site is kept, or moves with the reason.
func TestNetworkPortMoves(t *testing.T) {
	in := machine(t, "debian", "[[site]]\nname = \"quay\"\nroot = \"public\"\nlisten = \"network\"\n[[site]]\n"+
		"name = \"pier\"\nroot = \"public\"\nlisten = \"network\"\n")
	in.Consent.Network = []string{"quay", "pier"}
	in.Ledger.Ports = map[string]int{plan.NetworkKey("quay"): 8610, plan.NetworkKey("pier"): 8610}
	in.Survey.Ports = []survey.Port{{Protocol: "tcp", Port: 8600, Program: "chatter", PID: 7}}
	p := decide(in)
	require.True(t, p.OK, "%+v", p.Faults)
	assert.Equal(t, "network, on port 8610", decision(t, p, "site.quay.listen").Choice)
	d := decision(t, p, "site.pier.listen")
	assert.Equal(t, "network, on port 8601", d.Choice)
	assert.Equal(t, "8610", d.Rejected[0].Option)
	assert.Equal(t, "8600", d.Rejected[1].Option)
	in.Consent = plan.Consent{Loopback: []string{"quay"}}
	d = decision(t, decide(in), "site.quay.listen")
	assert.Equal(t, "loopback", d.Choice)
	assert.Contains(t, d.Rejected[0].Because, "you said no")
	assert.Contains(t, decision(t, decide(in), "site.pier.listen").Rejected[0].Because, "you have to agree")
}
