package survey

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/settings"
	"dravit/internal/stackfile"
)

// boat is a kind whose programs are called boat and tell their version when asked.
type boat struct {
	kind.Kind
	asked *atomic.Int64
}

func (boat) Traits() *kind.Traits {
	return &kind.Traits{Name: "boat", Programs: []string{"boat", "boat[0-9]*"}}
}

func (b boat) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	b.asked.Add(1)
	out, err := run(path, "--version")
	version, ok := strings.CutPrefix(strings.TrimSpace(out), "boat ")
	if err != nil || !ok {
		return "", nil, fmt.Errorf("no boat: %q: %w", out, err)
	}
	return version, map[string]string{"hull": "oak"}, nil
}

func script(t *testing.T, dir, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+text+"\n"), 0o755))
}

func look(t *testing.T, b boat, cache string) []kind.Program {
	t.Helper()
	s, err := Here(kind.List{b}, settings.Settings{}, cache).Look(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, runtime.GOOS, s.Host.OS)
	return s.Programs
}

// A survey works without its cache: if it cannot be written, every survey asks again.
func TestLookWithoutRoom(t *testing.T) {
	base := t.TempDir()
	script(t, base, "boat", "echo boat 1.0")
	t.Setenv("PATH", base)
	asked := new(atomic.Int64)
	for range 2 {
		found := look(t, boat{asked: asked}, filepath.Join(base, "no", "folder", "c.json"))
		require.Len(t, found, 1)
	}
	assert.EqualValues(t, 2, asked.Load())
}

func TestLook(t *testing.T) {
	base := t.TempDir()
	one, two := filepath.Join(base, "one"), filepath.Join(base, "two")
	script(t, one, "boat", "echo boat 1.2")
	t.Setenv("PATH", strings.Join([]string{one, two, "relative", one + "/"}, ":"))
	var asked atomic.Int64
	cache := filepath.Join(base, "survey.json")
	got := look(t, boat{asked: &asked}, cache)
	require.Len(t, got, 1)
	assert.Equal(t, kind.Program{Kind: "boat", Version: "1.2", Path: filepath.Join(one, "boat"), Origin: OnPath,
		Facts: map[string]string{"hull": "oak"}}, got[0])
	assert.Equal(t, got, look(t, boat{asked: &asked}, cache))
	assert.EqualValues(t, 1, asked.Load(), "what was asked once is remembered")

	script(t, two, "boat10", "echo boat 10.1")
	script(t, two, "boatyard", "echo boat 99")
	require.NoError(t, os.Symlink(filepath.Join(two, "boat10"), filepath.Join(two, "boat3"))) // the same file once
	require.NoError(t, os.WriteFile(filepath.Join(two, "boat4"), nil, 0o644))                 // no program
	require.NoError(t, os.Mkdir(filepath.Join(two, "boat5"), 0o755))
	got = look(t, boat{asked: &asked}, cache)
	require.Len(t, got, 2)
	assert.Equal(t, "10.1", got[0].Version, "the newest first")
	assert.EqualValues(t, 2, asked.Load())

	time.Sleep(10 * time.Millisecond)
	script(t, one, "boat", "echo boat 1.3-upgraded")
	got = look(t, boat{asked: &asked}, cache)
	assert.Equal(t, "1.3-upgraded", got[1].Version, "an upgraded program is asked again")
	require.NoError(t, os.Remove(filepath.Join(two, "boat10")))
	assert.Len(t, look(t, boat{asked: &asked}, cache), 1, "one that is gone is forgotten")
	require.NoError(t, os.WriteFile(cache, []byte("{broken"), 0o600))
	assert.Len(t, look(t, boat{asked: &asked}, cache), 1, "a broken memory is none")
}

