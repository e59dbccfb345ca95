package keeper

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/proc"
	"dravit/internal/run"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// boat is a kind whose server is a shell script. It answers while there is a file "up" in its temporary folder.
type boat struct {
	kind.StoreDefaults
	name string
	role kind.Role
}

func (b boat) Traits() *kind.Traits {
	return &kind.Traits{Name: b.name, Role: b.role, Reload: syscall.SIGUSR1, Symptoms: []kind.Symptom{}}
}
func (boat) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{} }

// Command runs the part's command: $TEMP is its temporary folder, and UP makes it answer until it is stopped.
func (boat) Command(p kind.Part) kind.Command {
	const up = `trap 'echo reloaded >> "$TEMP/log"' USR1; trap 'exit 0' TERM; touch ` +
		`"$TEMP/up"; while :; do sleep 0.02; done`
	return kind.Command{
		Path: "/bin/sh",
		Args: []string{"-c", strings.ReplaceAll(p.Want.Command, "UP", up)},
		Dir:  p.Conf,
		Env:  []string{"TEMP=" + p.Temp, "PATH=/usr/bin:/bin"},
		Stop: syscall.SIGTERM,
	}
}

func (boat) Ladder(p kind.Part) []kind.Rung {
	return []kind.Rung{health.Alive(p), {Name: kind.Works, Ask: func(ctx context.Context) error {
		for exists(filepath.Join(p.Temp, "hold")) && proc.Sleep(ctx, tick) == nil { // it takes long to ask
			if err := os.WriteFile(filepath.Join(p.Temp, "asked"), nil, 0o600); err != nil {
				return err
			}
		}
		if !exists(filepath.Join(p.Temp, "up")) {
			return &kind.Miss{Expected: "a boat that is up", Got: "none"}
		}
		return nil
	}}}
}

func (boat) Test(p kind.Part) kind.Command {
	if !strings.Contains(p.Want.Command, "refused") {
		return kind.Command{}
	}
	return kind.Command{Path: "/bin/sh", Args: []string{"-c", "echo no such tide >&2; exit 1"}, Dir: p.Conf}
}

// harbour is a keeper of one stack whose parts are boats.
type harbour struct {
	*Keeper
	t   *testing.T
	s   *stackRunner
	way kind.Way // of its parts
}

func newHarbour(t *testing.T) *harbour {
	t.Helper()
	return harbourAt(t, newHome(t))
}

func harbourAt(t *testing.T, h *home.Home) *harbour {
	t.Helper()
	k := &Keeper{
		home: h,
		kinds: kind.List{
			boat{name: "db", role: kind.RoleDatabase},
			boat{name: "app", role: kind.RoleApp},
			boat{name: "web", role: kind.RoleWeb},
		},
		log:    slog.New(slog.NewTextHandler(io.Discard, nil)),
		quit:   func() {},
		stacks: map[string]*stackRunner{},
		self:   "/nowhere/dravit",
	}
	k.gateway = newGatewayRunner(k)
	out := &harbour{Keeper: k, t: t, s: k.stack("abc")}
	t.Cleanup(func() {
		_, _ = out.s.stop(context.Background(), nil)
		k.parts.Wait()
	})
	return out
}

// spec describes parts by their names, which are their kinds', and commands.
func (h *harbour) spec(commands ...[2]string) materialise.Spec {
	spec := materialise.Spec{Format: 1, ID: "abc", Name: "pier"}
	for _, c := range commands {
		p := kind.Part{
			Name: c[0],
			Kind: c[0],
			Role: h.kinds.TraitsOf(c[0]).Role,
			Conf: h.home.Stack("abc", "conf", c[0]),
			Temp: h.home.Stack("abc", "temp", c[0]),
			Log:  h.home.Stack("abc", "logs", c[0]+".log"),
			Lock: h.home.Stack("abc", "state", c[0]+".lock"),
			Hash: c[1],
			Way:  h.way,
		}
		p.Want.Command = c[1]
		if c[0] == "app" && slices.ContainsFunc(commands, func(x [2]string) bool { return x[0] == "db" }) {
			p.Uses = []string{"db"}
		}
		require.NoError(h.t, os.MkdirAll(p.Conf, 0o700))
		require.NoError(h.t, os.MkdirAll(filepath.Dir(p.Lock), 0o700))
		spec.Parts = append(spec.Parts, p)
	}
	return spec
}

