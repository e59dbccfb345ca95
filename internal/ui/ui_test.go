package ui

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"dravit/internal/about"
	"dravit/internal/diagnose"
	"dravit/internal/extensions"
	"dravit/internal/health"
	"dravit/internal/keeper"
	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/leg"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/stack"
	"dravit/internal/survey"
	"dravit/internal/trace"
)

func plainUI() (*UI, *bytes.Buffer) {
	var out bytes.Buffer
	return &UI{Out: &out, Err: &out, Plain: true}, &out
}

func rung(name kind.RungName, holds *bool) health.Result {
	return health.Result{Rung: name, Holds: holds, MS: 1.5, Expected: "calm water", Got: "a storm"}
}

var yes, no = true, false

func TestCheck(t *testing.T) {
	u, out := plainUI()
	u.Check("ferry", stack.Checked{
		Parts: []stack.PartCheck{
			{Name: "app", Kind: "php", State: lifecycle.Answers,
				Rungs: []health.Result{rung(kind.Alive, &yes), rung(kind.Open, &yes)}},
			{Name: "db", Kind: "mariadb", State: lifecycle.Unwell,
				Rungs: []health.Result{rung(kind.Alive, &yes), rung(kind.Open, &no), rung(kind.Works, nil)}},
		},
		Sites: []health.SiteResult{{Name: "ferry", URL: "http://ferry.localhost:8080/", State: lifecycle.Answers,
			Rungs: []health.Result{{Rung: kind.Resolves, Advisory: true, Holds: &no, Got: "none"},
				rung(kind.Reaches, &yes)}}},
	})
	text := out.String()
	assert.Contains(t, text, "ferry  unwell  2 of 3 answer\n")
	assert.Contains(t, text, "db     mariadb  unwell   ●○  ·  4.5 ms\n  open: expected calm water, got a storm\n")
	assert.Contains(t, text, "  -●  ", "advisory rungs have a sign of their own")
	assert.Equal(t, 1, strings.Count(text, "resolves is advisory"))
	assert.Equal(t, "next: dravit diagnose says why", lastLine(text))
	assert.NotContains(t, text, "\x1b", "plain is plain")
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return lines[len(lines)-1]
}

func TestStatus(t *testing.T) {
	u, out := plainUI()
	u.Status(stack.Status{State: lifecycle.Failed,
		View: keeper.View{Name: "ferry",
			Sites: []materialise.Site{{Name: "ferry", URL: "http://ferry.localhost:8080/"}},
			SiteStates: []lifecycle.SiteStatus{{Name: "ferry", URL: "http://ferry.localhost:8080/",
				State: lifecycle.Waiting, Because: "because db does not answer"}},
			Parts: []lifecycle.Status{
				{Name: "app", Kind: "php", Version: "8.2.36", State: lifecycle.Answers, PID: 7, Memory: 18_400_000,
					ProvedAt: time.Now().Add(-3 * time.Second), Restarts: 1},
				{Name: "db", Kind: "mariadb", State: lifecycle.Failed, Port: 13306, Because: "the tide is out",
					Next: "dravit logs db"},
			}}})
	text := out.String()
	assert.Contains(t, text, "ferry  failed\n")
	assert.Contains(t, text, "18 MB  3.0 s ago")
	assert.Contains(t, text, "  restarted 1 time\n")
	assert.Contains(t, text, "http://ferry.localhost:8080/  waiting         -\n  because db does not answer\n")
	assert.Contains(t, text, "  the tide is out\n  next: dravit logs db\n")
	for _, line := range strings.Split(text, "\n") {
		assert.LessOrEqual(t, ansi.StringWidth(line), maxWidth)
		assert.Equal(t, strings.TrimRight(line, " "), line, "no blanks at the end")
	}
}