// Programs that wait, fork, ask or never stop talking are given up on, and the survey goes on.
func TestMisbehavingPrograms(t *testing.T) {
	dir := t.TempDir()
	script(t, dir, "boat1", "cat; echo boat 1") // reads its input: there is none
	script(t, dir, "boat2", "sleep 60 & echo boat 2")
	script(t, dir, "boat3", "exit 3")
	script(t, dir, "boat4", "yes | head -c 5000000; echo")
	script(t, dir, "boat5", "echo not a tide table")
	script(t, dir, "boat6", "test -t 0 || test -t 1 || echo boat 6")
	script(t, dir, "boat7", "kill -9 $$")
	t.Setenv("PATH", dir+":/usr/bin:/bin")
	var asked atomic.Int64
	began := time.Now()
	got := look(t, boat{asked: &asked}, filepath.Join(dir, "cache.json"))
	assert.Less(t, time.Since(began), 2*probeTime)
	var versions []string
	for _, p := range got {
		versions = append(versions, p.Version)
	}
	assert.Contains(t, versions, "1")
	assert.Contains(t, versions, "6", "no terminal")
	assert.NotContains(t, versions, "3")
}

func TestProbeDeadline(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	began := time.Now()
	_, err := ask(ctx, nil, "/bin/sh", "-c", "trap '' TERM INT; sleep 60 & sleep 60")
	assert.Error(t, err)
	assert.Less(t, time.Since(began), 3*time.Second)
	out, err := ask(t.Context(), nil, "/bin/sh", "-c", "yes | head -c 3000000")
	require.NoError(t, err)
	assert.Len(t, out, probeBytes)
}

// What this machine really has: the servers that the suite needs must be found.
func TestRealPrograms(t *testing.T) {
	s, err := Here(
		all.Kinds(),
		settings.Settings{},
		filepath.Join(t.TempDir(), "survey.json"),
	).Look(t.Context(), nil)
	require.NoError(t, err)
	for _, want := range []string{"apache", "mariadb", "memcached", "nginx", "node", "php",
		"postgres", "python", "redis", "ruby"} {
		i := slices.IndexFunc(s.Programs, func(p kind.Program) bool { return p.Kind == want })
		require.GreaterOrEqual(t, i, 0, "%s is not found; ./verify installs it", want)
		assert.Regexp(t, `^\d+\.\d+`, s.Programs[i].Version)
		if want == "php" {
			j := slices.IndexFunc(s.Modules, func(m kind.Module) bool { return m.Name == "mysqli" })
			require.GreaterOrEqual(t, j, 0)
			assert.Equal(t, kind.Module{Kind: "php", Name: "mysqli",
				File: s.Programs[i].Facts["extension_dir"] + "/mysqli.so", Built: s.Programs[i].Facts["extension_api"],
				Arch:  []string{runtime.GOARCH},
				Needs: []string{"mysqlnd"}}, s.Modules[j], "what it needs is read from its symbols")
			assert.Contains(t, s.Programs[i].Facts["built_in"], "json")
			assert.FileExists(t, s.Programs[i].Facts["cli"])
		}
	}
}

func TestPorts(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	find := func(all []Port) Port {
		i := slices.IndexFunc(all, func(p Port) bool { return p.Port == port })
		require.GreaterOrEqual(t, i, 0)
		return all[i]
	}
	all, err := Ports(nil)
	require.NoError(t, err)
	assert.Equal(t, "abc", find(Owned(all, map[int]string{port: "abc"})).Stack)
	assert.Empty(t, Owned([]Port{{Port: port}}, map[int]string{port: "abc"})[0].Stack, "nobody was listed who has it")
	assert.Zero(t, find(all).PID, "who holds a port is looked up on request")
	assert.Zero(t, find(Holders(all, map[int]bool{port + 1: true})).PID)
	assert.Equal(t, os.Getpid(), find(Holders(all, map[int]bool{port: true})).PID)
	assert.Equal(t, os.Getpid(), find(Holders(all, nil)).PID, "or for every port")
	assert.Zero(t, find(all).PID, "what was listed stays as it is")
}

