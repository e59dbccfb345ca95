package run

import (
	"context"
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/members"
	"dravit/internal/proc"
)

// ferry is a part in a folder of its own.
func ferry(t *testing.T) kind.Part {
	t.Helper()
	dir := t.TempDir()
	return kind.Part{Name: "ferry", Lock: filepath.Join(dir, "ferry.lock"), Log: filepath.Join(dir, "ferry.log")}
}

// start starts a shell script as the process of a part.
func start(t *testing.T, p kind.Part, script string) (Handle, <-chan End) {
	t.Helper()
	begun := 0
	h, err := Of(p).Start(t.Context(), p, kind.Command{Path: "/bin/sh", Args: []string{"-c", script},
		Env: []string{"PATH=/usr/bin:/bin"}}, func() { begun++ })
	require.NoError(t, err)
	require.Equal(t, 1, begun)
	t.Cleanup(func() { _ = h.End(context.Background()) })
	return h, h.Watch(t.Context(), func() {})
}

// said waits until the part has written a line to its log.
func said(t *testing.T, p kind.Part, line string) {
	t.Helper()
	require.Eventually(t, func() bool {
		text, _ := os.ReadFile(p.Log)
		return string(text) == line+"\n"
	}, 10*time.Second, time.Millisecond)
}

func TestWays(t *testing.T) {
	for way, want := range map[kind.Way]Offers{
		"":                   {Process: true, Data: true, Accounts: true, Log: true},
		kind.WayProcess:      {Process: true, Data: true, Accounts: true, Log: true},
		kind.WaySupervised:   {Process: true, Data: true, Accounts: true, Log: true},
		kind.WayFiles:        {Data: true, Accounts: true},
		kind.WayOutside:      {},
		"of another program": {Process: true, Data: true, Accounts: true, Log: true},
	} {
		assert.Equal(t, want, Named(way).Offers(), way)
		p := kind.Part{Name: "ferry", Way: way, Data: "/data"}
		assert.Equal(t, p, Of(p).View(p), "its process sees the folders as they are")
	}
	assert.Panics(t, func() { Register(kind.WayFiles, idle{}) })
}

// Where nothing runs, nothing ends, and nothing is there to be stopped.
func TestNothingRuns(t *testing.T) {
	for _, way := range []kind.Way{kind.WayFiles, kind.WayOutside} {
		p := ferry(t)
		p.Way = way
		h, err := Of(p).Start(t.Context(), p, kind.Command{}, func() { t.Error("nothing begins") })
		require.NoError(t, err)
		assert.Nil(t, h.Watch(t.Context(), nil))
		assert.False(t, h.Alive())
		assert.Zero(t, h.PID())
		assert.True(t, h.Note().IsZero())
		assert.False(t, h.Includes(os.Getpid()))
		require.ErrorIs(t, h.Signal(syscall.SIGTERM), os.ErrProcessDone)
		require.NoError(t, h.Stop(t.Context(), Stop{}))
		assert.Nil(t, Of(p).Adopt(p, Note{Own: "x"}))
		assert.False(t, AnyAlive([]kind.Part{p}))
		assert.NoFileExists(t, p.Lock)
	}
}

// How a process ended: its exit code, or the signal that a shell, too, tells by its code.
func TestEnds(t *testing.T) {
	for script, want := range map[string]End{
		"exit 0":     {},
		"exit 3":     {Code: 3},
		"kill -9 $$": {Signal: syscall.SIGKILL},
		"exit 139":   {Signal: syscall.SIGSEGV},
		"exit 255":   {Code: 255}, // no signal has that number
	} {
		_, ended := start(t, ferry(t), script)
		assert.Equal(t, want, <-ended, script)
	}
	assert.True(t, endOf(os.ErrClosed).Unseen)
}