func TestPlan(t *testing.T) {
	u, out := plainUI()
	u.Plan(plan.Plan{Stack: "ferry",
		Parts: []plan.PartPlan{
			{Name: "app", Kind: "php", Version: "8.2.36", Program: "/usr/sbin/php-fpm8.2"},
			{Name: "mail", Kind: "dravit-mail", Origin: "built-in", Port: 11025},
		},
		Sites: []plan.SitePlan{{Name: "ferry", URL: "http://ferry.localhost:8080/", Server: "web",
			App: "app", Root: "public"}},
		Decisions: []plan.Decision{
			{Subject: about.Parse("part.app.version"), Choice: "php 8.2.36", Because: []string{"the newest that fits"},
				Rejected: []plan.Option{{Option: "php 8.4.1", Because: "it has no extension redis"}}},
			{Subject: about.Parse("site.ferry.root"), Choice: "public", Because: []string{"it holds index.php"}},
			{Subject: about.Parse("gateway.port"), Choice: "8080", Because: []string{"the first free port"}},
		}})
	text := out.String()
	assert.Contains(t, text, "ferry  2 parts, 1 site\n")
	assert.Contains(t, text, "  version php 8.2.36: the newest that fits\n  not php 8.4.1: it has no extension redis\n")
	assert.Contains(t, text, "web + app")
	assert.Contains(t, text, "  root public: it holds index.php\n")
	assert.Contains(t, text, "gateway.port 8080: the first free port\n")
}

func TestFailure(t *testing.T) {
	u, out := plainUI()
	u.Failure(&Failure{What: "part db does not answer", Because: strings.Repeat("the tide is out ", 12),
		Detail: "its log ends with\n  no water", Next: "dravit logs db"})
	text := out.String()
	assert.True(t, strings.HasPrefix(text, "dravit: part db does not answer\n  because  the tide"), text)
	assert.Contains(t, text, "\n    its log ends with\n      no water\n     next  dravit logs db\n")
	for _, line := range strings.Split(text, "\n") {
		assert.LessOrEqual(t, len(line), maxWidth)
	}
	assert.Equal(t, "a: b", (&Failure{What: "a", Because: "b"}).Error())
}

func TestProgress(t *testing.T) {
	u, out := plainUI()
	p := u.Progress()
	p.Report(part(lifecycle.Status{Name: "old", State: lifecycle.Answers, Since: time.Now().Add(-time.Hour)}))
	p.Report(part(lifecycle.Status{Name: "db", Kind: "mariadb", Version: "10.11", State: lifecycle.Starting}))
	p.Report(part(lifecycle.Status{Name: "db", Kind: "mariadb", Version: "10.11",
		State: lifecycle.Answers, Since: time.Now()}))
	p.Report(part(lifecycle.Status{Name: "db", Kind: "mariadb", Version: "10.11",
		State: lifecycle.Answers, Since: time.Now()}))
	p.End()
	assert.Equal(t, 1, strings.Count(out.String(), "db            mariadb 10.11         answers"), out.String())
	assert.NotContains(t, out.String(), "old", "what ran before is no news")
	assert.NotContains(t, out.String(), "\r", "nothing repaints without a terminal")
}

func TestStartedAndStopped(t *testing.T) {
	u, out := plainUI()
	u.Started("ferry", stack.Started{Begun: []string{"a"}, Sites: []health.SiteResult{
		{Name: "ferry", URL: "http://x/",
			Rungs: []health.Result{{Rung: kind.Resolves, Advisory: true, Holds: &no}, rung(kind.Reaches, &yes)}},
	}}, 1234*time.Millisecond)
	assert.Contains(t, out.String(), "ferry  answers  1 part started in 1.2 s\n")
	assert.Contains(t, out.String(), "http://x/  ●  ", "what matters nowhere is for names and check to say")
	assert.NotContains(t, out.String(), "advisory")
	u.Started("ferry", stack.Started{}, time.Second)
	assert.Contains(t, out.String(), "nothing to start")
	u.Stopped("ferry", []lifecycle.Status{{Name: "db"}, {Name: "app"}})
	assert.Contains(t, out.String(), "2 parts stopped: app, db; data is kept")
	u.Stopped("ferry", nil)
	assert.Contains(t, out.String(), "nothing was running")
	out.Reset()
	u.Status(stack.Status{View: keeper.View{Name: "ferry"}})
	assert.NotContains(t, out.String(), "memory", "a table without rows")
}