func (h *harbour) begin(spec materialise.Spec, restart ...string) []string {
	h.t.Helper()
	_, begun, err := h.s.begin(h.t.Context(), func() (materialise.Spec, error) {
		return spec, home.WriteState(materialise.File(h.home, "abc"), spec)
	}, request{Parts: restart})
	require.NoError(h.t, err)
	return begun
}

func (h *harbour) status(name string) lifecycle.Status {
	for _, p := range h.s.statuses() {
		if p.Name == name {
			return p
		}
	}
	return lifecycle.Status{}
}

func (h *harbour) eventually(name string, state lifecycle.State) lifecycle.Status {
	h.t.Helper()
	require.Eventually(h.t, func() bool {
		return h.status(name).State == state
	}, wait, tick, "%s is %+v", name, h.status(name))
	return h.status(name)
}

// alive reports whether what has a process id, or a number in memory, runs.
func alive(id int) bool {
	if boat := run.Named(inMemory).(*fleet).of(id); boat != nil {
		return boat.Alive()
	}
	return syscall.Kill(id, 0) == nil
}

// kill ends it as kill -9 does.
func kill(t *testing.T, id int) {
	t.Helper()
	if boat := run.Named(inMemory).(*fleet).of(id); boat != nil {
		require.NoError(t, boat.Signal(syscall.SIGKILL))
		return
	}
	require.NoError(t, syscall.Kill(id, syscall.SIGKILL))
}

const up = "UP"

// waits is up after the test has touched the file "go" of the part.
const waits = `while [ ! -e "$TEMP/go" ]; do sleep 0.01; done; UP`

// temp returns the path of a file in a part's temporary folder.
func (h *harbour) temp(part, file string) string { return h.home.Stack("abc", "temp", part, file) }

// touch makes a file there, as soon as there is such a folder.
func (h *harbour) touch(part, file string) {
	h.t.Helper()
	require.Eventually(h.t, func() bool { return os.WriteFile(h.temp(part, file), nil, 0o600) == nil }, wait, tick)
}

func TestStackStartsAndStops(t *testing.T) { eachWay(t, testStackStartsAndStops) }

func testStackStartsAndStops(t *testing.T, h *harbour) {
	assert.ElementsMatch(t, []string{"db", "app", "web"},
		h.begin(h.spec([2]string{"web", up}, [2]string{"app", up}, [2]string{"db", waits})))
	require.Eventually(t, func() bool { return len(h.s.spans([]string{"app"})["app"]) > 0 }, wait, tick)
	h.touch("db", "go")
	var pids []int
	for _, name := range []string{"db", "app", "web"} {
		s := h.eventually(name, lifecycle.Answers)
		assert.Positive(t, s.PID)
		assert.False(t, s.ProvedAt.IsZero())
		pids = append(pids, s.PID)
	}
	assert.True(t, ShouldRun(h.home, "abc"))
	assert.Equal(t, []string{"web", "app", "db"}, names(h.s.statuses()), "in the order of the plan")
	settled, answers := h.s.settled(h.s.statuses())
	assert.True(t, settled && answers)
	spans := h.s.spans([]string{"app", "nobody"})
	require.Len(t, spans, 1)
	assert.Equal(t, lifecycle.PhaseWaiting, spans["app"][0].Phase, "for the database")
	assert.Equal(t, "db", spans["app"][0].For)

	last, err := h.s.stop(t.Context(), []string{"web"})
	require.NoError(t, err)
	require.Len(t, last, 1)
	assert.Equal(t, lifecycle.Stopped, last[0].State)
	assert.True(t, ShouldRun(h.home, "abc"), "the rest still should")
	assert.Equal(t, lifecycle.Stopped, h.s.stateOf("web"))
	last, err = h.s.stop(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, last, 2)
	assert.False(t, ShouldRun(h.home, "abc"))
	for _, pid := range pids {
		assert.False(t, alive(pid))
	}
	assert.NoFileExists(t, h.s.seenFile())
	assert.NoDirExists(t, h.home.Stack("abc", "temp", "db"))
	assert.NoFileExists(t, h.home.Stack("abc", "state", "db.lock"))
	log, _ := os.ReadFile(h.home.Stack("abc", "logs", "db.log"))
	assert.Contains(t, string(log), "part db is started\n")
	assert.Contains(t, string(log), "part db is stopped\n")
}

