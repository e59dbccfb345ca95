package plan_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/plan"
	"dravit/internal/project"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
	"dravit/internal/trouble"
)

// machine reads a recorded input: a survey of some machine, with a stack file laid over it.
func machine(t *testing.T, name, file string) plan.Input {
	t.Helper()
	var in plan.Input
	text, err := os.ReadFile(filepath.Join("testdata", name+".json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &in))
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, stackfile.Name), []byte(file), 0o644))
	in.File, err = stackfile.Read(dir, all.Kinds().Vocabulary())
	require.NoError(t, err)
	in.File.Name = "ferry"
	return in
}

func decide(in plan.Input) plan.Plan { return plan.Make(in, all.Kinds().ByName()) }

func part(t *testing.T, p plan.Plan, name string) plan.PartPlan {
	t.Helper()
	i := slices.IndexFunc(p.Parts, func(x plan.PartPlan) bool { return x.Name == name })
	require.GreaterOrEqual(t, i, 0, "no part %s: %+v", name, p.Faults)
	return p.Parts[i]
}

func decision(t *testing.T, p plan.Plan, subject string) plan.Decision {
	t.Helper()
	i := slices.IndexFunc(p.Decisions, func(d plan.Decision) bool { return d.Subject.String() == subject })
	require.GreaterOrEqual(t, i, 0, "no decision %s", subject)
	return p.Decisions[i]
}

const ferry = `
[part.web]
kind = ["nginx", "dravit-web"]
[part.app]
kind = ["php", "custom"]
[part.app.php]
extensions = ["mysqli", "redis"]
[part.app.custom]
command = "./office"
[part.db]
kind = ["mariadb", "sqlite"]
[part.seats]
kind = ["redis", "dravit-cache"]
[part.mail]
kind = "dravit-mail"
[[site]]
name = "ferry"
app = "app"
`

func TestOrdinaryMachine(t *testing.T) {
	p := decide(machine(t, "debian", ferry))
	require.True(t, p.OK, "%+v", p.Faults)
	for name, want := range map[string]string{"web": "nginx 1.22.1", "app": "php 8.2.36", "db": "mariadb 10.11.19",
		"seats": "redis 7.0.15", "mail": "dravit-mail 0.1.0"} {
		x := part(t, p, name)
		assert.Equal(t, want, x.Kind+" "+x.Version)
	}
	assert.Equal(t, 13306, part(t, p, "db").Port)
	assert.Equal(t, "/tmp/dravit-1/abcdefg/db.sock", part(t, p, "db").Socket)
	assert.Zero(t, part(t, p, "web").Port, "a web server stands behind the gateway, on a socket")
	assert.Equal(t, []string{"db", "mail", "seats"}, part(t, p, "app").Uses, "a runtime uses every store")
	require.Len(t, p.Sites, 2)
	assert.Equal(t, "http://ferry.localhost:8080/", p.Sites[0].URL)
	assert.Equal(t, "public", p.Sites[0].Root)
	assert.Equal(t, "web", p.Sites[0].Server)
	assert.Equal(t, "http://mail.ferry.localhost:8080/", p.Sites[1].URL)
	assert.Equal(t, []plan.Option{}, decision(t, p, "part.app.version").Rejected)
}

// A machine with nothing on it still gets a stack, of built-in parts.
func TestBareMachine(t *testing.T) {
	p := decide(machine(t, "bare", ferry))
	require.True(t, p.OK, "%+v", p.Faults)
	for name, want := range map[string]string{"web": "dravit-web", "app": "custom",
		"db": "sqlite", "seats": "dravit-cache"} {
		assert.Equal(t, want, part(t, p, name).Kind)
	}
	assert.Regexp(t, `^3\.\d+\.\d+$`, part(t, p, "db").Version, "the version of a library is its own")
	d := decision(t, p, "part.db.kind")
	assert.Equal(t, "sqlite", d.Choice)
	assert.Equal(t, []plan.Option{{Option: "mariadb", Because: "this machine has none"}}, d.Rejected)
	assert.Equal(t, []string{"db", "mail", "seats"}, part(t, p, "app").Uses)
}

