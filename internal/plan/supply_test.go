package plan_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/plan"
	"dravit/internal/survey"
	"dravit/internal/trouble"
)

// What sources are known to have is named, and so is what the system's package manager would be told.
func TestOffers(t *testing.T) {
	in := machine(t, "debian", "[part.app]\nkind = \"php\"\nversion = \"7.4\"\n[part.seats]\nkind = \"memcached\"\n"+
		"[part.log]\nkind = \"sqlite\"\n[requires]\ngit = \"99\"\n")
	in.Survey.Programs = nil
	in.Survey.Tools = nil
	in.Survey.Host.Installer = "dnf"
	p := decide(in)
	require.Len(t, p.Faults, 3)
	assert.Equal(t, "dravit start asks the sources for one, and fetches it after a yes, as does "+
		"dravit supply php 7.4; or sudo dnf install memcached php-fpm", p.Faults[0].Next)
	assert.Equal(t, "sudo dnf install memcached php-fpm", p.Install)
	offer := plan.Supply{Kind: "php", Version: "7.4.33", Source: "packages.quay.example", Bytes: 38 << 20}
	git := plan.Supply{Kind: "git", Version: "99.1", Source: "packages.quay.example"}
	in.Offers = map[string]plan.Supply{"app": offer, "requires.git": git}
	p = decide(in)
	assert.Equal(t, in.Offers, p.Supply)
	assert.Contains(t, p.Faults[0].Next, "dravit start fetches php 7.4.33 from packages.quay.example, after a yes")
	assert.Contains(t, p.Faults[2].Next, "dravit start fetches git 99.1")

	accepts := plan.Accepts(in, all.Kinds().ByName(), "app", "php")
	assert.True(t, accepts("7.4.1"))
	assert.False(t, accepts("8.0.0"))
	assert.False(t, plan.AcceptsTool(in, "git")("2.40"))
	app := in.File.Parts["app"]
	app.Extensions = []string{"redis"}
	in.File.Parts["app"] = app
	needed, also := plan.Extensions(in, all.Kinds().ByName(), "app", "php")
	assert.Equal(t, []string{"redis"}, needed)
	assert.Equal(t, []string{"pdo_sqlite", "sqlite3"}, also, "it could reach the database by them")
}

// A part whose data another series wrote takes no program that would convert them unasked.
func TestOffersForData(t *testing.T) {
	in := machine(t, "debian", "[part.db]\nkind = \"mariadb\"\n")
	in.History.Data = map[string]plan.Written{"db": {Kind: "mariadb", Version: "10.5.23"}}
	accepts := plan.Accepts(in, all.Kinds().ByName(), "db", "mariadb")
	assert.True(t, accepts("10.5.9"))
	assert.False(t, accepts("11.8.9"))
	in.Consent.Upgrade = []string{"db"}
	assert.True(t, plan.Accepts(in, all.Kinds().ByName(), "db", "mariadb")("11.8.9"))
}

func TestLock(t *testing.T) {
	in := machine(t, "debian", "[part.db]\nkind = \"mariadb\"\n")
	const tree = "/home/ada/supply/trees/mariadb-11/files/usr/sbin/mariadbd"
	own := part(t, decide(in), "db")
	in.Locked = map[string]plan.Locked{"db": {Kind: "mariadb", Version: "11.8.9"}}
	p := decide(in)
	require.True(t, p.OK)
	assert.Equal(t, own.Program, part(t, p, "db").Program, "what is here serves")
	require.NotEmpty(t, p.Warnings)
	assert.Contains(t, p.Warnings[0], "part db is locked to mariadb 11.8.9 from supply, and runs on mariadb")
	in.Consent.Locked = true
	p = decide(in)
	require.False(t, p.OK)
	assert.Contains(t, p.Faults[0].Because, "the lock names mariadb 11.8.9 from supply")

	in.Consent.Locked = false
	program := kind.Program{Kind: "mariadb", Version: "11.8.9", Path: tree, Origin: survey.Supply,
		Facts: map[string]string{"share": "/s", "launch": "namespace"}}
	in.Survey.Programs = append(in.Survey.Programs, program)
	in.Locked["db"] = plan.Locked{Kind: "mariadb", Version: "11.8.9", Program: tree}
	p = decide(in)
	require.True(t, p.OK, "%+v", p.Faults)
	assert.Equal(t, tree, part(t, p, "db").Program, "an installed one does not go first")
	assert.Empty(t, p.Warnings)
	assert.Contains(t, decision(t, p, "part.db.version").Because[0], "starts it in a namespace")
}