func names(all []lifecycle.Status) (out []string) {
	for _, p := range all {
		out = append(out, p.Name)
	}
	return out
}

// Only parts that have changed are restarted; parts that are gone from the plan are stopped; failed ones are tried
// again.
func TestStackFollowsItsPlan(t *testing.T) { eachWay(t, testStackFollowsItsPlan) }

func testStackFollowsItsPlan(t *testing.T, h *harbour) {
	h.begin(h.spec([2]string{"db", up}, [2]string{"app", up}, [2]string{"web", "exit 7"}))
	db, app := h.eventually("db", lifecycle.Answers).PID, h.eventually("app", lifecycle.Answers).PID
	failed := h.eventually("web", lifecycle.Failed)
	assert.Equal(t, "it exited with code 7 before it answered", failed.Because)
	assert.Equal(t, "dravit logs web", failed.Next)
	assert.Equal(t, trouble.Exited, failed.Code)
	assert.Equal(t, 7, failed.LastExit.Code)

	assert.Equal(t, []string{"web"},
		h.begin(h.spec([2]string{"db", up}, [2]string{"app", up}, [2]string{"web", "exit 7"})))
	h.eventually("web", lifecycle.Failed)
	assert.Equal(t, db, h.status("db").PID)
	assert.ElementsMatch(t, []string{"app", "web"},
		h.begin(h.spec([2]string{"db", up}, [2]string{"app", "true; UP"}, [2]string{"web", up})))
	assert.Equal(t, db, h.eventually("db", lifecycle.Answers).PID)
	assert.NotEqual(t, app, h.eventually("app", lifecycle.Answers).PID)
	h.eventually("web", lifecycle.Answers)
	assert.Equal(t, []string{"db"}, h.begin(h.spec([2]string{"db", up}), "db"))
	assert.NotEqual(t, db, h.eventually("db", lifecycle.Answers).PID)
	assert.Equal(t, []string{"db"}, names(h.s.statuses()))
	assert.False(t, alive(app), "what is gone from the plan has ended")
}

// A part takes another configuration while it runs, if nothing else has changed.
func TestReload(t *testing.T) { eachWay(t, testReload) }

func testReload(t *testing.T, h *harbour) {
	spec := h.spec([2]string{"web", up})
	h.begin(spec)
	pid := h.eventually("web", lifecycle.Answers).PID
	spec.Parts[0].Config = "another"
	assert.Empty(t, h.begin(spec))
	log := filepath.Join(spec.Parts[0].Temp, "log")
	require.Eventually(t, func() bool { return exists(log) }, wait, tick)
	assert.Equal(t, pid, h.eventually("web", lifecycle.Answers).PID)
	var was remembered
	require.NoError(t, home.ReadJSON(h.s.seenFile(), &was))
	assert.Equal(t, "another", was.Configs["web"])
	h.begin(spec)
	time.Sleep(5 * tick)
	text, _ := os.ReadFile(log)
	assert.Equal(t, "reloaded\n", string(text), "once")
}

// A part whose process is killed is started again, and says what happened.
func TestPartIsStartedAgain(t *testing.T) { eachWay(t, testPartIsStartedAgain) }

func testPartIsStartedAgain(t *testing.T, h *harbour) {
	h.begin(h.spec([2]string{"db", up}))
	was := h.eventually("db", lifecycle.Answers)
	kill(t, was.PID)
	require.Eventually(t, func() bool {
		now := h.status("db")
		return now.State == lifecycle.Answers && now.PID != was.PID
	}, wait, tick)
	now := h.status("db")
	assert.Equal(t, 1, now.Restarts)
	assert.Equal(t, -1, now.LastExit.Code)
	assert.Contains(t, now.LastExit.How, "killed")
	assert.Empty(t, now.Because, "it is over")
}

