package plan_test

import (
	"maps"
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
	"dravit/internal/version"
)

func manifest(in *plan.Input, folder string, demands ...project.Demand) {
	if in.Project.Manifests == nil {
		in.Project.Manifests = map[string]project.Manifests{}
	}
	m := in.Project.Manifests[folder]
	m.Demands = append(m.Demands, demands...)
	in.Project.Manifests[folder] = m
}

// Ten runtimes side by side: each meets the extensions, the stack file and the project's files.
func TestTenRuntimes(t *testing.T) {
	for name, c := range map[string]struct {
		part    string
		demands []project.Demand
		want    string // version, or what the fault says
	}{
		"the newest":               {`kind = "php"`, nil, "8.4.27"},
		"built in counts":          {"kind = \"php\"\nextensions = [\"mbstring\"]", nil, "8.4.27"},
		"only the system's has it": {"kind = \"php\"\nextensions = [\"intl\"]", nil, "8.2.36"},
		"only an old one has it":   {"kind = \"php\"\nextensions = [\"imagick\"]", nil, "8.1.33"},
		"only the oldest has it":   {"kind = \"php\"\nextensions = [\"mcrypt\"]", nil, "7.4.33"},
		"none has both": {"kind = \"php\"\nextensions = [\"mcrypt\", \"intl\"]", nil,
			"it has no extension mcrypt"},
		"stack file and composer.json": {"kind = \"php\"\nversion = \"< 8.4\"", []project.Demand{{Program: "php",
			Text: "^7.4 || ~8.1.0", Grammar: version.Composer, File: "composer.json"}}, "8.1.33"},
		"they contradict": {"kind = \"php\"\nversion = \"8.2\"", []project.Demand{{Program: "php",
			Text: "^7.4", Grammar: version.Composer, File: "composer.json"}}, "composer.json wants ^7.4"},
		"a pin": {"kind = \"node\"\ncommand = \"x\"",
			[]project.Demand{{Program: "node", Text: "lts/hydrogen", Grammar: version.Pin, File: ".nvmrc"}}, "18.20.4"},
		"the stack file before a pin": {"kind = \"node\"\ncommand = \"x\"\nversion = \"22\"",
			[]project.Demand{{Program: "node", Text: "18", Grammar: version.Pin, File: ".nvmrc"}}, "22.11.0"},
		"two files": {"kind = \"node\"\ncommand = \"x\"", []project.Demand{
			{Program: "node", Text: "<22", Grammar: version.NPM, File: "package.json"},
			{Program: "node", Text: ">=20", Grammar: version.NPM, File: "package.json"},
		}, "20.20.2"},
		"of another program": {"kind = \"node\"\ncommand = \"x\"", []project.Demand{{Program: "php",
			Text: "^5", Grammar: version.Composer, File: "composer.json"}}, "22.11.0"},
		"python": {"kind = \"python\"\ncommand = \"x\"", []project.Demand{{Program: "python",
			Text: "~=3.9.2", Grammar: version.PEP440, File: "pyproject.toml"}}, "3.9.18"},
		"a runtime without a command": {`kind = ["ruby", "node"]`, nil, "it needs a command"},
	} {
		t.Run(name, func(t *testing.T) {
			in := machine(t, "ten-runtimes", "[part.app]\n"+c.part+"\n")
			manifest(&in, ".", c.demands...)
			p := decide(in)
			if len(p.Parts) == 1 {
				assert.Equal(t, c.want, p.Parts[0].Version)
				assert.NotEmpty(t, decision(t, p, "part.app.version").Because)
				return
			}
			require.NotEmpty(t, p.Faults)
			assert.Contains(t, p.Faults[0].Because, c.want)
		})
	}
}