// Where the system hides the sockets of others, those on the ports that matter are found by trying.
func TestPortsThatTheSystemHides(t *testing.T) {
	listed := []Port{{Protocol: "tcp", Port: 80}, {Protocol: "udp", Port: 3306}}
	var asked []int
	got := hidden(listed, map[int]bool{0: true, 80: true, 3306: true, 5432: true}, func(port int) bool {
		asked = append(asked, port)
		return port == 3306
	})
	assert.Equal(t, []Port{{Protocol: "tcp", Address: "*", Port: 3306}}, got)
	assert.Equal(t, []int{3306, 5432}, asked)
}

// tree makes a recorded file system: every program of it is a script that tells its version as its kind expects.
func tree(t *testing.T, files map[string]string) string {
	t.Helper()
	root := t.TempDir()
	for path, version := range files {
		if to, ok := strings.CutPrefix(version, "-> "); ok {
			require.NoError(t, os.MkdirAll(filepath.Join(root, filepath.Dir(path)), 0o755))
			require.NoError(t, os.Symlink(filepath.Join(root, to), filepath.Join(root, path)))
			continue
		}
		script(t, filepath.Join(root, filepath.Dir(path)), filepath.Base(path), "echo boat "+version)
	}
	return root
}

func origins(s Survey) map[string]string {
	found := map[string]string{}
	for _, p := range s.Programs {
		found[p.Path] = p.Version + " " + p.Origin
	}
	return found
}

// A macOS layout: packages linked together in one folder, each version kept in its own, a framework, and a folder of
// versions in the home.
func TestMacLayout(t *testing.T) {
	root := tree(t, map[string]string{
		"/opt/homebrew/Cellar/boat/8.4.1/bin/boat":                   "8.4.1",
		"/opt/homebrew/Cellar/boat@8.2/8.2.9/sbin/boat":              "8.2.9",
		"/opt/homebrew/bin/boat":                                     "-> /opt/homebrew/Cellar/boat/8.4.1/bin/boat",
		"/opt/homebrew/opt/boat@8.2":                                 "-> /opt/homebrew/Cellar/boat@8.2/8.2.9",
		"/Library/Frameworks/Boat.framework/Versions/3.11/bin/boat3": "3.11.4",
		"/usr/bin/boat": "7.1.33",
		"/Users/ada/.boatman/versions/9.0.1/bin/boat":                                              "9.0.1",
		"/Users/ada/.fleet/versions/boat/v9.1.0/bin/boat":                                          "9.1.0",
		"/Users/ada/Library/Application Support/fnord/node-versions/v20.1.0/installation/bin/boat": "20.1.0",
		"/Users/ada/.boatman/versions/not-executable":                                              "1.0.0",
		"/Users/eve/.boatman/versions/6.6.6/bin/boat":                                              "6.6.6",
		"/opt/mine/2.0/bin/boat":                                                                   "2.0.0",
	})
	var asked atomic.Int64
	m := Machine{Kinds: kind.List{boat{asked: &asked}}, Cache: filepath.Join(t.TempDir(), "c.json"), Root: root,
		Home: "/Users/ada", Path: "/opt/homebrew/bin:/usr/bin",
		Settings: settings.Settings{Programs: []string{"/Volumes/tools"}}}
	script(t, filepath.Join(root, "/Volumes/tools"), "boat", "echo boat 5.5.5")
	s, err := m.Look(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{
		"/opt/homebrew/bin/boat":                                     "8.4.1 system",
		"/opt/homebrew/opt/boat@8.2/sbin/boat":                       "8.2.9 system",
		"/Library/Frameworks/Boat.framework/Versions/3.11/bin/boat3": "3.11.4 system",
		"/usr/bin/boat": "7.1.33 system",
		"/Users/ada/.boatman/versions/9.0.1/bin/boat":                                              "9.0.1 versions",
		"/Users/ada/.fleet/versions/boat/v9.1.0/bin/boat":                                          "9.1.0 versions",
		"/Users/ada/Library/Application Support/fnord/node-versions/v20.1.0/installation/bin/boat": "20.1.0 versions",
		"/opt/mine/2.0/bin/boat":                                                                   "2.0.0 versions",
		"/Volumes/tools/boat":                                                                      "5.5.5 settings",
	}, origins(s), "each real file once, and nobody else's home")
	n := asked.Load()
	again, err := m.Look(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, s.Programs, again.Programs)
	assert.Equal(t, n, asked.Load(), "the next look asks nobody")
}