// A part that is unwell says which rung does not hold, and answers again by itself.
func TestUnwell(t *testing.T) { eachWay(t, testUnwell) }

func testUnwell(t *testing.T, h *harbour) {
	spec := h.spec([2]string{"db", up})
	h.begin(spec)
	pid := h.eventually("db", lifecycle.Answers).PID
	up := filepath.Join(spec.Parts[0].Temp, "up")
	require.NoError(t, os.Remove(up))
	h.begin(spec) // which looks at once only at parts that are unwell: this one is looked at within a second
	unwell := h.eventually("db", lifecycle.Unwell)
	assert.Equal(t, "works: expected a boat that is up, got none", unwell.Because)
	require.NoError(t, os.WriteFile(up, nil, 0o600))
	h.begin(spec)
	assert.Equal(t, pid, h.eventually("db", lifecycle.Answers).PID)
}

// A check that was under way when a start began says nothing about what the start brings.
func TestStartDuringCheck(t *testing.T) { eachWay(t, testStartDuringCheck) }

func testStartDuringCheck(t *testing.T, h *harbour) {
	spec := h.spec([2]string{"db", waits}, [2]string{"app", up})
	h.begin(spec)
	h.eventually("db", lifecycle.Starting)
	h.touch("db", "go")
	h.eventually("app", lifecycle.Answers)
	require.NoError(t, os.Remove(h.temp("app", "up")))
	h.eventually("app", lifecycle.Unwell)
	h.touch("app", "hold")
	assert.Eventually(t, func() bool { return exists(h.temp("app", "asked")) }, wait, tick)
	h.begin(spec, "db")
	require.NoError(t, os.Remove(h.temp("app", "hold")))
	assert.Never(t, func() bool { return h.status("app").State == lifecycle.Unwell }, 300*time.Millisecond, tick)
	h.touch("app", "up")
	h.touch("db", "go")
	h.eventually("app", lifecycle.Answers)
}

// The same, for a part that answered when the start began: it is asked again when what it needs is back.
func TestStartBeneathPart(t *testing.T) { eachWay(t, testStartBeneathPart) }

func testStartBeneathPart(t *testing.T, h *harbour) {
	spec := h.spec([2]string{"db", waits}, [2]string{"app", up})
	h.begin(spec)
	h.touch("db", "go")
	h.eventually("app", lifecycle.Answers)
	h.touch("app", "hold") // it is asked again within a second
	require.Eventually(t, func() bool { return exists(h.temp("app", "asked")) }, wait, tick)
	require.NoError(t, os.Remove(h.temp("app", "up")))
	h.begin(spec, "db")
	require.NoError(t, os.Remove(h.temp("app", "hold")))
	assert.Never(t, func() bool {
		settled, _ := h.s.settled(h.s.statuses())
		return settled || h.status("app").State == lifecycle.Unwell
	}, 300*time.Millisecond, tick)
	h.touch("app", "up")
	h.touch("db", "go")
	h.eventually("db", lifecycle.Answers)
	h.eventually("app", lifecycle.Answers)
}

// Nor does it say anything if it ends just when the part is asked anew.
func TestLookAgain(t *testing.T) {
	p := &partRunner{stack: newHarbour(t).s, poke: make(chan struct{}, 1)}
	p.set(lifecycle.Answers, "", "")
	p.askNow()
	for _, state := range []lifecycle.State{lifecycle.Unwell, lifecycle.Answers} {
		p.set(state, "", "")
		assert.Equal(t, lifecycle.Starting, p.status.State)
	}
	<-p.poke
	p.set(lifecycle.Unwell, "", "")
	assert.Equal(t, lifecycle.Unwell, p.status.State)
}

// A part that waits for a failed one says so, and counts as settled.
func TestWaitsForFailed(t *testing.T) { eachWay(t, testWaitsForFailed) }