// Two versions of one runtime serve two sites, each as the manifest nearest to its document root says.
func TestManifestOfASite(t *testing.T) {
	in := machine(t, "ten-runtimes", `
[part.old]
kind = "php"
[part.new]
kind = "php"
[[site]]
name = "old"
root = "old/public"
app = "old"
[[site]]
name = "new"
root = "public"
app = "new"
`)
	in.Project.Folders["old/public"] = project.Folder{Exists: true, Index: "index.php"}
	manifest(&in, "old",
		project.Demand{Program: "php", Text: "^7.4", Grammar: version.Composer, File: "old/composer.json"})
	manifest(&in, ".", project.Demand{Program: "php", Text: "~8.1.0", Grammar: version.Composer, File: "composer.json"})
	p := decide(in)
	require.True(t, p.OK, "%+v", p.Faults)
	assert.Equal(t, "7.4.33", part(t, p, "old").Version)
	assert.Equal(t, "8.1.33", part(t, p, "new").Version)
	in.Project.Manifests["old"] = project.Manifests{Faults: []string{"old/composer.json: it is broken"}}
	assert.Equal(t, []string{"old/composer.json: it is broken"}, decide(in).Notes)
}

// A choice is kept until its reason goes away, and what changed is said.
func TestKept(t *testing.T) {
	in := machine(t, "ten-runtimes", "[part.app]\nkind = \"php\"\n")
	ran := func(version, program string) {
		in.History.Good = plan.Good{At: "2026-11-01T10:00:00Z",
			Parts: map[string]plan.Chosen{"app": {Kind: "php", Version: version, Program: program}}}
	}
	const old = "/home/ada/.fleet/versions/php/8.1.33/sbin/php-fpm"
	ran("8.1.33", old)
	p := decide(in)
	assert.Equal(t, "8.1.33", part(t, p, "app").Version)
	d := decision(t, p, "part.app.version")
	assert.Contains(t, d.Because, "the last good start ran on it, and it still meets every condition")
	require.Len(t, d.Rejected, 2)
	assert.Contains(t, d.Rejected[0].Because, "--afresh")
	assert.Empty(t, p.Changes)
	in.Consent.Afresh = true
	assert.Equal(t, "8.4.27", part(t, decide(in), "app").Version)
	in.Consent.Afresh = false

	ran("8.1.30", old)
	p = decide(in)
	assert.Equal(t, "8.1.33", part(t, p, "app").Version, "upgraded underneath: it is still the one")
	assert.Equal(t, []plan.Change{{Subject: about.Parse("part.app.version"), Was: "php 8.1.30", Now: "php 8.1.33",
		Because: old + " became 8.1.33"}}, p.Changes)
	assert.Equal(t, "2026-11-01T10:00:00Z", p.Since)

	ran("8.3.1", "/opt/gone/sbin/php-fpm")
	p = decide(in)
	assert.Equal(t, "8.4.27", part(t, p, "app").Version)
	assert.Equal(t, "/opt/gone/sbin/php-fpm is gone", p.Changes[0].Because)

	ran("8.1.33", old)
	manifest(&in, ".", project.Demand{Program: "php", Text: ">=8.2", Grammar: version.Composer, File: "composer.json"})
	p = decide(in)
	assert.Equal(t, "8.4.27", part(t, p, "app").Version, "its reason went away")
	assert.Equal(t, old+": composer.json wants >=8.2", p.Changes[0].Because)
	in.Consent.Upgrade = []string{"app"}
	assert.Equal(t, "you agreed to the upgrade", decide(in).Changes[0].Because)
}

// A program that this machine does not let the user start serves no part.
func TestRefusedProgram(t *testing.T) {
	in := machine(t, "ten-runtimes", "[part.app]\nkind = \"php\"\n")
	best := part(t, decide(in), "app")
	i := slices.IndexFunc(in.Survey.Programs, func(p kind.Program) bool { return p.Path == best.Program })
	require.GreaterOrEqual(t, i, 0)
	facts := maps.Clone(in.Survey.Programs[i].Facts)
	facts[kind.FactRefused] = "it starts only in a namespace"
	in.Survey.Programs[i].Facts = facts
	p := decide(in)
	assert.NotEqual(t, best.Program, part(t, p, "app").Program)
	assert.Equal(t, "it starts only in a namespace", decision(t, p, "part.app.version").Rejected[0].Because)
}