// A small script that chooses a version leads to a program of the list: it is the same, listed once, under its own
// path.
func TestScriptBeforeAProgram(t *testing.T) {
	root := tree(
		t,
		map[string]string{
			"/home/ada/.fleet/versions/3.1/bin/boat": "3.1.0",
			"/home/ada/.fleet/shims/boat":            "3.1.0",
		},
	)
	m := Machine{
		Kinds: kind.List{fleet{}},
		Cache: filepath.Join(t.TempDir(), "c.json"),
		Root:  root,
		Home:  "/home/ada",
		Path:  "/home/ada/.fleet/shims",
	}
	s, err := m.Look(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"/home/ada/.fleet/versions/3.1/bin/boat": "3.1.0 versions"}, origins(s))
}

// fleet is a kind whose programs print the path of their real file.
type fleet struct{ boat }

func (fleet) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	return "3.1.0", map[string]string{kind.FactExecutable: "/home/ada/.fleet/versions/3.1/bin/boat"}, nil
}

// Command-line programs: what PATH picks, what it hides, and how each prints its version.
func TestTools(t *testing.T) {
	root := t.TempDir()
	tool := func(path, says string) { script(t, filepath.Join(root, filepath.Dir(path)), filepath.Base(path), says) }
	tool("/usr/bin/git", "echo git version 2.30.2")
	tool("/opt/new/bin/git", "echo git version 2.45.0")
	tool("/home/ada/bin/java", `echo 'openjdk version "17.0.15" 2025-04-15' >&2`)
	tool("/usr/bin/loadmaster", `test "$1" = tell && echo "Loadmaster build 7 (v3.2.1)"`)
	tool("/usr/bin/less", "echo 'less 590 (GNU regular expressions)'")
	tool("/usr/bin/mute", "exit 1")
	m := Machine{Cache: filepath.Join(t.TempDir(), "c.json"), Root: root, Home: "/home/ada", Path: "/usr/bin"}
	requires := map[string]stackfile.Require{
		"git":        {},
		"java":       {},
		"less":       {},
		"mute":       {},
		"absent":     {},
		"loadmaster": {Ask: "tell", Pattern: `\(v([0-9.]+)\)`},
	}
	for range 2 { // the second time from memory
		s, err := m.Look(t.Context(), requires)
		require.NoError(t, err)
		assert.Equal(t, []Tool{
			{"absent", []Found{}},
			{
				"git",
				[]Found{{"/usr/bin/git", "2.30.2", System, true}, {"/opt/new/bin/git", "2.45.0", Local, false}},
			},
			{"java", []Found{{"/home/ada/bin/java", "17.0.15", User, false}}},
			{"less", []Found{{"/usr/bin/less", "590", System, true}}},
			{"loadmaster", []Found{{"/usr/bin/loadmaster", "3.2.1", System, true}}},
			{"mute", []Found{{"/usr/bin/mute", "", System, true}}},
		}, s.Tools)
		assert.Equal(t, "/usr/bin/git", s.Tools[1].Picked().Path)
		assert.Nil(t, s.Tools[2].Picked())
	}
	l := m.look()
	s, err := m.Look(t.Context(), requires)
	require.NoError(t, err)
	names := l.names(s, "/opt/new/bin:/usr/bin")
	require.Len(t, names, 1)
	assert.Equal(t, "git", names[0].Name)
	assert.Equal(t, "2.45.0", names[0].Hidden[0].Version)
	assert.Equal(t, "/opt/new/bin/git", names[0].Login)
}