// Several versions side by side: the newest that meets every demand, and why the others do not.
func TestManyRuntimes(t *testing.T) {
	in := machine(t, "macos", ferry)
	p := decide(in)
	app := part(t, p, "app")
	assert.Equal(t, "8.2.29", app.Version, "8.4 lacks the redis extension")
	assert.Equal(t, "/opt/homebrew/opt/php@8.2/sbin/php-fpm", app.Program)
	d := decision(t, p, "part.app.version")
	require.Len(t, d.Rejected, 1)
	assert.Equal(t, "php 8.4.12 at /opt/homebrew/sbin/php-fpm", d.Rejected[0].Option)
	assert.Contains(t, d.Rejected[0].Because, "/opt/homebrew/lib/php/pecl/20220829/redis.so: it was built for "+
		"API20220829,NTS, and PHP 8.4.12 is API20240924,NTS")

	in = machine(t, "macos",
		strings.Replace(ferry, "[part.app.php]", "version = \"8.4\"\n[part.app.php]\nversion = \"7.4\"", 1))
	assert.Equal(t, "7.4.33", part(t, decide(in), "app").Version, "what is written for the kind goes first")

	in = machine(t, "macos", "[part.app]\nkind = \"php\"\nversion = \"8.3\"\n")
	p = decide(in)
	require.Len(t, p.Faults, 1)
	f := p.Faults[0]
	assert.Equal(t, "part.app", f.Subject.String())
	assert.Equal(t, "no program on this machine fits part app, which needs php 8.3", f.What)
	for _, found := range []string{"php 8.4.12 at /opt/homebrew/sbin/php-fpm", "php 8.2.29",
		"php 7.4.33", "the stack file demands 8.3"} {
		assert.Contains(t, f.Because, found)
	}
	assert.False(t, p.OK)
}

func TestUses(t *testing.T) {
	p := decide(machine(t, "bare", `
[part.worker]
kind = "custom"
command = "./worker"
[part.db]
kind = "sqlite"
uses = ["worker"]
[part.seats]
kind = "dravit-cache"
[part.lone]
kind = "custom"
command = "./lone"
uses = []
`))
	assert.Equal(t, []string{"seats"}, part(t, p, "worker").Uses, "who waits for a part is not waited for")
	assert.Empty(t, part(t, p, "lone").Uses)
}

// A port is chosen once: what the ledger says, then the first from the kind's base that nobody holds or owns.
func TestPorts(t *testing.T) {
	stack := "[part.db]\nkind = \"mariadb\"\n[part.two]\nkind = \"mariadb\"\n"
	in := machine(t, "debian", stack)
	in.Survey.Ports = []survey.Port{
		{Port: 13306, PID: 99, Program: "mariadbd", User: "ada"},
		{Port: 13308, Stack: in.StackID},
		{Port: 9999, PID: 98, Program: "quay", User: "ada"},
	}
	in.Ledger.Others = map[int]string{13307: "harbour"}
	p := decide(in)
	assert.Equal(t, 13308, part(t, p, "db").Port)
	assert.Equal(t, 13309, part(t, p, "two").Port)
	assert.Equal(t, []plan.Option{
		{Option: "13306", Because: "held by mariadbd (pid 99, user ada)"},
		{Option: "13307", Because: "it belongs to the stack harbour"},
	},
		decision(t, p, "part.db.port").Rejected)
	assert.Equal(t, map[int]bool{13306: true}, p.Contested, "whose holder the plan names")

	in.Ledger.Ports = map[string]int{"db": 13777, "two": 13306}
	p = decide(in)
	assert.Equal(t, 13777, part(t, p, "db").Port, "kept from before")
	assert.Equal(t, 13308, part(t, p, "two").Port, "the kept one is held by somebody else now")

	in.Survey.Host.EphemeralLow, in.Survey.Host.EphemeralHigh = 10000, 65535
	in.Ledger.Ports = nil
	p = decide(in)
	require.NotEmpty(t, p.Faults)
	assert.Contains(t, p.Faults[0].What, "no port is free for part db")
}