// Compiled modules of a project favour the runtime that they were built for, and exclude none.
func TestOwnModules(t *testing.T) {
	in := machine(t, "ten-runtimes", "[part.app]\nkind = \"node\"\ncommand = \"node x\"\n")
	in.Project.Modules = []kind.Module{
		{Kind: "node", Name: "kelp", File: "node_modules/kelp/build/Release/kelp.node", Built: "115"},
		{Kind: "node", Name: "any", File: "node_modules/any/build/Release/any.node"},
	}
	p := decide(in)
	assert.Equal(t, "20.20.2", part(t, p, "app").Version)
	d := decision(t, p, "part.app.version")
	assert.Contains(t, d.Rejected[0].Because, "it was built for module ABI 115, and node 22.11.0 has 127")
	in.Project.Modules[0].Built = "93"
	p = decide(in)
	assert.Equal(t, "22.11.0", part(t, p, "app").Version, "it can be built again")
	require.Len(t, part(t, p, "app").Unfit, 1)
	assert.Contains(t, decision(t, p, "part.app.extensions.kelp").Because[0], "module ABI 93")

	in = machine(t, "ten-runtimes", "[part.app]\nkind = \"python\"\ncommand = \"python3 x\"\n")
	in.Project.Modules = []kind.Module{{Kind: "python", Name: ".venv", File: ".venv/pyvenv.cfg", Built: "cpython-39"}}
	assert.Equal(t, "3.9.18", part(t, decide(in), "app").Version, "the one that made the virtual environment")
}

func TestDataOfOtherVersions(t *testing.T) {
	in := machine(t, "debian", "[part.db]\nkind = \"mariadb\"\n")
	in.History.Data = map[string]plan.Written{"db": {Kind: "mariadb", Version: "10.5.23"}}
	p := decide(in)
	require.Len(t, p.Faults, 1)
	assert.Contains(t, p.Faults[0].Because, "to which you have not agreed")
	assert.Contains(t, p.Faults[0].Next, "dravit start --upgrade db")
	in.Consent.Upgrade = []string{"db"}
	p = decide(in)
	require.True(t, p.OK)
	assert.Equal(t, "10.5.23", part(t, p, "db").UpgradeFrom)
	assert.Contains(t, decision(t, p, "part.db.data").Because[0], "they are marked first")

	in = machine(t, "debian", "[part.db]\nkind = \"postgres\"\n")
	for _, v := range []string{"13.4", "15.20"} {
		in.Survey.Programs = append(in.Survey.Programs, kind.Program{Kind: "postgres", Version: v, Path: "/pg/" + v,
			Facts: map[string]string{"initdb": "/pg/initdb"}})
	}
	in.Consent.Upgrade = nil
	for written, want := range map[string]string{"15.1": "15.20", "13.9": "13.4", "": "15.20"} {
		in.History.Data = map[string]plan.Written{"db": {Kind: "postgres", Version: written}}
		if written == "" {
			in.History.Data = nil
		}
		assert.Equal(t, want, part(t, decide(in), "db").Version, "data of %s", written)
	}
	in.History.Data = map[string]plan.Written{"db": {Kind: "postgres", Version: "14.2"}}
	in.Consent.Upgrade = []string{"db"}
	assert.Contains(t, decide(in).Faults[0].Because, "this machine has no postgres 14 to dump them")
	in.History.Data["db"] = plan.Written{Kind: "postgres", Version: "13.9"}
	in.History.Good.Parts = map[string]plan.Chosen{"db": {Kind: "postgres", Program: "/pg/13.4"}}
	p = decide(in)
	assert.Equal(t, "15.20", part(t, p, "db").Version, "consent goes before the last good start")
	assert.Equal(t, "/pg/13.4", part(t, p, "db").UpgradeWith)
	in.Consent.Upgrade = nil
	assert.Equal(t, "13.4", part(t, decide(in), "db").Version)
}

