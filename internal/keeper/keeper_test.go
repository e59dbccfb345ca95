package keeper

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/proc"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

const (
	wait = 5 * time.Second
	tick = 5 * time.Millisecond
)

func newHome(t *testing.T) *home.Home {
	t.Helper()
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	return h
}

// serve stands in for a keeper.
func serve(t *testing.T, h *home.Home, handler http.HandlerFunc) *Client {
	t.Helper()
	l, err := net.Listen("unix", filepath.Join(h.Run, socketName))
	require.NoError(t, err)
	s := &http.Server{Handler: handler}
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { s.Close() })
	return Connect(h)
}

func TestClientStart(t *testing.T) {
	lines := `{"part":{"name":"db","state":"starting","memory_bytes":0}}
{"part":{"name":"db","state":"answers","memory_bytes":0}}
{"site":{"name":"ferry","url":"http://ferry.localhost/","rungs":[]}}
{"trouble":{"code":"no-space","what":"odd"}}
{"done":true,"begun":["db"]}
`
	c := serve(t, newHome(t), func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "/v1/stacks/abc/start", r.URL.Path)
		_, _ = w.Write([]byte(lines))
	})
	var got []Event
	require.NoError(t, c.Start(t.Context(), "abc", nil, 0, func(e Event) { got = append(got, e) }))
	require.Len(t, got, 5)
	assert.Equal(t, lifecycle.Answers, got[1].Part.State)
	assert.Equal(t, "ferry", got[2].Site.Name)
	assert.Equal(t, &trouble.Trouble{Code: trouble.NoSpace, What: "odd"}, got[3].Trouble)
	assert.Equal(t, []string{"db"}, got[4].Begun)
}

// A command distinguishes three things: a keeper whose answer breaks off, one that is about to exit, and none.
func TestClientWithoutKeeper(t *testing.T) {
	h := newHome(t)
	_, err := Connect(h).Hello(t.Context())
	assert.ErrorIs(t, err, trouble.KeeperGone)
	c := serve(t, h, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/v1/stacks/leaving/start":
			refuse(w, http.StatusServiceUnavailable, left(errors.New("it is about to exit")))
		case "/v1/stacks/broken/start":
			_, _ = w.Write([]byte(`{"part":{"name":"db"`))
		case "/v1/stacks/bad/start":
			refuse(w, http.StatusInternalServerError, fmt.Errorf("writing: %w", syscall.ENOSPC))
		case "/v1/stacks/slow/start":
			w.(http.Flusher).Flush()
			<-r.Context().Done()
		}
	})
	start := func(ctx context.Context, id string) error { return c.Start(ctx, id, nil, 0, func(Event) {}) }
	assert.ErrorIs(t, start(t.Context(), "leaving"), trouble.KeeperGone)
	err = start(t.Context(), "broken")
	assert.ErrorContains(t, err, "the keeper's answer broke off")
	assert.NotErrorIs(t, err, trouble.KeeperGone, "it may have begun something: asking again is the user's choice")
	err = start(t.Context(), "bad")
	assert.ErrorContains(t, err, "writing: no space left on device")
	assert.ErrorIs(t, err, trouble.NoSpace, "an error is the same on both sides of the socket")
	assert.ErrorIs(t, err, syscall.ENOSPC)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error)
	go func() { done <- start(ctx, "slow") }()
	cancel()
	assert.ErrorIs(t, <-done, context.Canceled)
}

func TestSettled(t *testing.T) {
	s := newStack(&Keeper{}, "abc")
	s.parts["app"] = &partRunner{spec: kind.Part{Name: "app", Uses: []string{"db"}}}
	state := func(db, app lifecycle.State) []lifecycle.Status {
		return []lifecycle.Status{{Name: "db", State: db}, {Name: "app", State: app}}
	}
	for _, c := range []struct {
		db, app          lifecycle.State
		settled, answers bool
	}{
		{lifecycle.Answers, lifecycle.Answers, true, true},
		{lifecycle.Starting, lifecycle.Answers, false, false},
		{lifecycle.Answers, lifecycle.Waiting, false, false},
		{lifecycle.Failed, lifecycle.Waiting, true, false},
		{lifecycle.Unwell, lifecycle.Answers, true, false},
		{lifecycle.Pausing, lifecycle.Answers, false, false},
		{lifecycle.Stopping, lifecycle.Stopped, false, false},
	} {
		settled, answers := s.settled(state(c.db, c.app))
		assert.Equal(t, c.settled, settled, "%s %s", c.db, c.app)
		assert.Equal(t, c.answers, answers, "%s %s", c.db, c.app)
	}
}