func testWaitsForFailed(t *testing.T, h *harbour) {
	h.begin(h.spec([2]string{"db", "echo fog; exit 3"}, [2]string{"app", up}))
	h.eventually("db", lifecycle.Failed)
	require.Eventually(t, func() bool { return h.status("app").Because == "db failed, which it needs" }, wait, tick)
	assert.Equal(t, lifecycle.Waiting, h.status("app").State)
	assert.Equal(t, "dravit logs db", h.status("app").Next)
	assert.Equal(t, []string{"fog"}, h.status("db").LogTail)
	settled, answers := h.s.settled(h.s.statuses())
	assert.True(t, settled)
	assert.False(t, answers)
	assert.Zero(t, h.status("app").PID, "it was not started")
}

func TestRefusedConfiguration(t *testing.T) { eachWay(t, testRefusedConfiguration) }

func testRefusedConfiguration(t *testing.T, h *harbour) {
	h.begin(h.spec([2]string{"web", "refused; UP"}))
	failed := h.eventually("web", lifecycle.Failed)
	assert.Equal(t, trouble.ConfigRefused, failed.Code)
	assert.Contains(t, failed.Because, "no such tide")
	assert.Zero(t, failed.PID)
}

// Another keeper takes over what this one leaves, and starts what has died meanwhile.
func TestAnotherKeeperAdopts(t *testing.T) { eachWay(t, testAnotherKeeperAdopts) }

func testAnotherKeeperAdopts(t *testing.T, h *harbour) {
	h.begin(h.spec([2]string{"db", up}, [2]string{"web", up}))
	db, web := h.eventually("db", lifecycle.Answers).PID, h.eventually("web", lifecycle.Answers).PID
	h.s.leave()
	require.True(t, alive(db), "it lives on")
	kill(t, web)
	require.Eventually(t, func() bool { return !alive(web) }, wait, tick)
	next := harbourAt(t, h.home)
	require.NoError(t, next.s.adopt())
	assert.Equal(t, db, next.eventually("db", lifecycle.Answers).PID)
	assert.NotEqual(t, web, next.eventually("web", lifecycle.Answers).PID)
	kill(t, db)
	require.Eventually(t, func() bool {
		s := next.status("db")
		return s.State == lifecycle.Answers && s.PID != db
	}, wait, tick, "a process that is not its child is watched, too")
	assert.Equal(t, "it exited while no keeper ran", next.status("db").LastExit.How)
}

// What the gateway is told of a site follows the parts behind it.
func TestRoutes(t *testing.T) { eachWay(t, testRoutes) }

func testRoutes(t *testing.T, h *harbour) {
	spec := h.spec([2]string{"web", up}, [2]string{"app", up})
	spec.Sites = []materialise.Site{
		{Name: "pier", Host: "pier.localhost", Aliases: []string{"*.pier.localhost"}, Server: "web",
			App: "app", NetworkPort: 8600},
		{Name: "lost", Host: "lost.localhost", Server: "nobody"},
	}
	spec.Parts[0].Socket, spec.Parts[1].Port = "/run/web.sock", 18000
	routes := func() gateway.Table {
		var table gateway.Table
		h.s.mu.Lock()
		defer h.s.mu.Unlock()
		for _, site := range spec.Sites {
			h.s.route(site, &table)
		}
		return table
	}
	h.begin(spec)
	h.eventually("app", lifecycle.Answers)
	h.eventually("web", lifecycle.Answers)
	table := routes()
	require.Len(t, table.Routes, 2, "a name and an alias; a site without a server has none")
	assert.Equal(t, gateway.Route{
		Host: "pier.localhost", Stack: "pier", StackID: "abc", Site: "pier", Server: "web", App: "app",
		Behind: []string{"web", "app"}, Network: "unix", Address: "/run/web.sock",
		AppNetwork: "tcp", AppAddress: "127.0.0.1:18000",
	}, table.Routes[0])
	assert.Equal(t, "*.pier.localhost", table.Routes[1].Host)
	assert.Equal(t, []gateway.NetworkListener{{Port: 8600, Host: "pier.localhost"}}, table.Network)

	h.s.mu.Lock()
	app := h.s.parts["app"]
	h.s.mu.Unlock()
	h.s.crashed(app)
	assert.True(t, routes().Routes[0].Held, "requests wait for what comes back")
	h.s.release("app")
	assert.False(t, routes().Routes[0].Held)
	_, err := h.s.stop(t.Context(), []string{"web"})
	require.NoError(t, err)
	assert.True(t, routes().Routes[0].Halted)
	_, err = h.s.stop(t.Context(), []string{"app"})
	require.NoError(t, err)
	assert.Empty(t, routes().Routes[0].AppAddress, "nobody waits for what was stopped")
}