// A required program that Dravit fetched serves where the one that PATH picks does not.
func TestFetchedTools(t *testing.T) {
	in := machine(t, "debian", "[requires]\ngit = \">= 2.45\"\n")
	fetched := survey.Found{Path: "/trees/git/files/usr/bin/git", Version: "2.47.3", Origin: survey.Supply}
	for _, picked := range []string{"", "2.39.5"} {
		found := []survey.Found{}
		if picked != "" {
			found = append(found, survey.Found{Path: "/usr/bin/git", Version: picked, OnPath: true})
		}
		in.Survey.Tools = []survey.Tool{{Name: "git", Found: append(found, fetched)}}
		p := decide(in)
		require.True(t, p.OK, "%+v", p.Faults)
		assert.Equal(t, []plan.Tool{{Name: "git", Version: "2.47.3", Program: fetched.Path}}, p.Tools)
	}
	in.Survey.Tools[0].Found[0].Version = "2.46"
	assert.Empty(t, decide(in).Tools, "the machine's own goes first")

	in.Locked = map[string]plan.Locked{plan.OfTool + "git": {Kind: "git", Version: "2.47.3", Program: fetched.Path}}
	p := decide(in)
	require.Len(t, p.Tools, 1, "unless the lock names the fetched one")
	assert.Empty(t, p.Warnings)
	in.Locked[plan.OfTool+"git"] = plan.Locked{Kind: "git", Version: "2.47.3"}
	p = decide(in)
	require.True(t, p.OK)
	assert.Empty(t, p.Tools)
	assert.Contains(t, strings.Join(p.Warnings, " "),
		"git is locked to git 2.47.3 from supply, and runs on git 2.46 here")
	in.Consent.Locked = true
	p = decide(in)
	require.Len(t, p.Faults, 1)
	assert.Equal(t, []any{trouble.NoProgram, about.Required("git")}, []any{p.Faults[0].Code, p.Faults[0].Subject})
	assert.Contains(t, p.Faults[0].Because, "the lock names git 2.47.3")
}

// What is lacking is data, with a fault for each: nobody has to read its sentence.
func TestLacks(t *testing.T) {
	in := machine(t, "ten-runtimes", "[requires]\nkelp = \"*\"\ngit = \">= 99\"\n"+
		"[part.app]\nkind = \"php\"\nversion = \"5.2\"\n"+
		"[part.db]\nkind = [\"postgres\", \"mariadb\"]\nversion = \"99\"\n[part.mail]\nkind = \"dravit-mail\"\n")
	p := decide(in)
	var subjects []string
	for _, f := range p.Faults {
		subjects = append(subjects, strings.TrimPrefix(f.Subject.String(), "part."))
	}
	var lacking []string
	for _, l := range p.Lacks {
		lacking = append(lacking, l.Key)
		assert.Equal(t, l.Tool == "", l.Part == l.Key)
	}
	assert.ElementsMatch(t, subjects, lacking)
	assert.IsIncreasing(t, lacking)
	require.Len(t, p.Lacks, 4)
	i := slices.IndexFunc(p.Lacks, func(l plan.Lack) bool { return l.Part == "db" })
	assert.Equal(t, []string{"postgres", "mariadb"}, p.Lacks[i].Kinds)
	assert.Empty(t, decide(machine(t, "ten-runtimes", "[part.app]\nkind = \"php\"\n")).Lacks)
}
