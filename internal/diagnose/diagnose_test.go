package diagnose

import (
	"net/netip"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/about"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/plan"
)

var no = false

func rungs(fell kind.RungName, got string) []health.Result {
	return []health.Result{{Rung: fell, Holds: &no, Expected: "it", Got: got}}
}

func symptoms() []kind.Symptom {
	re := func(text string) func() *regexp.Regexp {
		return func() *regexp.Regexp { return regexp.MustCompile(text) }
	}
	return []kind.Symptom{
		kind.When("tables-missing", re(`no table (\w+)`), "there is no table $1",
			"dravit run --part {part} -- make-tables"),
		kind.When("store-elsewhere", re(`refused`), "the store is elsewhere", "look"),
		kind.When("application-error", re(`Fatal: (.*)`), "it ended: $1", "look"),
	}
}

func facts(app lifecycle.State, page string) Facts {
	return Facts{Now: time.Now(), Parts: []PartFacts{
		{Spec: kind.Part{Name: "web", Role: kind.RoleWeb},
			Status: lifecycle.Status{State: lifecycle.Answers}, Program: true},
		{Spec: kind.Part{Name: "app", Role: kind.RoleRuntime, Uses: []string{"db"}},
			Status: lifecycle.Status{State: app}, Program: true, Traits: kind.Traits{Symptoms: symptoms()}},
		{Spec: kind.Part{Name: "db", Role: kind.RoleDatabase},
			Status: lifecycle.Status{State: lifecycle.Answers}, Program: true},
	}, Gateway: Gateway{Runs: true},
		Sites: []SiteFacts{{Spec: materialise.Site{Name: "ferry", Host: "ferry.test", Server: "web", App: "app"},
			Status: 200, Page: page, Rungs: rungs(kind.Replies, "x")}}}
}

func words(all []Cause) (out []string) {
	for _, c := range all {
		out = append(out, c.Subject.String()+" "+string(c.Cause))
	}
	return out
}

func TestPageTells(t *testing.T) {
	got := Causes(facts(lifecycle.Answers, "x\nFatal: no table boats in p\n"))
	require.Equal(t, []string{"site.ferry tables-missing"}, words(got), "one line has one cause, the likeliest")
	assert.Equal(t, "there is no table boats", got[0].What)
	assert.Equal(t, "dravit run --part app -- make-tables", got[0].Remedy)
	assert.Contains(t, got[0].Evidence[0], "Fatal: no table boats in p")
	assert.Equal(t, []string{"site.ferry unwell"}, words(Causes(facts(lifecycle.Answers, "nothing of use"))))
}

// A stopped store is not also a cause at everything that needs it; other errors on a page are.
func TestConsequencesAreNoCauses(t *testing.T) {
	f := facts(lifecycle.Unwell, "connection refused\n")
	f.Parts[2].Status.State = lifecycle.Stopped
	assert.Equal(t, []string{"part.db stopped"}, words(Causes(f)))
	f.Sites[0].Page = "no table boats\n"
	assert.ElementsMatch(t, []string{"part.db stopped", "site.ferry tables-missing"}, words(Causes(f)))
	f.Parts[0].Status.State = lifecycle.Failed
	assert.NotContains(t, words(Causes(f)), "site.ferry tables-missing", "a web server that is down shows no page")
	f.Stopped = true
	assert.Empty(t, Causes(f), "nobody wants it to answer")
}

// What Dravit saw goes before what a program wrote, and that before what is likely.
func TestOrder(t *testing.T) {
	f := facts(lifecycle.Failed, "")
	f.Parts[1].Log = "Fatal: low tide\n"
	f.Disks = []Disk{{Folder: "/data", Of: "data", Free: 10, Inodes: 100, InodesFree: 50}}
	f.Plan.Faults = []plan.Fault{{Subject: about.Parse("part.db.version"), What: "no"}}
	f.Proxy, f.Bypass = "http://10.0.0.1:3128", "example.org"
	got := words(Causes(f))
	assert.Equal(t, []string{"machine disk-full", "part.db.version no-plan",
		"part.app application-error", "machine proxy-catches"}, got)
	f.Bypass = "localhost,.test"
	assert.NotContains(t, words(Causes(f)), "machine proxy-catches")
}

func TestMachine(t *testing.T) {
	for want, disk := range map[string]Disk{
		"disk-full":        {Free: 0, Inodes: 9, InodesFree: 3},
		"memory-disk-full": {Free: 0, Memory: true},
		"inodes-full":      {Free: 1 << 40, Inodes: 9},
		"read-only":        {Free: 1 << 40, ReadOnly: true},
		"quota-full":       {Free: 1 << 40, OverQuota: true},
	} {
		f := facts(lifecycle.Failed, "")
		f.Disks = []Disk{disk}
		assert.Equal(t, "machine "+want, words(Causes(f))[0])
	}
	f := facts(lifecycle.Failed, "")
	f.Disks = []Disk{{Free: 1 << 40}}
	assert.Equal(t, []string{"part.app crashed"}, words(Causes(f)),
		"a disk with room explains nothing; nor does one that does not count files")

	// A log's message about a quota counts only while something is wrong.
	f.Parts[1].Log = "write: Disk quota exceeded\n"
	assert.Contains(t, words(Causes(f)), "machine quota-full")
	f = facts(lifecycle.Answers, "")
	f.Sites = nil
	f.Parts[1].Log = "write: Disk quota exceeded\n"
	assert.Empty(t, Causes(f), "it was made room since")
	f.Disks = []Disk{{Folder: "/d", Free: 1 << 40, OverQuota: true}}
	assert.Equal(t, []string{"machine quota-full"}, words(Causes(f)), "the next write will fail")
}

func TestNames(t *testing.T) {
	f := facts(lifecycle.Answers, "")
	f.Sites[0].Rungs = rungs(kind.Resolves, "none")
	assert.Equal(t, []string{"site.ferry name-unknown"}, words(Causes(f)))
	f.Sites[0].Resolves = []netip.Addr{netip.MustParseAddr("10.0.0.7")}
	got := Causes(f)
	assert.Equal(t, []string{"site.ferry name-elsewhere"}, words(got))
	assert.Contains(t, got[0].Evidence[0], "10.0.0.7")
	f.Authority = f.Now.Add(time.Hour)
	assert.Contains(t, words(Causes(f)), "machine clock-back")
}

func TestBypasses(t *testing.T) {
	for list, want := range map[string]bool{"": false, "localhost": true, ".localhost": true, "*.localhost": true,
		"*": true, "host": false, "example.org, localhost": true} {
		assert.Equal(t, want, bypasses(list, "ferry.localhost"), list)
	}
}