func TestClients(t *testing.T) {
	file := "[part.app]\nkind = \"php\"\nextensions = [\"redis\"]\n%s\n[part.db]\nkind = \"%s\"\n"
	p := decide(machine(t, "debian", strings.Replace(strings.Replace(file, "%s", "", 1), "%s", "mariadb", 1)))
	require.True(t, p.OK, "%+v", p.Faults)
	assert.Contains(t, decision(t, p, "part.app.extensions.mysqli").Because[0], "the part uses db")
	var names []string
	for _, m := range part(t, p, "app").Modules {
		names = append(names, m.Name)
	}
	assert.Contains(t, names, "mysqli")
	assert.Contains(t, names, "pdo_mysql")
	for uses, fault := range map[string]bool{"": false, "uses = [\"db\"]": true} {
		in := machine(t, "debian", strings.Replace(strings.Replace(file, "%s", uses, 1), "%s", "postgres", 1))
		in.Survey.Programs = append(in.Survey.Programs, kind.Program{Kind: "postgres", Version: "15.20", Path: "/pg",
			Facts: map[string]string{"initdb": "/pg/initdb"}})
		p := decide(in)
		if fault {
			require.Len(t, p.Faults, 1)
			assert.Equal(t, "part.app", p.Faults[0].Subject.String())
			assert.Contains(t, p.Faults[0].Because, "no extension to connect to db (pgsql, pdo_pgsql)")
			continue
		}
		require.True(t, p.OK)
		assert.Empty(t, part(t, p, "app").Uses)
		assert.Contains(t, decision(t, p, "part.app.uses").Rejected[0].Because, "no extension to connect to db")
	}
}

// The stores that a part must reach count in the decision about its version: an older version that reaches the store
// goes before a newer one that does not.
func TestReachDecidesTheVersion(t *testing.T) {
	for _, uses := range []string{"", "uses = [\"db\"]\n"} {
		in := machine(t, "ten-runtimes",
			"[part.app]\nkind = \"php\"\nextensions = []\n"+uses+"[part.db]\nkind = \"mariadb\"\n")
		in.Survey.Programs = append(in.Survey.Programs,
			kind.Program{Kind: "mariadb", Version: "10.11.19", Path: "/m", Facts: map[string]string{"share": "/s"}})
		p := decide(in)
		require.True(t, p.OK, "%+v", p.Faults)
		assert.Equal(t, "8.2.36", part(t, p, "app").Version, "8.4 has no client")
		assert.Equal(t, []string{"db"}, part(t, p, "app").Uses)
		assert.Contains(t, decision(t, p, "part.app.version").Rejected[0].Because,
			"it has no extension to connect to db")
		assert.Contains(t, decision(t, p, "part.app.extensions.pdo_mysql").Because[0], "the part uses db")
	}
}

func TestDebuggerPort(t *testing.T) {
	in := machine(t, "debian", "[part.a]\nkind = \"php\"\ndebugger = true\n[part.b]\nkind = \"php\"\ndebugger = true\n")
	p := decide(in)
	assert.False(t, p.OK, "the machine has no debugger extension")
	assert.Contains(t, p.Faults[0].Because, "it has no extension xdebug")
	in.Survey.Modules = append(in.Survey.Modules, kind.Module{Kind: "php", Name: "xdebug",
		File: "/usr/lib/php/20220829/xdebug.so", Built: "API20220829,NTS", Arch: []string{"amd64"}, Engine: true})
	in.Ledger.Others = map[int]string{9003: "tide-tables"}
	p = decide(in)
	require.True(t, p.OK, "%+v", p.Faults)
	assert.Equal(t, []int{9004, 9005}, []int{part(t, p, "a").Debug, part(t, p, "b").Debug})
	assert.Equal(t, "it belongs to the stack tide-tables", decision(t, p, "part.a.debugger").Rejected[0].Because)
	in.Ledger.Ports = map[string]int{plan.DebugKey("b"): 9009}
	assert.Equal(t, 9009, part(t, decide(in), "b").Debug)
}