// What programs really print, for the manners that are not plain.
func TestManners(t *testing.T) {
	assert.GreaterOrEqual(t, len(Known()), 40)
	for name, c := range map[string]struct{ says, want string }{
		"java":    {`openjdk version "1.8.0_392"`, "8.0"},
		"javac":   {"javac 17.0.15", "17.0.15"},
		"mysql":   {"mysql  Ver 15.1 Distrib 10.11.19-MariaDB, for debian-linux-gnu", "10.11.19"},
		"mariadb": {"mariadb from 11.4.2-MariaDB, client 15.2 for Linux", "11.4.2"},
		"mvn":     {"\x1b[1mApache Maven 3.8.7\x1b[m\nMaven home: /x", "3.8.7"},
		"openssl": {"OpenSSL 3.0.11 19 Sep 2023", "3.0.11"},
		"ssh":     {"OpenSSH_9.2p1 Debian-2, OpenSSL 3.0", "9.2"},
		"go":      {"go version go1.26.8 linux/amd64", "1.26.8"},
		"ruby":    {"ruby 3.1.7p1 (2024) [x86_64-linux]", "3.1.7"},
		"perl":    {"This is perl 5, version 36, subversion 0 (v5.36.0) built", "5.36.0"},
		"jq":      {"jq-1.6", "1.6"},
		"node":    {"v20.20.2", "20.20.2"},
		"erl":     {"26", "26"},
		"dotnet":  {"8.0.100-rc.1", "8.0.100-rc.1"},
	} {
		assert.Equal(t, c.want,
			firstVersion(regexp.MustCompile(Machine{}.mannerOf(name, stackfile.Require{}).pattern), c.says), name)
	}
}

func TestAllowed(t *testing.T) {
	a := allowed(t.Context(), t.TempDir())
	assert.Positive(t, a.DiskFree)
	assert.Positive(t, a.MemoryFree)
	assert.Contains(t, a.Resolves, "*.test")
	assert.GreaterOrEqual(t, lowestPort(), 1)
}

// What was missing beside a program is looked for again: it may be installed any moment.
func TestMissingCompanion(t *testing.T) {
	dir := t.TempDir()
	script(t, dir, "boat", "echo boat 1.0")
	var asked atomic.Int64
	m := Machine{Kinds: kind.List{alone{boat{asked: &asked}}}, Cache: filepath.Join(dir, "c.json"), Path: dir}
	for range 2 {
		_, err := m.Look(t.Context(), nil)
		require.NoError(t, err)
	}
	assert.EqualValues(t, 1, asked.Load(), "not at once")
	var known memory
	require.NoError(t, home.ReadJSON(m.Cache, &known))
	for key, e := range known.Programs {
		assert.False(t, e.Until.IsZero())
		e.Until = time.Now().Add(-time.Second)
		known.Programs[key] = e
	}
	require.NoError(t, home.WriteState(m.Cache, known))
	_, err := m.Look(t.Context(), nil)
	require.NoError(t, err)
	assert.EqualValues(t, 2, asked.Load())
}

// A program that could not run is asked again after a while: what it lacked may be there.
func TestAFailedProbeExpires(t *testing.T) {
	dir := t.TempDir()
	script(t, dir, "boat", "test -e "+dir+"/library && echo boat 1.0")
	m := Machine{Kinds: kind.List{boat{asked: new(atomic.Int64)}}, Cache: filepath.Join(dir, "c.json"), Path: dir}
	look := func() (Survey, memory) {
		s, err := m.Look(t.Context(), map[string]stackfile.Require{"boat": {}})
		require.NoError(t, err)
		var known memory
		require.NoError(t, home.ReadJSON(m.Cache, &known))
		return s, known
	}
	s, _ := look()
	require.Empty(t, s.Programs)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "library"), nil, 0o600))
	s, known := look()
	require.Empty(t, s.Programs, "not at once")
	for key, e := range known.Programs {
		e.Until = time.Now().Add(-time.Second)
		known.Programs[key] = e
	}
	for key, a := range known.Tools {
		a.Until = time.Now().Add(-time.Second)
		known.Tools[key] = a
	}
	require.NoError(t, home.WriteState(m.Cache, known))
	s, known = look()
	assert.Len(t, s.Programs, 1)
	assert.Equal(t, "1.0", s.Tools[0].Found[0].Version)
	for _, e := range known.Programs {
		assert.Zero(t, e.Until, "what answered is not asked again")
	}
	for _, a := range known.Tools {
		assert.Zero(t, a.Until)
	}
}