func TestPins(t *testing.T) {
	in := machine(t, "debian", "[part.db]\nkind = \"mariadb\"\nport = 13306\n[part.two]\nkind = \"mariadb\"\n"+
		"[part.seats]\nkind = \"redis\"\nport = 13306\n")
	p := decide(in)
	require.Len(t, p.Faults, 1)
	assert.Contains(t, p.Faults[0].What, "port 13306 is pinned twice")
	assert.NotEqual(t, 13306, part(t, p, "two").Port, "a free choice takes no pin")

	in = machine(t, "debian", "[part.db]\nkind = \"mariadb\"\nport = 3306\n")
	in.Survey.Ports = []survey.Port{{Port: 3306, PID: 42, Program: "mysqld", User: "mysql"}}
	p = decide(in)
	require.Len(t, p.Faults, 1)
	assert.Equal(t, plan.Fault{Code: trouble.PortTaken, Subject: about.Parse("part.db.port"),
		What: "port 3306, pinned by part db, is taken", Because: "it is held by mysqld (pid 42, user mysql)",
		Next: "stop it (kill 42), or pin another port in dravit.toml"}, p.Faults[0])
	in.Survey.Ports = []survey.Port{{Port: 3306, Stack: "other"}}
	in.Ledger.Others = map[int]string{3306: "harbour"}
	p = decide(in)
	assert.Equal(t, "it is held by the stack harbour", p.Faults[0].Because)
	assert.Contains(t, p.Faults[0].Next, "dravit stop --stack harbour")
	in.Survey.Ports = []survey.Port{{Port: 3306, Stack: in.StackID}}
	assert.True(t, decide(in).OK, "a pin binds only while another holds it; this is the stack's own")
	in.Survey.Ports = []survey.Port{{Port: 3306}}
	assert.Contains(t, decide(in).Faults[0].Because, "a program of another user", "the system does not tell who")
}

func TestGatewayPort(t *testing.T) {
	in := machine(t, "debian", ferry)
	in.Survey.Ports = []survey.Port{{Port: 8080, PID: 7, Program: "java", User: "ada"}}
	assert.Equal(t, 8081, decide(in).HTTPPort)
	in.Ledger.HTTPPort = 8085
	assert.Equal(t, 8085, decide(in).HTTPPort)
	in.Survey.Ports = []survey.Port{{Port: 8085, Stack: plan.GatewayOwner}}
	assert.Equal(t, 8085, decide(in).HTTPPort, "the gateway itself holds it")
	in.Survey.Ports = []survey.Port{{Port: 8085, PID: 7}}
	assert.Equal(t, 8080, decide(in).HTTPPort, "stolen: it moves")
	in = machine(t, "debian", "[part.db]\nkind = \"mariadb\"\nport = 8080\n")
	in.Ledger.HTTPPort = 8080
	in.Survey.Ports = []survey.Port{{Port: 8080, Stack: plan.GatewayOwner}}
	assert.Equal(t, "it is held by Dravit's gateway", decide(in).Faults[0].Because)
}

func TestNames(t *testing.T) {
	in := machine(t, "debian", ferry)
	in.Ledger.Stacks = []string{"ferry", "ferry-2"}
	p := decide(in)
	assert.Equal(t, "ferry-3", p.Stack)
	assert.Equal(t, "ferry-3.localhost", p.Sites[0].Host)
	assert.Equal(t, "mail.ferry-3.localhost", p.Sites[1].Host)
	in.Ledger.Stacks = nil
	in.Ledger.Hosts = map[string]string{"ferry.localhost": "harbour"}
	assert.Equal(t, "ferry-2", decide(in).Stack, "a site's name belongs to one stack")
	in.Ledger.Hosts = nil
	for before, want := range map[string]string{"": "ferry", "ferry": "ferry", "ferry-2": "ferry-2",
		"ferry-12": "ferry-12", "harbour": "ferry", "ferry-x": "ferry", "ferry-0": "ferry", "ferry-02": "ferry"} {
		in.Ledger.Name = before
		assert.Equal(t, want, decide(in).Stack, "before: %s", before)
	}
	in.Ledger.Name, in.Ledger.Stacks = "ferry-2", []string{"ferry-2"}
	assert.Equal(t, "ferry", decide(in).Stack, "somebody else's now")
}

func TestSites(t *testing.T) {
	in := machine(t, "debian", `
[part.web]
kind = "nginx"
[part.other]
kind = "dravit-web"
[part.db]
kind = "mariadb"
[part.api]
kind = "custom"
command = "./api"
[[site]]
name = "open"
[[site]]
name = "api"
app = "api"
server = "other"
[[site]]
name = "wrong-app"
app = "db"
server = "web"
[[site]]
name = "wrong-server"
server = "db"
[[site]]
name = "gone"
server = "web"
root = "nowhere"
`)
	p := decide(in)
	subjects := map[string]string{}
	for _, f := range p.Faults {
		subjects[f.Subject.String()] = f.What
	}
	assert.Contains(t, subjects["site.open.server"], "other or web")
	assert.Contains(t, subjects["site.wrong-app.app"], "part db cannot run the site")
	assert.Contains(t, subjects["site.wrong-server.server"], "part db cannot serve the site")
	assert.Contains(t, subjects["site.gone.root"], `"nowhere"`)
	assert.Len(t, subjects, 4)
	i := slices.IndexFunc(p.Sites, func(s plan.SitePlan) bool { return s.Name == "api" })
	assert.Empty(t, p.Sites[i].Root, "a site of an own server needs no root")
}