func TestRequires(t *testing.T) {
	for name, c := range map[string]struct{ require, choice, what, next string }{
		"fits":        {`make = ">= 4"`, "make 4.3 at /usr/bin/make", "", ""},
		"any version": {`mute = ""`, "mute at /usr/bin/mute", "", ""},
		"PATH hides it": {`git = ">= 2.30"`, "", "PATH picks git 1.9.1 at /opt/old/bin/git, which does not fit",
			`export PATH="/usr/bin:$PATH"`},
		"not on PATH":   {`java = "17"`, "", "java 17 is not on PATH", `export PATH="/usr/lib/jvm/17/bin:$PATH"`},
		"too old":       {`java = "21"`, "", "java 21 is not installed", "install java"},
		"too old, here": {`make = ">= 5"`, "", "make 4.3 at /usr/bin/make does not fit", "install make >= 5"},
		"missing":       {`barnacle = ""`, "", "barnacle is not installed", "install barnacle"},
		"never asked":   {`whelk = ""`, "", "whelk is not installed", "install whelk"},
		"mute":          {`mute = ">= 1"`, "", "mute at /usr/bin/mute does not fit", "install mute >= 1"},
		"go.mod":        {`go = ""`, "", "go 1.26.8 at /usr/local/go/bin/go does not fit", "install go"},
	} {
		t.Run(name, func(t *testing.T) {
			in := machine(t, "wrong-path", "[requires]\n"+c.require+"\n[part.seats]\nkind = \"dravit-cache\"\n")
			manifest(&in, ".", project.Demand{Program: "go", Text: "1.99", Grammar: version.Minimum, File: "go.mod"})
			p := decide(in)
			if c.choice != "" {
				require.True(t, p.OK, "%+v", p.Faults)
				assert.Equal(t, c.choice, decision(t, p, "requires."+strings.Fields(c.require)[0]).Choice)
				return
			}
			require.Len(t, p.Faults, 1)
			assert.Equal(t, c.what, p.Faults[0].What)
			assert.Contains(t, p.Faults[0].Next, c.next)
			assert.NotEmpty(t, p.Faults[0].Because)
		})
	}
}

func TestWhy(t *testing.T) {
	p := decide(machine(t, "debian", ferry+"[requires]\nwhelk = \"\"\n"))
	for _, subject := range []string{"part.app.version", "app.version", "app", "ferry.name", "gateway.port",
		"extensions.redis", "part.app.extensions.redis"} {
		d, f, near := p.Why(subject)
		if subject == "app" { // the kind was chosen, too: its version is what is meant
			require.NotNil(t, d, near)
			assert.Equal(t, "part.app.version", d.Subject.String())
			continue
		}
		require.NotNil(t, d, "%s: %v", subject, near)
		assert.Nil(t, f)
		assert.True(t, strings.HasSuffix(d.Subject.String(), subject), d.Subject.String())
	}
	_, f, _ := p.Why("requires.whelk")
	require.NotNil(t, f)
	_, _, near := p.Why("app.extensions")
	assert.Equal(t, []about.Subject{about.Parse("part.app.extensions.mysqli"),
		about.Parse("part.app.extensions.redis")}, near)
	d, f, near := p.Why("tide")
	assert.Nil(t, d)
	assert.Nil(t, f)
	assert.Empty(t, near)
}