// On a Mac without developer tools, what stands in for them would open a dialog: it is not run.
func TestStandInsAreNotRun(t *testing.T) {
	root := t.TempDir()
	for name, links := range map[string]string{
		"boat1": "/usr/lib/libxcselect.dylib", "boat2": "JavaLaunching.framework", "boat3": "libSystem.B.dylib",
	} {
		script(t, filepath.Join(root, "usr/bin"), name, "echo boat 1."+name[4:]+" # "+links)
	}
	script(t, filepath.Join(root, "opt/homebrew/bin"), "boat4", "echo boat 1.4 # libxcselect.dylib")
	look := func(standIns bool) (versions []string) {
		m := Machine{Kinds: kind.List{boat{asked: new(atomic.Int64)}}, Cache: filepath.Join(t.TempDir(), "c.json"),
			Root: root, Home: "/Users/ada", Path: "/usr/bin", StandIns: standIns}
		s, err := m.Look(t.Context(), nil)
		require.NoError(t, err)
		for _, p := range s.Programs {
			versions = append(versions, p.Version)
		}
		slices.Sort(versions)
		return versions
	}
	assert.Equal(t, []string{"1.3", "1.4"}, look(true))
	assert.Equal(t, []string{"1.1", "1.2", "1.3", "1.4"}, look(false), "other systems have no such programs")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "Library/Developer/CommandLineTools/usr/bin"), 0o755))
	assert.Equal(t, []string{"1.1", "1.3", "1.4"}, look(true))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "Users/ada/Library/Java/JavaVirtualMachines/17"), 0o755))
	assert.Equal(t, []string{"1.1", "1.2", "1.3", "1.4"}, look(true))
}

// alone is a boat whose oars are missing.
type alone struct{ boat }

func (a alone) Inspect(ctx context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	v, facts, err := a.boat.Inspect(ctx, path, run)
	facts["oars"] = ""
	return v, facts, err
}

// raft is a boat of another name.
type raft struct{ boat }

func (raft) Traits() *kind.Traits { return &kind.Traits{Name: "raft", Programs: []string{"raft"}} }

// A survey of some kinds keeps what is known of the others.
func TestSurveyOfSomeKinds(t *testing.T) {
	dir, cache := t.TempDir(), filepath.Join(t.TempDir(), "survey.json")
	t.Setenv("PATH", dir)
	t.Setenv("HOME", t.TempDir())
	script(t, dir, "boat", "echo boat 1.2.3")
	script(t, dir, "raft", "echo boat 4.5.6")
	boats, rafts := boat{asked: &atomic.Int64{}}, raft{boat{asked: &atomic.Int64{}}}
	survey := func(kinds ...kind.Kind) (versions []string) {
		s, err := Here(kinds, settings.Settings{}, cache).Look(t.Context(), nil)
		require.NoError(t, err)
		for _, p := range s.Programs {
			versions = append(versions, p.Kind+" "+p.Version)
		}
		return versions
	}
	assert.Equal(t, []string{"boat 1.2.3", "raft 4.5.6"}, survey(boats, rafts))
	script(t, dir, "boat", "echo boat 1.2.30")
	assert.Equal(t, []string{"boat 1.2.30"}, survey(boats), "no other kind's")
	assert.Equal(t, []string{"boat 1.2.30", "raft 4.5.6"}, survey(boats, rafts))
	assert.EqualValues(t, 1, rafts.asked.Load(), "it was remembered meanwhile")
	require.NoError(t, os.Remove(filepath.Join(dir, "raft")))
	survey(boats)
	assert.Equal(t, []string{"boat 1.2.30"}, survey(boats, rafts), "and is forgotten once it is gone")
}