func TestColourNeverAlone(t *testing.T) {
	var out bytes.Buffer
	u := &UI{Out: &out, Err: &out}
	assert.Contains(t, u.state(lifecycle.Failed), "failed")
	assert.Contains(t, u.state(lifecycle.Failed), "\x1b[")
	u.table([]string{"a", "b"}, []row{{cells: []string{u.state(lifecycle.Answers), "x"}}, {cells: []string{"y", "z"}}})
	lines := strings.Split(out.String(), "\n")
	assert.Equal(t, ansi.StringWidth("answers  x"), ansi.StringWidth(lines[1]), "colour takes no room")
}

func TestLogLine(t *testing.T) {
	u, out := plainUI()
	at := time.Now().Add(-time.Minute)
	u.LogLine("db", 5, "evil\x1b[2J\x07\ttide", at)
	assert.Equal(t, "db     "+at.Format("15:04:05")+"  evil[2J\ttide\n", out.String())
	for _, line := range []string{"2026-12-01T08:00:00Z INFO tide", "[Tue Dec  1 08:00:00 2026] [notice] tide",
		`127.0.0.1 - - [01/Dec/2026:08:00:00 +0000] "GET / HTTP/1.1" 200`, "2026/12/01 08:00:00 tide",
		"08:00:00 tide"} {
		out.Reset()
		u.LogLine("db", 2, line, at)
		assert.Equal(t, "db  "+line+"\n", out.String(), "it has its own")
	}
	out.Reset()
	u.LogLine("db", 2, "tide", time.Time{})
	assert.Equal(t, "db            tide\n", out.String(), "nobody saw when")
}

func TestWords(t *testing.T) {
	for d, want := range map[time.Duration]string{5 * time.Millisecond: "5 ms", 1500 * time.Millisecond: "1.5 s",
		42 * time.Second: "42 s", 3 * time.Minute: "3 min", 5 * time.Hour: "5 h", 72 * time.Hour: "3 days"} {
		assert.Equal(t, want, duration(d))
	}
	assert.Equal(t, "0.4 ms", milliseconds(0.42))
	assert.Equal(t, "12 ms", milliseconds(12.4))
	assert.Equal(t, "-", megabytes(0))
	assert.Equal(t, []string{"one two", "  three"}, wrap("one  two three", 8))
}

func TestSurvey(t *testing.T) {
	u, out := plainUI()
	u.Survey(survey.Survey{Host: survey.Host{OS: "linux", Arch: "amd64", User: "ada", LowestPort: 1024},
		Programs: []kind.Program{
			{Kind: "php", Version: "8.2.36", Path: "/usr/sbin/php-fpm8.2", Origin: "system",
				Facts: map[string]string{"extension_api": "API20220829,NTS", "extension_dir": "/ext",
					"built_in": "core date", "arch": "amd64"}},
			{Kind: "python", Version: "3.11.2", Path: "/usr/bin/python3", Origin: "system",
				Facts: map[string]string{"abi_tag": "cpython-311", "venv": "no ensurepip"}}},
		Modules: []kind.Module{
			{Kind: "php", Name: "intl", File: "/ext/intl.so"},
			{Kind: "php", Name: "x", File: "/other/x.so"},
		},
		Tools: []survey.Tool{
			{Name: "git", Found: []survey.Found{{Path: "/usr/bin/git", Version: "2.39.5", OnPath: true}}},
			{Name: "java", Found: []survey.Found{{Path: "/j/java", Version: "17.0.1"}}},
		},
		Names: []survey.Named{{Name: "git", Picked: &survey.Found{Path: "/old/git", Version: "1.9", OnPath: true},
			Hidden: []survey.Found{
				{Path: "/usr/bin/git", Version: "2.39.5", OnPath: true},
				{Path: "/x/git"},
			}, Login: "/usr/bin/git"}},
		Ports: []survey.Port{{Protocol: "tcp", Port: 8080, Address: "127.0.0.1", PID: 7, Program: "dravit",
			User: "ada", Stack: "gateway"}},
		Allowed: &survey.Allowed{Resolves: map[string]bool{"*.test": true}, DiskFree: 5e9, MemoryFree: 1.5e9,
			Engines: []survey.Engine{{Socket: "/run/e.sock", Because: "permission denied"}}},
	}, all.Kinds())
	text := out.String()
	for _, want := range []string{
		"ada  linux/amd64  2 programs of 2 kinds, 2 tools, 1 port held\n", "  API20220829,NTS, amd64, 2 built in, 1 " +
			"extension file in /ext, no command-line program of this\n    version\n",
		"cpython-311, virtual environments: no ensurepip", "git 2.39.5, java 17.0.1 (not on PATH)\n",
		"git   1.9 /old/git\n  hides 2.39.5 /usr/bin/git, /x/git (not on PATH)\n" +
			"  a login shell picks /usr/bin/git\n",
		"8080  tcp   127.0.0.1  dravit     7  ada   gateway", "from 1024 upwards",
		"/run/e.sock cannot be used: permission denied",
		"*.localhost             unknown to the system's resolver; browsers and curl know it",
		"*.test                  this machine, for every program", "disk 5 GB, memory 1.5 GB",
	} {
		assert.Contains(t, text, want)
	}
	for line := range strings.Lines(text) {
		assert.LessOrEqual(t, ansi.StringWidth(line), maxWidth+1)
	}
	assert.NotContains(t, text, "\u00a0")
}