// A saved input gives the same plan, and contains no value of a variable or a setting.
func TestSaved(t *testing.T) {
	in := machine(t, "debian", "[part.db]\nkind = [\"mariadb\"]\nsettings = { a = \"hush\" }\n[part.db.mariadb]\n"+
		"settings = { b = \"hush\" }\n[env]\nKEY = \"hush\"\n")
	saved := in.Saved()
	assert.Equal(t, stackfile.Text("hush"), in.File.Env["KEY"], "the input itself stays whole")
	assert.Equal(t, stackfile.Text("hush"), in.File.Parts["db"].Of["mariadb"].Settings["b"])
	for _, values := range []map[string]stackfile.Text{saved.File.Env, saved.File.Parts["db"].Settings,
		saved.File.Parts["db"].Of["mariadb"].Settings} {
		require.Len(t, values, 1)
		for name, value := range values {
			assert.Empty(t, value, name)
		}
	}
	before, after := decide(in), decide(saved)
	assert.Equal(t, before.Decisions, after.Decisions)
}

func TestRuntime(t *testing.T) {
	in := machine(t, "ten-runtimes", "[part.app]\nkind = \"php\"\nversion = \"< 8.3\"\n"+
		"extensions = [\"kelp\", \"redis\"]\n[part.db]\nkind = \"sqlite\"\n")
	p := decide(in)
	require.False(t, p.OK)
	program, extended, _ := plan.Runtime(in, p, all.Kinds().ByName(), "app")
	require.NotNil(t, program)
	assert.Equal(t, "8.2.36", program.Version, "where no plan is, the newest whose version serves tells what it lacks")
	require.Len(t, extended.Missing, 1)
	assert.Equal(t, "kelp", extended.Missing[0].Name)
	program, _, _ = plan.Runtime(in, p, all.Kinds().ByName(), "db")
	assert.Nil(t, program)
}

// Extensions that composer.json wants are demanded whether the stack file lists any or not.
func TestManifestExtensions(t *testing.T) {
	for _, list := range []string{"", "extensions = [\"redis\"]\n"} {
		in := machine(t, "debian", "[part.app]\nkind = \"php\"\n"+list)
		in.Project.Manifests = map[string]project.Manifests{".": {Extensions: []project.Wanted{{Program: "php",
			Name: "intl", File: "composer.json"}}}}
		p := decide(in)
		require.True(t, p.OK, "%+v", p.Faults)
		assert.Contains(t, decision(t, p, "part.app.extensions.intl").Because, "composer.json wants it")
		in.Project.Manifests["."] = project.Manifests{Extensions: []project.Wanted{{Program: "php",
			Name: "kelp", File: "composer.json"}}}
		p = decide(in)
		require.Len(t, p.Faults, 1)
		assert.Contains(t, p.Faults[0].Because, "it has no extension kelp of composer.json")
	}
}