// The states of sites follow the parts behind them.
func TestSiteStates(t *testing.T) { eachWay(t, testSiteStates) }

func testSiteStates(t *testing.T, h *harbour) {
	spec := h.spec([2]string{"web", up}, [2]string{"app", up})
	site := materialise.Site{Name: "pier", Host: "pier.localhost",
		URL: "http://pier.localhost/", Server: "web", App: "app"}
	spec.Sites = []materialise.Site{site}
	state := func() lifecycle.SiteStatus { return h.s.seen().SiteStates[0] }
	h.begin(spec)
	h.s.asking() // this test records what they come to
	h.eventually("app", lifecycle.Answers)
	h.eventually("web", lifecycle.Answers)
	yes, no := true, false
	h.s.recordSite(site, []health.Result{{Rung: kind.Replies, Holds: &yes}},
		map[string]int64{"web": 7}, time.Millisecond)
	answers := state()
	assert.Equal(t, lifecycle.Answers, answers.State)
	assert.Equal(t, map[string]int64{"web": 7}, answers.LogFrom)
	assert.Equal(t, "http://pier.localhost/", answers.URL)
	h.s.recordSite(site, []health.Result{{Rung: kind.Replies, Holds: &no, Expected: "a page", Got: "fog"}},
		map[string]int64{"web": 9}, time.Millisecond)
	unwell := state()
	assert.Equal(t, lifecycle.Unwell, unwell.State)
	assert.Equal(t, "replies: expected a page, got fog", unwell.Because)
	assert.Equal(t, answers.ProvedAt, unwell.ProvedAt)
	assert.Equal(t, map[string]int64{"web": 7}, unwell.LogFrom, "what was written since it answered")
	_, err := h.s.stop(t.Context(), []string{"app"})
	require.NoError(t, err)
	assert.Equal(t, "because app is stopped", state().Because)
	assert.Equal(t, lifecycle.Waiting, state().State)
	_, err = h.s.stop(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, lifecycle.Stopped, state().State)
}

// Which sites are asked, and when: those whose parts answer, at once when these come back, and slow pages less often.
func TestDueSites(t *testing.T) { eachWay(t, testDueSites) }

func testDueSites(t *testing.T, h *harbour) {
	spec := h.spec([2]string{"web", up})
	site := materialise.Site{Name: "pier", Server: "web"}
	spec.Sites = []materialise.Site{site}
	h.begin(spec)
	h.s.asking()
	h.eventually("web", lifecycle.Answers)
	due, _ := h.s.dueSites()
	assert.Len(t, due, 1)
	yes := true
	holds := []health.Result{{Rung: kind.Replies, Holds: &yes}}
	h.s.recordSite(site, holds, nil, time.Millisecond)
	due, next := h.s.dueSites()
	assert.Empty(t, due)
	assert.InDelta(t, askSiteAgain.Seconds(), next.Seconds(), 1)
	h.s.recordSite(site, holds, nil, time.Minute)
	_, next = h.s.dueSites()
	assert.Equal(t, askSiteAgain, next, "not before 20 minutes")
	h.s.mu.Lock()
	assert.WithinDuration(t, time.Now().Add(20*time.Minute), h.s.sites["pier"].due, time.Second)
	h.s.parts["web"].status.State = lifecycle.Pausing
	h.s.mu.Unlock()
	due, _ = h.s.dueSites()
	assert.Empty(t, due)
	h.s.mu.Lock()
	h.s.parts["web"].status.State = lifecycle.Answers
	h.s.mu.Unlock()
	due, _ = h.s.dueSites()
	assert.Len(t, due, 1, "its server is back")
	h.s.mu.Lock()
	h.s.waiting = 1
	h.s.mu.Unlock()
	due, _ = h.s.dueSites()
	assert.Empty(t, due, "a start asks by itself")
}