// A stack should run only until the machine's next boot.
func TestShouldRun(t *testing.T) {
	h := newHome(t)
	assert.False(t, AnyShouldRun(h))
	require.NoError(t, NoteShouldRun(h, "abc"))
	assert.True(t, ShouldRun(h, "abc"))
	assert.True(t, AnyShouldRun(h))
	require.NoError(t, noteShouldNotRun(h, "abc"))
	assert.False(t, ShouldRun(h, "abc"))
	require.NoError(t, home.WriteState(shouldRunFile(h, "abc"), shouldRun{Run: true, Boot: "another " + proc.BootID()}))
	assert.False(t, ShouldRun(h, "abc"))
	require.NoError(t, os.WriteFile(shouldRunFile(h, "abc"), []byte("{broken"), 0o600))
	assert.False(t, ShouldRun(h, "abc"))
}

func TestStoppedView(t *testing.T) {
	got := StoppedView(materialise.Spec{Name: "ferry",
		Parts: []kind.Part{{Name: "db", Kind: "mariadb", Version: "10.11", Port: 13306}}})
	assert.Equal(t, View{Name: "ferry", Parts: []lifecycle.Status{{Name: "db", Kind: "mariadb", Version: "10.11",
		Port: 13306, State: lifecycle.Stopped}}}, got)
}

// There is one keeper for each home folder. A keeper without stacks exits when asked.
func TestOneKeeper(t *testing.T) {
	h := newHome(t)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- Run(ctx, h, nil, "/nowhere", "build") }()
	c := Connect(h)
	require.Eventually(t, func() bool { _, err := c.Hello(t.Context()); return err == nil }, wait, tick)
	assert.True(t, Running(h))
	assert.ErrorIs(t, Run(t.Context(), h, nil, "/nowhere", "build"), ErrRunning)
	hello, err := c.Hello(t.Context())
	require.NoError(t, err)
	assert.Equal(t, Hello{os.Getpid(), "build"}, hello)
	cancel()
	assert.NoError(t, <-ended)
	assert.False(t, Running(h))
}

// tested is a kind whose program tests its configuration with a command.
type tested struct {
	kind.Kind
	test kind.Command
}

func (k tested) Test(kind.Part) kind.Command { return k.test }
func (tested) Traits() *kind.Traits          { return &kind.Traits{Name: "tested"} }
func (tested) LastWords(string) string       { return "" }

// A configuration that the program's own test rejects starts nothing; one that passed is not tested again until it
// changes.
func TestConfigurationIsTested(t *testing.T) {
	dir := t.TempDir()
	p := &partRunner{
		stack: newStack(&Keeper{}, "abc"),
		spec:  kind.Part{Name: "web", Conf: dir, Log: filepath.Join(dir, "web.log"), Hash: "one"},
	}
	test := func(script string) error {
		p.kind = tested{test: kind.Command{Path: "/bin/sh", Args: []string{"-c", script}, Dir: dir}}
		return p.test(t.Context())
	}
	err := test("echo '[emerg] unknown directive \"tide\" in web.conf:3' >&2; exit 1")
	assert.ErrorContains(t, err,
		`its own test rejects the configuration: [emerg] unknown directive "tide" in web.conf:3`)
	assert.Contains(t, p.logSince(0), "unknown directive", "the whole of it stands in the part's log")
	const count = "echo x >> asked"
	require.NoError(t, test(count))
	require.NoError(t, test(count))
	asked, err := os.ReadFile(filepath.Join(dir, "asked"))
	require.NoError(t, err)
	assert.Equal(t, "x\n", string(asked))
	p.spec.Hash = "two"
	require.NoError(t, test(count))
	asked, _ = os.ReadFile(filepath.Join(dir, "asked"))
	assert.Equal(t, "x\nx\n", string(asked))
}

func TestExitOf(t *testing.T) {
	for _, c := range []struct {
		end   run.End
		state lifecycle.State
		short bool
		want  string
		code  trouble.Code
		exit  int
	}{
		{run.End{}, lifecycle.Starting, false, "it exited with code 0 before it answered", trouble.Exited, 0},
		{run.End{}, lifecycle.Answers, false, "it exited with code 0", trouble.Exited, 0},
		{run.End{Unseen: true}, lifecycle.Answers, false, "it exited while no keeper ran", trouble.Exited, -1},
		{run.End{Code: 3}, lifecycle.Answers, true, "it exited with code 3", trouble.Exited, 3},
		{run.End{Signal: syscall.SIGKILL}, lifecycle.Starting, false,
			"it was killed by signal 9 (killed) before it answered", trouble.Killed, -1},
		{run.End{Signal: syscall.SIGTERM}, lifecycle.Answers, true, "it was killed by signal 15 (terminated)",
			trouble.Exited, -1},
		{run.End{Signal: syscall.SIGKILL}, lifecycle.Answers, true,
			"the kernel killed it, as there was no memory left", trouble.OutOfMemory, -1},
		{run.End{Signal: syscall.SIGSEGV}, lifecycle.Answers, false,
			"it was killed by signal 11 (segmentation fault)", trouble.Exited, -1},
	} {
		got := exitOf(c.end, c.state, c.short)
		assert.Equal(t, c.want, got.what)
		assert.Equal(t, c.code, got.code, c.want)
		assert.Equal(t, c.exit, got.exit, c.want)
	}
}