func TestAddedWebServer(t *testing.T) {
	in := machine(t, "debian", "[part.web]\nkind = \"redis\"\n[[site]]\nname = \"x\"\n")
	p := decide(in)
	require.True(t, p.OK, "%+v", p.Faults)
	assert.Equal(t, "dravit-web", part(t, p, "web-2").Kind)
	assert.Equal(t, "web-2", p.Sites[0].Server)
	assert.Contains(t, decision(t, p, "part.web-2.version").Because[0], "no web server")
	in.Project.Folders = map[string]project.Folder{".": {Exists: true}}
	p = decide(in)
	assert.Contains(t, p.Faults[0].What, "has no document root")
}

func TestHistory(t *testing.T) {
	in := machine(t, "debian", "[part.db]\nkind = [\"mariadb\", \"sqlite\"]\n")
	in.History.Data = map[string]plan.Written{"db": {Kind: "sqlite", Version: "0.1.0"}}
	p := decide(in)
	assert.Equal(t, "sqlite", part(t, p, "db").Kind, "data keeps its kind, wherever that stands in the list")
	in.History.Data["db"] = plan.Written{Kind: "mariadb", Version: "11.4.2"}
	p = decide(in)
	require.Len(t, p.Faults, 1)
	assert.Contains(t, p.Faults[0].Because, "the data was written by 11.4.2, and an older server would damage it")
	in.History.Data["db"] = plan.Written{Kind: "mariadb", Version: "10.11.99"}
	assert.True(t, decide(in).OK, "a patch release back is no damage")
}

// The same input gives the same plan, byte by byte, and nothing of this machine is in it.
func TestPure(t *testing.T) {
	for _, name := range []string{"debian", "bare", "macos"} {
		var first string
		for range 20 {
			p := decide(machine(t, name, ferry))
			text, err := json.Marshal(p)
			require.NoError(t, err)
			if first == "" {
				first = string(text)
			}
			require.Equal(t, first, string(text))
		}
		for _, key := range []string{`"format":1`, `"stack":"ferry"`, `"ok":true`, `"parts":[`, `"sites":[`,
			`"decisions":[`, `"faults":[]`, `"aliases":[]`} {
			assert.Contains(t, first, key, name)
		}
	}
}

// Every port taken up to the end: a fault, not an endless search.
func TestEveryPortTaken(t *testing.T) {
	in := machine(t, "debian", ferry)
	for port := 1; port < 65536; port++ {
		in.Survey.Ports = append(in.Survey.Ports, survey.Port{Port: port, PID: port, Program: "other"})
	}
	p := decide(in)
	assert.False(t, p.OK)
	for _, subject := range []string{"part.db.port", "part.seats.port", "gateway.port"} {
		assert.True(t, slices.ContainsFunc(p.Faults, func(f plan.Fault) bool {
			return f.Subject.String() == subject
		}), subject)
	}
}

// Fifty parts plan well and get fifty ports.
func TestManyParts(t *testing.T) {
	var b strings.Builder
	for i := range 50 {
		fmt.Fprintf(&b, "[part.p%d]\nkind = \"dravit-cache\"\n", i)
	}
	p := decide(machine(t, "bare", b.String()))
	ports := map[int]bool{}
	for _, x := range p.Parts {
		assert.False(t, ports[x.Port], "%d is given twice", x.Port)
		ports[x.Port] = true
	}
	assert.Len(t, ports, 50)
	assert.Equal(t, kind.RoleCache, p.Parts[0].Role)
}

// An input survives JSON: an empty list is not the same as a missing one.
func TestInputSurvivesJSON(t *testing.T) {
	in := machine(t, "debian",
		"[part.app]\nkind = \"php\"\nextensions = []\nuses = []\n[part.db]\nkind = \"mariadb\"\n")
	text, err := json.Marshal(in)
	require.NoError(t, err)
	var again plan.Input
	require.NoError(t, json.Unmarshal(text, &again))
	assert.Equal(t, decide(in), decide(again))
	assert.Empty(t, part(t, decide(again), "app").Uses)
}

