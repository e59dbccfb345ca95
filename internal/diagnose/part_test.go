package diagnose

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/about"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/pattern"
	"dravit/internal/plan"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// alive is a ladder whose first rung holds, and whose second does not.
func alive() []health.Result {
	yes := true
	return []health.Result{
		{Rung: kind.Alive, Holds: &yes},
		{Rung: kind.Open, Holds: &no, Expected: "a socket", Got: "none"},
	}
}

// boat is a server of the project's own that does not answer.
func boat(state lifecycle.State, edit func(p *PartFacts)) Facts {
	p := PartFacts{
		Spec:    kind.Part{Name: "boat", Role: kind.RoleApp, Port: 3000, Program: "/usr/bin/boat"},
		Status:  lifecycle.Status{State: state, Because: "low tide"},
		Program: true,
		Rungs:   alive(),
		LogFile: "/logs/boat.log",
	}
	edit(&p)
	return Facts{Now: time.Now(), User: "ada", Parts: []PartFacts{p}}
}

func exited(code int) func(p *PartFacts) {
	return func(p *PartFacts) {
		p.Status.Code, p.Status.LastExit = trouble.Exited, &lifecycle.Exit{Code: code}
		p.Log = "one\ntwo\nthree\nfour\n"
	}
}

func listens(at ...string) func(p *PartFacts) { return func(p *PartFacts) { p.Listens = at } }

func code(c trouble.Code) func(p *PartFacts) { return func(p *PartFacts) { p.Status.Code = c } }

var unreadable = []kind.Symptom{kind.When("data-unreadable", pattern.New(`may not write (\w+)`), "it may not write $1",
	"chown")}

const unwell, failed = lifecycle.Unwell, lifecycle.Failed