func TestExtensions(t *testing.T) {
	u, out := plainUI()
	u.Extensions(stack.Extensions{Stack: "ferry",
		Parts: []extensions.Report{{Part: "app", Kind: "php", Version: "8.2.36", Program: "/usr/sbin/php-fpm8.2",
			Facts: map[string]string{"extension_api": "API20220829,NTS"}, Proved: true,
			Entries: []kind.Entry{{Name: "json", State: kind.BuiltIn},
				{Name: "redis", State: kind.Loads},
				{Name: "intl", State: kind.Available},
				{Name: "kelp", State: kind.Misfit, File: "/old/kelp.so", Because: "it was built for API20190902,NTS"},
				{Name: "whelk", State: kind.Misfit, File: "/old/whelk.so", Because: "it was built for API20190902,NTS"},
				{Name: "imagick", State: kind.Lacking, Because: "no extension folder has it"}},
			Differences: []extensions.Difference{{Name: "redis", Planned: true, Web: false, Command: true}},
			Debugger: &extensions.Debugger{Host: "127.0.0.1", Port: 9003, Live: true, Because: "Xdebug called",
				Local: "/p", Remote: "/p"}}}})
	text := out.String()
	for _, want := range []string{
		"app  php 8.2.36  /usr/sbin/php-fpm8.2  API20220829,NTS\n",
		"  built-in   json\n  loaded     redis\n  available  intl\n  unfit      kelp, whelk\n" +
			"             in /old: it was built for API20190902,NTS\n  missing    imagick\n",
		"redis: not loaded in the web process, loaded on the command line", "live: Xdebug called",
		"listen on 127.0.0.1 port 9003",
	} {
		assert.Contains(t, text, want)
	}
	u, out = plainUI()
	u.Switched(stack.Switched{Stack: "ferry", Part: "app", Name: "intl", On: true, Changed: true, File: "dravit.toml",
		Runs: true, Web: true, Command: false})
	assert.Contains(t, out.String(),
		"ferry  intl is on in dravit.toml, for part app\n  web process   loaded\n  command line  not loaded\n")
	u, out = plainUI()
	u.Switched(stack.Switched{Stack: "ferry", Part: "app", Name: "intl"})
	assert.Contains(t, out.String(), "intl was off already")
	assert.Equal(t, "next: dravit start; then dravit extensions shows whether it is loaded", lastLine(out.String()))
}