// Names with another suffix need a DNS port, which must also be free for UDP; other ports need not.
func TestResolverPort(t *testing.T) {
	in := machine(t, "debian", "[[site]]\nname = \"quay\"\nsuffix = \"test\"\nroot = \".\"\n")
	in.Project.Folders["."] = project.Folder{Exists: true, Index: "index.html"}
	in.Survey.Ports = []survey.Port{
		{Protocol: "udp", Port: 5380, Program: "chatter", PID: 7, User: "ada"},
		{Protocol: "udp", Port: 8080, Program: "chatter", PID: 7, User: "ada"},
	}
	p := decide(in)
	assert.True(t, p.OK, "%v", p.Faults)
	assert.Equal(t, 5381, p.DNSPort)
	assert.Equal(t, 8080, p.HTTPPort)
	assert.Equal(t, "quay.test", p.Sites[0].Host)
	in.File.Sites[0].Suffix = ""
	assert.Zero(t, decide(in).DNSPort)
}

// Folders become sites after the sites with names. Those whose names are taken or impossible are skipped, with a note.
func TestEach(t *testing.T) {
	in := machine(t, "debian",
		"[[site]]\neach = \"crew/*\"\n[[site]]\nname = \"ferry\"\naliases = [\"quay\"]\nroot = \".\"\n")
	in.Project.Folders = map[string]project.Folder{".": {Exists: true, Index: "index.html"}}
	in.Project.Each = map[string][]string{"crew/*": {"crew/Ada", "crew/ada", "crew/ferry", "crew/no_host", "crew/none",
		"crew/other", "crew/quay", "crew/zoe"}}
	for _, folder := range in.Project.Each["crew/*"] {
		in.Project.Folders[folder] = project.Folder{Exists: true,
			Index: map[bool]string{true: "index.php"}[folder != "crew/none" && folder != "crew/zoe"]}
	}
	in.Project.Folders["crew/zoe/web"] = project.Folder{Exists: true, Index: "index.html"}
	in.Ledger.Hosts = map[string]string{"other.localhost": "night-boat"}
	p := decide(in)
	require.True(t, p.OK, "%v", p.Faults)
	var got []string
	for _, s := range p.Sites {
		got = append(got, s.Name+" "+s.Root)
	}
	assert.Equal(t, []string{"ferry .", "ada crew/Ada", "zoe crew/zoe/web"}, got)
	assert.Equal(t, []string{
		"the folder crew/ada: ada.localhost is the folder crew/Ada",
		"the folder crew/ferry: ferry.localhost is the site ferry of this stack",
		`the folder crew/no_host: "no_host" cannot be a host name, which has letters, digits and - only`,
		"the folder crew/none: it has no index.php or index.html yet",
		"the folder crew/other: other.localhost belongs to the stack night-boat",
		"the folder crew/quay: quay.localhost is the site ferry of this stack",
	}, p.Notes)
	assert.Equal(t, "ferry", p.Stack, "a folder whose name another stack has gives the stack no number")
}

// Other machines reach a site only after the user agreed, on a port that it keeps.
func TestListen(t *testing.T) {
	in := machine(t, "debian", "[[site]]\nname = \"quay\"\nlisten = \"network\"\nroot = \".\"\n")
	in.Project.Folders["."] = project.Folder{Exists: true, Index: "index.html"}
	p := decide(in)
	assert.Zero(t, p.Sites[0].NetworkPort)
	require.Len(t, p.Warnings, 1)
	assert.Contains(t, p.Warnings[0], "dravit start --reachable quay")
	in.Consent.Network = []string{"quay"}
	in.Survey.Ports = []survey.Port{{Protocol: "tcp", Port: 8600, Program: "chatter", PID: 7}}
	p = decide(in)
	assert.Equal(t, 8601, p.Sites[0].NetworkPort)
	assert.Empty(t, p.Warnings)
	in.Ledger.Ports = map[string]int{plan.NetworkKey("quay"): 8610}
	assert.Equal(t, 8610, decide(in).Sites[0].NetworkPort)
	in.Consent = plan.Consent{Loopback: []string{"quay"}}
	p = decide(in)
	assert.Zero(t, p.Sites[0].NetworkPort)
	assert.Empty(t, p.Warnings, "it was said")
}