// partCauses are parts that do not answer, and the cause that is found.
var partCauses = []struct {
	name     string
	state    lifecycle.State
	edit     func(p *PartFacts)
	cause    string // "": none
	remedy   string
	fix      string
	evidence string
}{
	{name: "answers", state: lifecycle.Answers, edit: listens()},
	{name: "waits", state: lifecycle.Waiting, edit: listens()},
	{name: "stopped", state: lifecycle.Stopped, edit: listens(), cause: "stopped",
		remedy: "dravit start", fix: "dravit start"},
	{name: "port taken", state: failed, edit: code(trouble.PortTaken), cause: "port-taken",
		remedy:   "dravit start, which uses another port",
		evidence: "it says: low tide"},
	{name: "pinned port taken", state: failed, edit: func(p *PartFacts) {
		p.Status.Code, p.Spec.Want = trouble.PortTaken, stackfile.PartConfig{Port: 3000}
	}, cause: "port-taken", remedy: "free it (dravit ports 3000), or pin another port in dravit.toml"},
	{name: "socket taken", state: failed, edit: code(trouble.SocketTaken), cause: "socket-taken",
		remedy: "stop it, then dravit start"},
	{name: "out of memory", state: lifecycle.Pausing, edit: code(trouble.OutOfMemory), cause: "out-of-memory",
		remedy: "then dravit restart boat"},
	{name: "out of memory a moment ago", state: lifecycle.Starting, edit: func(p *PartFacts) {
		p.Status.Because = ""
		p.Status.LastExit = &lifecycle.Exit{At: time.Now(), How: "the kernel killed it", Cause: trouble.OutOfMemory}
	}, cause: "out-of-memory", evidence: "it says: the kernel killed it"},
	{name: "out of memory before it answered", state: lifecycle.Unwell, edit: func(p *PartFacts) {
		p.Status.Because = ""
		p.Status.LastExit = &lifecycle.Exit{At: time.Now(), Cause: trouble.OutOfMemory}
		p.Status.ProvedAt = time.Now().Add(time.Second)
	}, cause: "does-not-listen"},
	{name: "program gone", state: failed, edit: func(p *PartFacts) { p.Program = false }, cause: "program-gone",
		remedy: "dravit start, which chooses another", fix: "dravit start", evidence: "/usr/bin/boat is not there"},
	{name: "configuration refused", state: failed, edit: func(p *PartFacts) {
		p.Status.Code, p.Included = trouble.ConfigRefused, []string{"a.conf", "b.conf"}
	}, cause: "directive-refused", remedy: "correct a.conf, b.conf"},
	{name: "configuration refused, nothing included", state: failed,
		edit: code(trouble.ConfigRefused), cause: "crashed"},
	{name: "killed", state: failed, edit: func(p *PartFacts) {
		p.Status.Code, p.Log = trouble.Killed, "no table boats\n"
		p.Traits.Symptoms = symptoms()
	}, cause: "killed", remedy: "dravit restart boat", fix: "dravit restart boat"},
	{name: "explained by its log", state: failed, edit: func(p *PartFacts) {
		p.Log, p.Traits.Symptoms = "x\nno table boats here\n", symptoms()
	}, cause: "tables-missing", evidence: "logs/boat.log: no table boats here"},
	{name: "explained by what the keeper heard", state: failed, edit: func(p *PartFacts) {
		p.Status.Because, p.Traits.Symptoms = "no table crew", symptoms()
	}, cause: "tables-missing", evidence: "the keeper: no table crew"},
	{name: "library missing", state: failed, edit: func(p *PartFacts) {
		p.Log = "boat: error while loading shared libraries: libkelp.so.2: cannot open shared object file\n"
	}, cause: "library-missing", remedy: "install it", evidence: "libkelp.so.2"},
	{name: "library missing, says musl's loader", state: failed, edit: func(p *PartFacts) {
		p.Log = "Error loading shared library libkelp.so.2: No such file or directory (needed by /usr/bin/boat)\n"
	}, cause: "library-missing", evidence: "libkelp.so.2"},
	{name: "library missing, says macOS' loader", state: failed, edit: func(p *PartFacts) {
		p.Log = "dyld[812]: Library not loaded: /opt/homebrew/opt/kelp/lib/libkelp.2.dylib\n  Referenced from: boat\n"
	}, cause: "library-missing", evidence: "libkelp.2.dylib"},
	{name: "denied by AppArmor", state: failed, edit: func(p *PartFacts) {
		p.Log, p.Traits.Symptoms = "may not write boats\n", unreadable
		p.Confined = Confinement{Module: "AppArmor", Profile: "boat", File: "/etc/apparmor.d/boat"}
	}, cause: "data-unreadable", remedy: "allow it in /etc/apparmor.d/boat, or sudo aa-complain boat",
		evidence: "AppArmor's profile boat"},
	{name: "denied by SELinux", state: failed, edit: func(p *PartFacts) {
		p.Log, p.Traits.Symptoms = "may not write boats\n", unreadable
		p.Confined = Confinement{Module: "SELinux", Profile: "boat_t"}
	}, cause: "data-unreadable", remedy: "sudo ausearch -m avc", evidence: "the program runs as boat_t"},
	{name: "listens on another port", state: unwell, edit: listens("127.0.0.1:3001"), cause: "listens-elsewhere",
		evidence: "it listens on 127.0.0.1:3001"},
	{name: "listens on its port, too", state: unwell, edit: listens("127.0.0.1:3000", "[::1]:3001"),
		cause:    "listens-elsewhere",
		evidence: "it listens on [::1]:3001"},
	{name: "listens everywhere", state: unwell, edit: listens("0.0.0.0:3000", "[::]:3000"), cause: "unwell",
		remedy: "dravit restart boat", fix: "dravit restart boat", evidence: "it says: low tide"},
	{name: "listened before it died", state: failed, edit: func(p *PartFacts) {
		p.Listens, p.Rungs = []string{"127.0.0.1:3001"}, rungs(kind.Alive, "none")
	}, cause: "crashed"},
	{name: "listens nowhere", state: unwell, edit: listens(), cause: "does-not-listen",
		remedy: "dravit logs boat may say what it waits for"},
	{name: "listens nowhere, and failed", state: failed, edit: listens(), cause: "crashed",
		remedy: "dravit logs boat"},
	{name: "a database listens nowhere", state: unwell, edit: func(p *PartFacts) {
		p.Spec.Role = kind.RoleDatabase
	}, cause: "unwell",
		fix: "dravit restart boat"},
	{name: "no such command", state: failed, edit: exited(127), cause: "command-missing", evidence: "four"},
	{name: "command not to be run", state: failed, edit: exited(126), cause: "command-forbidden",
		remedy: "chmod u+x it", evidence: "four"},
	{name: "a run failed", state: unwell, edit: func(p *PartFacts) {
		no := false
		p.Spec.Want = stackfile.PartConfig{Listens: &no, Every: "5m"}
		p.Rungs, p.Log = rungs(kind.Works, "exit code 3"), "one\ntwo\nthree\nfour\n"
	}, cause: "run-failed", remedy: "dravit restart boat", evidence: "four"},
	{name: "a worker's proof", state: unwell, edit: func(p *PartFacts) {
		no := false
		p.Spec.Want = stackfile.PartConfig{Listens: &no}
		p.Rungs, p.Log = rungs(kind.Works, "exit code 3"), "one\ntwo\nthree\nfour\n"
	}, cause: "proof-failed", remedy: "dravit logs boat may say why", fix: "dravit restart boat", evidence: "four"},
	{name: "a worker that died", state: failed, edit: func(p *PartFacts) {
		no := false
		p.Spec.Want = stackfile.PartConfig{Listens: &no}
	}, cause: "crashed"},
	{name: "ended at once", state: failed, edit: exited(0), cause: "ends-at-once",
		remedy: "make it stay in the foreground"},
	{name: "ended with an error", state: failed, edit: exited(3), cause: "crashed", evidence: "two"},
	{name: "a code of before", state: failed, edit: func(p *PartFacts) {
		p.Status.LastExit = &lifecycle.Exit{Code: 127}
	}, cause: "crashed"},
	{name: "no exit seen", state: failed, edit: code(trouble.Exited), cause: "crashed"},
	{name: "pauses", state: lifecycle.Pausing, edit: func(p *PartFacts) {
		p.Rungs = rungs(kind.Alive, "none")
	}, cause: "crashed"},
	{name: "foreign data", state: failed, edit: func(p *PartFacts) {
		p.Data = &Tree{Path: "/d", Foreign: "/d/x", Owner: "eve", Locked: "/d/y"}
	}, cause: "data-owner", remedy: "sudo chown -R ada '/d'", evidence: "/d/x belongs to eve"},
	{name: "closed data", state: failed, edit: func(p *PartFacts) {
		p.Data = &Tree{Path: "/d", Locked: "/d/y"}
	}, cause: "data-mode",
		remedy: "chmod -R u+rwX '/d'", fix: "chmod -R u+rwX /d", evidence: "/d/y is closed"},
	{name: "data as they should be", state: failed, edit: func(p *PartFacts) {
		p.Data = &Tree{Path: "/d"}
	}, cause: "crashed"},
}