// The gateway's ports: 80 and 443 if the user may open them, but not while it listens on others.
func TestGatewayPorts(t *testing.T) {
	const file = "[[site]]\nname = \"day\"\nroot = \"public\"\n"
	ports := func(edit func(*plan.Input)) (plan.Plan, [2]int) {
		in := machine(t, "debian", file)
		edit(&in)
		p := decide(in)
		require.True(t, p.OK, "%+v", p.Faults)
		return p, [2]int{p.HTTPPort, p.HTTPSPort}
	}
	p, got := ports(func(*plan.Input) {})
	assert.Equal(t, [2]int{8080, 8443}, got)
	assert.Equal(t, []plan.Option{{Option: "80", Because: "it needs a privilege that you do not have"}},
		decision(t, p, "gateway.port").Rejected)
	p, got = ports(func(in *plan.Input) { in.Survey.Host.LowestPort = 80 })
	assert.Equal(t, [2]int{80, 443}, got)
	assert.Equal(t, "http://day.localhost/", p.Sites[0].URL)
	assert.Equal(t, "https://day.localhost/", p.Sites[0].HTTPSURL)
	_, got = ports(func(in *plan.Input) {
		in.Survey.Host.LowestPort = 80
		in.Survey.Ports = []survey.Port{{Port: 80, Program: "apache2", PID: 7}}
	})
	assert.Equal(t, [2]int{8080, 443}, got)
	_, got = ports(func(in *plan.Input) {
		in.Survey.Host.LowestPort = 80
		in.Ledger.HTTPPort, in.Ledger.HTTPSPort = 8090, 8490
		in.Survey.Ports = []survey.Port{{Port: 8090, Stack: plan.GatewayOwner}, {Port: 8490, Stack: plan.GatewayOwner}}
	})
	assert.Equal(t, [2]int{8090, 8490}, got, "other stacks' addresses have them")
	_, got = ports(func(in *plan.Input) { in.Survey.Host.LowestPort, in.Ledger.HTTPPort = 80, 8090 })
	assert.Equal(t, [2]int{80, 443}, got, "nothing runs: it may move")
	_, got = ports(func(in *plan.Input) { in.Ledger.HTTPPort, in.Ledger.HTTPSPort = 8090, 8490 })
	assert.Equal(t, [2]int{8090, 8490}, got, "kept")
	_, got = ports(func(in *plan.Input) {
		in.Survey.Host.LowestPort, in.Gateway.HTTP, in.Gateway.HTTPS = 80, 9090, 9490
	})
	assert.Equal(t, [2]int{9090, 9490}, got, "the settings go first")
}

// An upgrade takes the newest program, also one that was supplied beside an older installed one; without a newer one it
// says so. A condition that is older than the data leads to the marks, and not to a source.
func TestUpgradeToASuppliedServer(t *testing.T) {
	in := machine(t, "debian", "[part.seats]\nkind = \"redis\"\n")
	in.Survey.Programs = slices.DeleteFunc(in.Survey.Programs, func(p kind.Program) bool { return p.Kind == "redis" })
	in.Survey.Programs = append(in.Survey.Programs,
		kind.Program{Kind: "redis", Version: "7.0.15", Path: "/usr/bin/redis-server", Origin: "system"},
		kind.Program{Kind: "redis", Version: "8.0.2", Path: "/supply/redis-server", Origin: survey.Supply})
	in.History.Data = map[string]plan.Written{"seats": {Kind: "redis", Version: "7.0.15"}}
	assert.Equal(t, "7.0.15", part(t, decide(in), "seats").Version)
	in.Consent.Upgrade = []string{"seats"}
	p := decide(in)
	assert.Equal(t, "8.0.2", part(t, p, "seats").Version)
	assert.Equal(t, "7.0.15", part(t, p, "seats").UpgradeFrom)
	assert.Empty(t, p.Warnings)
	in.Survey.Programs = in.Survey.Programs[:len(in.Survey.Programs)-1]
	p = decide(in)
	assert.Equal(t, "7.0.15", part(t, p, "seats").Version)
	require.Len(t, p.Warnings, 1)
	assert.Contains(t, p.Warnings[0], "part seats is not upgraded: no newer program than redis 7.0.15 fits it")

	for condition, marks := range map[string]bool{"15": true, "< 16": true, "15.2": true, "18": false, ">= 18": false} {
		in = machine(t, "debian", "[part.db]\nkind = \"postgres\"\nversion = \""+condition+"\"\n")
		in.Survey.Programs = slices.DeleteFunc(in.Survey.Programs,
			func(p kind.Program) bool { return p.Kind == "postgres" })
		in.Survey.Programs = append(in.Survey.Programs,
			kind.Program{Kind: "postgres", Version: "17.2", Path: "/pg", Facts: map[string]string{"initdb": "/i"}})
		in.History.Data = map[string]plan.Written{"db": {Kind: "postgres", Version: "17.2"}}
		p = decide(in)
		require.Len(t, p.Faults, 1, condition)
		assert.Equal(t, marks, strings.Contains(p.Faults[0].Next, "dravit db marks --part db"), "%s: %s", condition,
			p.Faults[0].Next)
	}
}