// What the keeper tells commands over the socket.
func TestAPI(t *testing.T) { eachWay(t, testAPI) }

func testAPI(t *testing.T, h *harbour) {
	h.build = "build"
	server := httptest.NewServer(h.handler())
	defer server.Close()
	post := func(path, body string) *http.Response {
		resp, err := http.Post(server.URL+path, "application/json", strings.NewReader(body))
		require.NoError(t, err)
		t.Cleanup(func() { resp.Body.Close() })
		return resp
	}
	events := func(resp *http.Response) (all []Event) {
		in := bufio.NewScanner(resp.Body)
		for in.Scan() {
			var e Event
			require.NoError(t, json.Unmarshal(in.Bytes(), &e))
			if e.Part != nil || e.Stage != "" || e.Done || e.Trouble != nil {
				all = append(all, e)
			}
		}
		return all
	}
	spec := h.spec([2]string{"web", up}, [2]string{"db", up})
	require.NoError(t, home.WriteState(materialise.File(h.home, "abc"), spec))
	all := events(post("/v1/stacks/abc/start", "{}"))
	last := all[len(all)-1]
	assert.True(t, last.Done)
	assert.ElementsMatch(t, []string{"web", "db"}, last.Begun)
	assert.Len(t, last.Spans, 2)
	stages := []lifecycle.Stage{}
	states := map[string]lifecycle.State{}
	for _, e := range all {
		if e.Stage != "" {
			stages = append(stages, e.Stage)
		}
		if e.Part != nil {
			states[e.Part.Name] = e.Part.State
		}
	}
	assert.Equal(t, lifecycle.StageSites, stages[len(stages)-1])
	assert.Equal(t, map[string]lifecycle.State{"web": lifecycle.Answers, "db": lifecycle.Answers}, states)

	never := events(post("/v1/stacks/xyz/start", "{}"))
	require.Len(t, never, 2)
	assert.Equal(t, trouble.NeverStarted, never[0].Trouble.Code)
	assert.True(t, never[1].Done)

	resp, err := http.Get(server.URL + "/v1/stacks/abc")
	require.NoError(t, err)
	defer resp.Body.Close()
	var view View
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&view))
	assert.Equal(t, "pier", view.Name)
	assert.Equal(t, []string{"web", "db"}, names(view.Parts))

	assert.Equal(t, http.StatusBadRequest, post("/v1/stacks/abc/start", "{").StatusCode)
	assert.Equal(t, http.StatusBadRequest, post("/v1/stacks/abc/stop", "{").StatusCode)
	var stopped []lifecycle.Status
	require.NoError(t, json.NewDecoder(post("/v1/stacks/abc/stop", `{"parts":["db"]}`).Body).Decode(&stopped))
	assert.Equal(t, []string{"db"}, names(stopped))
	require.NoError(t, json.NewDecoder(post("/v1/stacks/abc/stop", "{}").Body).Decode(&stopped))
	assert.Equal(t, []string{"web"}, names(stopped))
	assert.True(t, h.leaving, "with the last part it has nothing to do")
	busy := post("/v1/stacks/abc/start", "{}")
	assert.Equal(t, http.StatusServiceUnavailable, busy.StatusCode)
	refusal := &trouble.Trouble{}
	require.NoError(t, json.NewDecoder(busy.Body).Decode(refusal))
	assert.ErrorIs(t, refusal, trouble.KeeperGone)
}

// A start that takes too long ends, and its parts keep running; if its caller leaves, they are stopped.
func TestStartThatIsLeft(t *testing.T) { eachWay(t, testStartThatIsLeft) }