// What is wrong with a part, what to do about it, and whether Dravit can do it itself.
func TestPartCauses(t *testing.T) {
	for _, c := range partCauses {
		t.Run(c.name, func(t *testing.T) {
			got := Causes(boat(c.state, c.edit))
			if c.cause == "" {
				assert.Empty(t, got)
				return
			}
			require.Equal(t, []string{"part.boat " + c.cause}, words(got))
			assert.Contains(t, got[0].Remedy, c.remedy)
			assert.Equal(t, c.fix, strings.Join(got[0].Fix, " "))
			assert.Contains(t, strings.Join(got[0].Evidence, "\n"), c.evidence)
			assert.NotContains(t, strings.Join(got[0].Evidence, "\n"), "one", "the last lines alone")
		})
	}
}

// A requirement that is not met is the cause, whatever else is found, with how to meet it.
func TestRequirementCauses(t *testing.T) {
	for sort, remedy := range map[string]string{
		"setting":  "set memory in the settings of part boat in dravit.toml",
		"database": "set memory in the database part's settings in dravit.toml",
		"function": "remove it from disable_functions",
		"writable": "make memory, and chmod u+w it",
	} {
		got := Causes(boat(lifecycle.Unwell, func(p *PartFacts) {
			p.Requires = []kind.Requirement{
				{Sort: sort, Name: "first", Wanted: ">= 1", Got: "2", Holds: true},
				{Sort: sort, Name: "memory", Wanted: ">= 64M", Got: "32M"},
				{Sort: sort, Name: "third", Wanted: ">= 1", Got: "0"},
			}
			p.Log, p.Traits.Symptoms = "no table boats\n", symptoms()
		}))
		require.Equal(t, []string{"part.boat requirement-unmet"}, words(got), sort)
		assert.Equal(t, "the application requires "+sort+" memory >= 64M", got[0].What)
		assert.Contains(t, got[0].Remedy, remedy)
		assert.Equal(t, []string{"the web process has: 32M"}, got[0].Evidence)
	}
}

// A part that cannot reach a store is not the cause as long as it is alive; a dead one is.
func TestStoresGoFirst(t *testing.T) {
	for state, told := range map[lifecycle.State]bool{
		lifecycle.Unwell: false, lifecycle.Starting: false, lifecycle.Failed: true, lifecycle.Pausing: true,
	} {
		f := boat(state, func(p *PartFacts) { p.Spec.Uses, p.Spec.Role = []string{"db"}, kind.RoleRuntime })
		f.Parts = append(f.Parts,
			PartFacts{Spec: kind.Part{Name: "db"}, Status: lifecycle.Status{State: lifecycle.Failed}, Program: true})
		assert.Equal(t, told, len(words(Causes(f))) == 2, "%s: %v", state, words(Causes(f)))
		f.Parts[1].Status.State = lifecycle.Answers
		assert.Len(t, Causes(f), 1, "the store answers")
	}
}