// A process runs in a session of its own, with the marks by which any other program finds it.
func TestProcessIsFound(t *testing.T) {
	p := ferry(t)
	h, _ := start(t, p, `echo "$DRAVIT_PART"; sleep 60 & wait`)
	said(t, p, p.Lock)
	assert.True(t, h.Alive())
	assert.True(t, h.Includes(h.PID()))
	assert.False(t, h.Includes(os.Getpid()))
	assert.Equal(t, h.PID(), h.Note().PID)
	assert.Equal(t, h.Note().Identity, members.Leader(p.Lock))
	assert.True(t, home.Locked(p.Lock))
	session, err := syscall.Getpgid(h.PID())
	require.NoError(t, err)
	assert.Equal(t, h.PID(), session)
	memory, changed := h.Look()
	assert.Positive(t, memory)
	assert.False(t, changed, "a server keeps its marks: nothing has to be noted")

	seen := Seen(p)
	assert.True(t, seen.Alive())
	assert.True(t, ByLock(p.Lock).Includes(h.PID()))
	var look Look
	assert.True(t, look.Alive(p))
	other := ferry(t)
	assert.False(t, look.Alive(other))
	assert.True(t, AnyAlive([]kind.Part{other, p}))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	owns, err := seen.Owns("tcp", l.Addr().String())
	require.NoError(t, err)
	assert.False(t, owns, "it is this test's")
	at, err := h.Listens()
	require.NoError(t, err)
	assert.Empty(t, at)
}

// What a dead process left behind is ended before its end is told, but whoever waits for requests learns of it before.
func TestEndOfProcess(t *testing.T) {
	p := ferry(t)
	h, err := process{}.Start(t.Context(), p, kind.Command{Path: "/bin/sh", Args: []string{"-c",
		`setsid sh -c 'echo left; sleep 60' & wait`}, Env: []string{"PATH=/usr/bin:/bin"}}, func() {})
	require.NoError(t, err)
	alive := false
	ended := h.Watch(t.Context(), func() { alive = Seen(p).Alive() })
	said(t, p, "left")
	require.NoError(t, h.Signal(syscall.SIGKILL))
	assert.Equal(t, End{Signal: syscall.SIGKILL}, <-ended)
	assert.True(t, alive, "the rest lived when the death was told")
	assert.False(t, Seen(p).Alive())
	require.ErrorIs(t, h.Signal(syscall.SIGTERM), os.ErrProcessDone)
}

// A stop asks first, ends what does not go by itself, and leaves nothing that could be adopted.
func TestStop(t *testing.T) {
	for script, want := range map[string]End{
		`trap 'exit 7' USR1; echo ready; while :; do sleep 0.01; done`: {Code: 7},
		`trap '' USR1 TERM; echo ready; while :; do sleep 0.01; done`:  {Signal: syscall.SIGKILL},
		`trap 'exit 0' USR1
(trap '' TERM; echo ready; sleep 60) & while :; do sleep 0.01; done`: {},
	} {
		p := ferry(t)
		h, ended := start(t, p, script)
		said(t, p, "ready")
		require.NoError(t, h.Stop(t.Context(), Stop{Signal: syscall.SIGUSR1, Patience: 300 * time.Millisecond}))
		assert.Equal(t, want, <-ended, script)
		assert.False(t, Seen(p).Alive(), script)
		assert.NoFileExists(t, p.Lock)
		require.NoError(t, h.Stop(t.Context(), Stop{}), "it is stopped already")
	}
}

// A stop that is given up says so.
func TestStopGivenUp(t *testing.T) {
	p := ferry(t)
	h, _ := start(t, p, `trap '' TERM; echo ready; sleep 60 & wait; sleep 60`)
	said(t, p, "ready")
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, h.Stop(ctx, Stop{Signal: syscall.SIGTERM, Patience: time.Minute}), context.DeadlineExceeded)
	assert.True(t, h.Alive())
}

// Another keeper finds the process by the note, or by the lock file; it learns of the end, but not how.
func TestAdopt(t *testing.T) {
	for _, lost := range []bool{false, true} {
		p := ferry(t)
		h, _ := start(t, p, "echo ready; exec sleep 60")
		said(t, p, "ready")
		note := h.Note()
		if lost {
			note = Note{}
		}
		adopted := Of(p).Adopt(p, note)
		require.NotNil(t, adopted)
		assert.Equal(t, h.PID(), adopted.PID())
		ctx, leave := context.WithCancel(t.Context())
		left := Of(p).Adopt(p, note).Watch(ctx, func() { t.Error("it was left") })
		leave()
		died := make(chan struct{})
		ended := adopted.Watch(t.Context(), func() { close(died) })
		require.NoError(t, adopted.Signal(syscall.SIGKILL))
		assert.Equal(t, End{Unseen: true}, <-ended)
		<-died
		select {
		case <-left:
			t.Error("who has left is told nothing")
		default:
		}
		assert.Nil(t, Of(p).Adopt(p, h.Note()), "it is gone")
		assert.Nil(t, Of(p).Adopt(p, Note{}))
	}
	wrong := proc.Identity{PID: os.Getpid(), Boot: proc.BootID(), Start: 1}
	assert.Nil(t, Of(ferry(t)).Adopt(ferry(t), Note{Identity: wrong}), "another process has the number")
}