func testStartThatIsLeft(t *testing.T, h *harbour) {
	server := httptest.NewServer(h.handler())
	defer server.Close()
	spec := h.spec([2]string{"db", up}, [2]string{"web", "sleep 60"})
	require.NoError(t, home.WriteState(materialise.File(h.home, "abc"), spec))
	resp, err := http.Post(server.URL+"/v1/stacks/abc/start", "",
		strings.NewReader(fmt.Sprintf(`{"timeout":%d}`, 300*time.Millisecond)))
	require.NoError(t, err)
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Contains(t, string(text), `"done":true`)
	h.eventually("db", lifecycle.Answers)
	assert.Positive(t, h.status("web").PID, "it runs on")

	db := h.status("db").PID
	_, err = h.s.stop(t.Context(), []string{"web"})
	require.NoError(t, err)
	ctx, leave := context.WithCancel(t.Context())
	req, err := http.NewRequestWithContext(ctx, http.MethodPost,
		server.URL+"/v1/stacks/abc/start", bytes.NewReader([]byte("{}")))
	require.NoError(t, err)
	go func() {
		for h.status("web").PID == 0 {
			time.Sleep(tick)
		}
		leave()
	}()
	resp, err = http.DefaultClient.Do(req)
	if err == nil {
		_, err = io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
	}
	require.ErrorIs(t, err, context.Canceled)
	require.Eventually(t, func() bool { return h.s.stateOf("web") == lifecycle.Stopped }, wait, tick)
	assert.Equal(t, db, h.status("db").PID, "what ran before runs on")
}

// A log that has grown too long is rotated, and its writer continues at the beginning.
func TestShortenLog(t *testing.T) {
	file := filepath.Join(t.TempDir(), "db.log")
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteString("short\n")
	require.NoError(t, err)
	shortenLog(file)
	assert.NoFileExists(t, file+".1")
	require.NoError(t, f.Truncate(maxLog+1))
	_, err = f.WriteString("the end\n")
	require.NoError(t, err)
	shortenLog(file)
	aside, err := os.ReadFile(file + ".1")
	require.NoError(t, err)
	assert.Len(t, aside, maxLog)
	assert.True(t, bytes.HasSuffix(aside, []byte("the end\n")))
	_, err = f.WriteString("new\n")
	require.NoError(t, err)
	text, _ := os.ReadFile(file)
	assert.Equal(t, "new\n", string(text))
}

// The keeper takes its lock file again after it was deleted, unless another keeper has taken it.
func TestHoldLock(t *testing.T) {
	h := newHarbour(t)
	path := h.home.Path(home.KeeperLock)
	lock, err := home.TryLock(path)
	require.NoError(t, err)
	defer lock.Close()
	again, err := h.holdLock(lock)
	require.NoError(t, err)
	assert.Nil(t, again, "it is still the one")
	require.NoError(t, os.Remove(path))
	again, err = h.holdLock(lock)
	require.NoError(t, err)
	require.NotNil(t, again)
	assert.True(t, home.Locked(path))
	require.NoError(t, again.Close())
	require.NoError(t, os.Remove(path))
	other, err := home.TryLock(path)
	require.NoError(t, err)
	defer other.Close()
	_, err = h.holdLock(lock)
	assert.True(t, errors.Is(err, home.ErrLocked))
}

func TestLastLine(t *testing.T) {
	err := errors.New("exit status 1")
	assert.Equal(t, "[emerg] fog", lastLine([]byte("one\n [emerg] fog\ntest failed\n"), err))
	assert.Equal(t, "ERROR: fog", lastLine([]byte("ERROR: fog\nlast"), err))
	assert.Equal(t, "last", lastLine([]byte("one\nlast\n"), err))
	assert.Equal(t, "exit status 1", lastLine(nil, err))
	assert.Equal(t, []string{"a", "b"}, tailOf("a\n"+noteMark+"x\nb\n\n"), "without the keeper's own notes")
	assert.Len(t, tailOf(strings.Repeat("x\n", 20)), 8)
	assert.NotEmpty(t, proc.BootID())
}