func TestConnectionsUsedUp(t *testing.T) {
	groups := []ClientGroup{
		{Program: "php", PID: 7, Count: 3, Idle: 90 * time.Second},
		{Program: "node", PID: 8, Count: 4},
		{Count: 1, Idle: time.Second},
	}
	f := func(limit int) Facts {
		return boat(lifecycle.Unwell, func(p *PartFacts) {
			p.Clients = &Clients{Limit: limit, Setting: "max_connections", Groups: groups}
			p.Status.Code = trouble.PortTaken
		})
	}
	got := Causes(f(8))
	require.Equal(t, []string{"part.boat connections-used-up"}, words(got))
	assert.Equal(t, "all 8 connections that part boat accepts are in use", got[0].What)
	assert.Contains(t, got[0].Remedy, "\n\t[part.boat]\n\tsettings = { max_connections = 16 }")
	assert.Equal(t, []string{
		"4 of node (pid 8), asking now",
		"3 of php (pid 7), idle for up to 1m30s",
		"1 of processes over the Unix socket, or of another user, idle for up to 1s",
	}, got[0].Evidence, "the most first")
	assert.Equal(t, []string{"part.boat port-taken"}, words(Causes(f(9))), "there is one left")
}

// A demand that no plan satisfies is reported, unless it was found at a site; causes of the part go before it.
func TestPlanFaults(t *testing.T) {
	fault := func(subject string) []plan.Fault {
		return []plan.Fault{{Subject: about.Parse(subject), What: "no", Because: "fog", Next: "wait"}}
	}
	f := boat(lifecycle.Answers, func(*PartFacts) {})
	f.Plan.Faults = fault("part.boat")
	got := Causes(f)
	require.Equal(t, []string{"part.boat no-plan"}, words(got))
	assert.Equal(t, "wait", got[0].Remedy)
	assert.Equal(t, []string{"fog"}, got[0].Evidence)
	assert.Equal(t, seen, got[0].rank)
	f = boat(lifecycle.Failed, func(*PartFacts) {})
	f.Plan.Faults = fault("part.boat")
	assert.Equal(t, []string{"part.boat crashed", "part.boat no-plan"}, words(Causes(f)))

	f = facts(lifecycle.Answers, "")
	f.Sites[0].Root = Root{Path: "/p", Missing: true}
	f.Plan.Faults = fault("site.ferry.root")
	assert.Equal(t, []string{"site.ferry root-gone"}, words(Causes(f)), "it says the same")
	f.Plan.Faults = append(fault("site.ferry.root"), fault("site.ferry-2.root")...)
	assert.ElementsMatch(t, []string{"site.ferry root-gone", "site.ferry-2.root no-plan"}, words(Causes(f)))
}

// A line of a log is shown, not a file in one line.
func TestLineAt(t *testing.T) {
	assert.Equal(t, "two", lineAt("one\n  two\t\nthree", 6))
	assert.Equal(t, strings.Repeat("x", 300)+"...", lineAt(strings.Repeat("x", 301), 0))
	assert.Equal(t, strings.Repeat("x", 300), lineAt(strings.Repeat("x", 300), 5))
	assert.Nil(t, last("\n \n", 3))
	assert.Equal(t, []string{"b", "c"}, last("a\nb\nc\n", 2))
	assert.Equal(t, []string{"a"}, last("a", 2))
}

// What no program may write to is a matter of the machine, in the words of each system's library.
func TestMachineInTheWordsOfOtherSystems(t *testing.T) {
	for words, want := range map[string]string{
		"boat: mkdir: /mnt/boats: Read-only file system\n": "read-only",
		"boat: write: Disc quota exceeded\n":               "quota-full", // macOS
		"boat: write: Quota exceeded\n":                    "quota-full", // musl
	} {
		causes := Causes(boat(failed, func(p *PartFacts) { p.Log = words }))
		assert.EqualValues(t, want, causes[0].Cause, words)
		assert.Equal(t, "machine", causes[0].Subject.String())
	}
}

// A security module is not blamed where the modes are wrong.
func TestModesBeforeConfinement(t *testing.T) {
	causes := Causes(boat(failed, func(p *PartFacts) {
		p.Log, p.Traits.Symptoms = "may not write boats\n", unreadable
		p.Confined, p.Data = Confinement{Module: "SELinux"}, &Tree{Path: "/data", Locked: "/data/boats"}
	}))
	require.EqualValues(t, "data-mode", causes[0].Cause)
	for _, c := range causes {
		assert.NotContains(t, c.What, "SELinux")
	}
}