func TestWhyAndChanges(t *testing.T) {
	u, out := plainUI()
	d := plan.Decision{Subject: about.Parse("part.app.version"), Choice: "php 8.2.36",
		Because:  []string{"the stack file demands 8.2"},
		Rejected: []plan.Option{{Option: "php 8.4.1", Because: "too new"}}}
	u.Why(d)
	assert.Equal(t, "part.app.version  php 8.2.36\n  because the stack file demands 8.2\n  not php 8.4.1: too new\n",
		out.String())
	u, out = plainUI()
	p := plan.Plan{Stack: "ferry",
		Decisions: []plan.Decision{d,
			{Subject: about.Required("git"), Choice: "git 2.39.5 at /usr/bin/git",
				Because: []string{"PATH picks it"}}},
		Faults: []plan.Fault{{Subject: about.Parse("part.db")}},
		Since:  "2026-11-01T10:00:00Z",
		Changes: []plan.Change{{Subject: about.Parse("part.app.version"), Was: "php 8.2.1", Now: "php 8.2.36",
			Because: "/f became 8.2.36"}},
		Notes: []string{"composer.json: it is broken"}}
	u.Subjects(p)
	assert.Contains(t, out.String(),
		"part.app.version  php 8.2.36\nrequires.git      git 2.39.5 at /usr/bin/git\npart.db           no plan\n")
	u, out = plainUI()
	u.Plan(p)
	for _, want := range []string{"git git 2.39.5 at /usr/bin/git: PATH picks it", "changed since the last good " +
		"start, 2026-11-01T10:00:00Z\n  part.app.version was php 8.2.1, is php 8.2.36: /f became 8.2.36\n",
		"skipped: composer.json: it is broken\n"} {
		assert.Contains(t, out.String(), want)
	}
}

// Causes stand with their evidence and remedies; a trace with its legs; a watch fits its window and keeps the latest
// looks.
func TestDiagnosisTraceAndWatch(t *testing.T) {
	u, out := plainUI()
	u.Diagnosis("ferry", stack.Diagnosis{Causes: []diagnose.Cause{
		{Cause: "port-taken", Subject: about.Parse("part.db"), What: "another program has the port",
			Evidence: []string{"mysqld (pid 7)"}, Remedy: "dravit start"},
		{Cause: "stopped", Subject: about.Parse("part.mail"), What: "it was stopped", Remedy: "dravit start",
			Fix: []string{"dravit", "start"}}}})
	text := out.String()
	assert.Contains(t, text,
		"port-taken  part.db: another program has the port\n            mysqld (pid 7)\n        do  dravit start\n")
	assert.Equal(t, "next: dravit diagnose --fix carries out what can do no harm, after asking", lastLine(text))

	yes, no := true, false
	out.Reset()
	u.Trace(trace.Trace{Site: "ferry", URL: "http://ferry.localhost/", MS: 10, Legs: []leg.Leg{
		{Leg: "gateway", Who: "gateway", Holds: &yes, MS: 5},
		{Leg: "store", Who: "db", Holds: &no, Got: "refused"},
		{Leg: "store", Who: "seats"},
	}})
	text = out.String()
	for _, want := range []string{"gateway  gateway  -        holds          5.0 ms  ▪▪▪▪▪▪▪▪▪▪▪▪\n", "does not hold",
		"  refused\n", "not asked", "dravit diagnose says why db"} {
		assert.Contains(t, text, want)
	}

	out.Reset()
	w := u.Watch()
	c := stack.Checked{}
	for i := range 30 {
		c.Parts = append(c.Parts,
			stack.PartCheck{Name: fmt.Sprintf("a-rather-long-name-of-a-boat-%d", i), Kind: "dravit-cache",
				State: lifecycle.Answers, Rungs: []health.Result{{Rung: kind.Alive, Holds: &yes, MS: 3}}})
	}
	for range 40 {
		out.Reset()
		w.Show("ferry", c, time.Now(), 80, 24)
	}
	lines := strings.Split(ansi.Strip(out.String()), "\n")
	assert.Len(t, lines, 24)
	for _, l := range lines {
		assert.LessOrEqual(t, ansi.StringWidth(l), 80)
	}
	assert.Contains(t, lines[23], "more lines")
	w.End()
	assert.True(t, strings.HasSuffix(out.String(), control("?25", "h")+control("?1049", "l")))
}

func part(s lifecycle.Status) lifecycle.Progress { return lifecycle.Progress{Part: &s} }