// What a handle has seen is ended even if it lost every mark; a note of a supervised command names it.
func TestLostMarks(t *testing.T) {
	p := ferry(t)
	h := process{supervised: true}.handle(p, Note{})
	stray, ended := start(t, ferry(t), "echo ready; exec sleep 60")
	h.known = []proc.Identity{stray.Note().Identity}
	note := h.Note()
	assert.Equal(t, h.known, note.Members)
	assert.Nil(t, process{}.handle(p, note).Note().Members, "a server's marks are enough")
	text, err := json.Marshal(note)
	require.NoError(t, err)
	var read Note
	require.NoError(t, json.Unmarshal(text, &read))
	require.NoError(t, process{}.Seen(p, read).End(t.Context()))
	assert.Equal(t, End{Signal: syscall.SIGTERM}, <-ended)
}

// While another program holds the lock, the part is not started; a moment does not matter.
func TestLockIsHeld(t *testing.T) {
	p := ferry(t)
	lock, err := home.TryLock(p.Lock)
	require.NoError(t, err)
	held := lock
	time.AfterFunc(50*time.Millisecond, func() { held.Close() })
	_, ended := start(t, p, "exit 0")
	assert.Equal(t, End{}, <-ended)
	lock, err = home.TryLock(p.Lock)
	require.NoError(t, err)
	defer lock.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	_, err = Of(p).Start(ctx, p, kind.Command{Path: "/bin/true"}, func() { t.Error("it does not begin") })
	require.Error(t, err)
}

// A program that is not there is an error, and nothing runs.
func TestNoProgram(t *testing.T) {
	p := ferry(t)
	_, err := Of(p).Start(t.Context(), p, kind.Command{Path: "/none/ferry"}, func() {})
	require.ErrorIs(t, err, os.ErrNotExist)
	assert.False(t, Seen(p).Alive())
}

// The command of a supervised part is that of the supervisor, which gets the part's lock and file of runs.
func TestSupervised(t *testing.T) {
	p := ferry(t)
	p.Way = kind.WaySupervised
	p.Self = filepath.Join(t.TempDir(), "dravit")
	require.NoError(t, os.WriteFile(p.Self, []byte("#!/bin/sh\necho \"$@\"\nexec sleep 60\n"), 0o700))
	require.NoError(t, os.WriteFile(p.RunsFile(), []byte("{}"), 0o600))
	h, err := Of(p).Start(t.Context(), p, kind.Command{Path: "/bin/board", Args: []string{"a b"}, Processes: 2,
		Every: time.Minute}, func() {})
	require.NoError(t, err)
	ended := h.Watch(t.Context(), func() {})
	said(t, p, "internal supervise --processes=2 --every=1m0s --record="+p.RunsFile()+" "+p.Lock+" -- /bin/board a b")
	assert.NoFileExists(t, p.RunsFile(), "what it says is of an earlier process")
	_, known := Runs(p)
	assert.True(t, known, "nothing has run yet")
	_, changed := h.Look()
	assert.True(t, changed, "its members are noted")
	assert.NotEmpty(t, h.Note().Members)
	require.NoError(t, h.Stop(t.Context(), Stop{Signal: syscall.SIGTERM, Patience: time.Second}))
	assert.Equal(t, End{Signal: syscall.SIGTERM}, <-ended)
}

func TestFilledBy(t *testing.T) {
	p := kind.Part{Lock: "/a/ferry.lock", Env: []string{"A=1"}}
	assert.Equal(t, []string{"A=1", members.Mark + "=/a/ferry.lock"}, FilledBy(p).Env)
	assert.Equal(t, []string{"A=1"}, p.Env)
}
