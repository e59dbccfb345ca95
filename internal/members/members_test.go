package members

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/proc"
)

// start runs a shell script as the leader of a part. The script writes "ready" once everything it starts is there.
func start(t *testing.T, path, script string) *exec.Cmd {
	t.Helper()
	lock, err := home.TryLock(path)
	require.NoError(t, err)
	cmd := exec.Command("/bin/sh", "-c", script)
	cmd.Env = append(os.Environ(), Mark+"="+path)
	cmd.ExtraFiles = []*os.File{lock}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	leader, err := proc.Identify(cmd.Process.Pid)
	require.NoError(t, err)
	require.NoError(t, NoteLeader(lock, leader))
	require.NoError(t, lock.Close())
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err, "the script says when it is ready")
	require.Equal(t, "ready\n", line)
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	return cmd
}

// Each way in which a process loses a mark, with the leader alive and after it was killed: it is found by another mark,
// and ended.
func TestMembersThatLoseMarks(t *testing.T) {
	for _, c := range []struct {
		name, script string
	}{
		{"child", `sh -c 'echo ready; sleep 60' & wait`},
		{"setsid", `setsid sh -c 'echo ready; sleep 60' & wait`},
		{"closed descriptors", `sh -c 'exec 3>&-; echo ready; sleep 60' & wait`},
		{"no environment", `env -i sh -c 'echo ready; sleep 60' & wait`},
		{"setsid and closed descriptors", `setsid sh -c 'exec 3>&-; echo ready; sleep 60' & wait`},
		{"setsid and no environment", `setsid env -i sh -c 'echo ready; sleep 60' & wait`},
		{"double fork", `(setsid sh -c 'exec 3>&-; echo ready; sleep 60' &) ; sleep 60`},
		{"no hangup, no SIGTERM", `nohup sh -c 'trap "" TERM; echo ready; sleep 60; sleep 60' & wait`},
	} {
		for _, killed := range []bool{false, true} {
			name := c.name
			if killed {
				name += ", leader killed"
			}
			t.Run(name, func(t *testing.T) {
				path := filepath.Join(t.TempDir(), "part.lock")
				cmd := start(t, path, c.script)
				before, err := Of(path)
				require.NoError(t, err)
				assert.GreaterOrEqual(t, len(before), 2)
				assert.True(
					t,
					slices.ContainsFunc(before, func(id proc.Identity) bool { return id.PID == cmd.Process.Pid }),
				)
				assert.True(t, Alive(path))
				if killed {
					require.NoError(t, cmd.Process.Kill())
					require.Eventually(
						t,
						func() bool { return !Leader(path).Alive() },
						5*time.Second,
						time.Millisecond,
					)
					assert.True(t, Alive(path), "the orphan lives")
				}
				ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
				defer cancel()
				require.NoError(t, End(ctx, path, nil, 100*time.Millisecond))
				for _, id := range before {
					assert.False(t, id.Alive(), "%+v", id)
				}
				assert.False(t, Alive(path))
			})
		}
	}
}

// One listing answers for parts whose lock files are gone, for those that run and for those that do not.
func TestOneListingForSeveralParts(t *testing.T) {
	dir := t.TempDir()
	alive, gone, never := filepath.Join(
		dir,
		"db.lock",
	), filepath.Join(
		dir,
		"web.lock",
	), filepath.Join(
		dir,
		"mail.lock",
	)
	start(t, alive, "echo ready; sleep 60")
	web := start(t, gone, "echo ready; exec sleep 60")
	require.NoError(t, os.Remove(alive))
	var l Listing
	assert.True(t, l.Alive(alive), "by its mark: the lock file was removed")
	assert.True(t, l.Alive(gone))
	assert.False(t, l.Alive(never))
	assert.True(t, AnyAlive([]string{never, alive}), "by its mark alone")
	assert.False(t, AnyAlive([]string{never}))
	assert.False(t, AnyAlive(nil))
	require.NoError(t, web.Process.Kill())
	_ = web.Wait()
	assert.True(t, l.Alive(gone), "a look stays what it was")
	assert.False(t, new(Listing).Alive(gone), "a new look sees what ended")
}

// What lost every mark is ended if it was seen before, and is found again by the whole identity, not the number.
func TestEndTakesKnownMembers(t *testing.T) {
	cmd := exec.Command("sleep", "60")
	require.NoError(t, cmd.Start())
	id, err := proc.Identify(cmd.Process.Pid)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "part.lock")
	other := id
	other.Start++
	require.NoError(t, End(t.Context(), path, []proc.Identity{other}, time.Second))
	assert.True(t, id.Alive(), "another process of the same number is not touched")
	go func() { _ = cmd.Wait() }()
	require.NoError(t, End(t.Context(), path, []proc.Identity{id}, time.Second))
	assert.False(t, id.Alive())
}

// A process that only asks whether the lock is held has the file open, too.
func TestAskingForALockIsNoMark(t *testing.T) {
	path := filepath.Join(t.TempDir(), "part.lock")
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, home.Share(f))
	ids, err := Of(path)
	require.NoError(t, err)
	assert.Empty(t, ids)
	assert.False(t, Alive(path))
	assert.False(t, Alive(path+" that is not there"))
	assert.Zero(t, Leader(path))
}

func TestAmong(t *testing.T) {
	const path = "/none/part.lock"
	self := os.Getpid()
	id := func(pid int) proc.Identity { return proc.Identity{PID: pid, Start: uint64(pid)} }
	plain := func(pid, parent int) proc.Process { return proc.Process{Identity: id(pid), Parent: parent} }
	marked := plain(10, 1)
	marked.Mark = path
	locked := plain(11, 1)
	locked.Locks = []string{path}
	otherPart := plain(12, 1)
	otherPart.Mark, otherPart.Locks = "/none/other.lock", []string{"/none/other.lock"}
	keeper := plain(14, 10)
	keeper.Locks = []string{"/elsewhere/" + home.KeeperLock}
	all := []proc.Process{
		marked,
		locked,
		otherPart,
		plain(13, 10),
		keeper,
		plain(15, 14),
		plain(self, 10),
		plain(20, self),
		plain(30, 1),
	}
	pids := func(leader proc.Identity, known ...proc.Identity) []int { return PIDs(among(all, path, leader, known)) }

	assert.Equal(
		t,
		[]int{10, 11, 13},
		pids(proc.Identity{}),
		"marks and what descends from them, without this process, a keeper that came from there, and what they started",
	)
	assert.Equal(
		t,
		[]int{10, 11, 13, 30},
		pids(id(30)),
		"the leader, and nothing of its session once the number is not its own",
	)
	assert.Equal(t, []int{10, 11, 12, 13}, pids(proc.Identity{}, id(12), proc.Identity{PID: 30, Start: 31}),
		"known ones by their whole identity")
	assert.Equal(t, []int{10, 11, 13, 20}, pids(id(self)), "a supervisor asks for what descends from itself")
}

func TestOwn(t *testing.T) {
	path := filepath.Join(t.TempDir(), "part.lock")
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer tcp.Close()
	start(t, path, "echo ready; sleep 60")
	owns, err := Own(path, "tcp", tcp.Addr().String())
	require.NoError(t, err)
	assert.False(t, owns, "the socket is this process's")

	script := `python3 -c '
import socket, subprocess, sys
s = socket.socket(socket.AF_UNIX); s.bind(sys.argv[1]); s.listen()
print("ready", flush=True); sys.stdin.read()' "` + path + `.sock" < /dev/zero`
	start(t, path+"2.lock", "env -i /usr/bin/"+script)
	owns, err = Own(path+"2.lock", "unix", path+".sock")
	require.NoError(t, err)
	assert.True(t, owns)
	assert.True(t, Include(path+"2.lock", Leader(path+"2.lock").PID))
	assert.False(t, Include(path+"2.lock", os.Getpid()))
}

// The process that started a supervisor holds its lock for a moment: it is spared, and everything else is ended.
func TestEndSparesTheStarter(t *testing.T) {
	path := filepath.Join(t.TempDir(), "task.lock")
	start(t, path, "echo ready; sleep 60")
	starter := exec.Command("/bin/sleep", "60")
	starter.Env = []string{Mark + "=" + path}
	require.NoError(t, starter.Start())
	t.Cleanup(func() { _ = starter.Process.Kill(); _ = starter.Wait() })
	id, err := proc.Identify(starter.Process.Pid)
	require.NoError(t, err)
	require.NoError(t, End(t.Context(), path, nil, 100*time.Millisecond, id))
	assert.True(t, id.Alive())
	assert.False(t, Leader(path).Alive())
}

// Where the system tells only which lock files a process has open (macOS), what holds a part is ended all the same:
// also its children, which have closed the file, one that does not obey, and one that comes while the others end.
func TestEndOnAFakeMachine(t *testing.T) {
	const lock = "/no/such/place/db.lock"
	at := func(pid, parent int, locks ...string) proc.Process {
		return proc.Process{
			Identity: proc.Identity{Boot: "b", PID: pid, Start: uint64(pid)},
			Parent:   parent,
			Locks:    locks,
		}
	}
	running := []proc.Process{
		at(101, 1, lock), at(102, 101), at(103, 1, "/no/such/place/web.lock"), at(104, 1, lock), at(105, 1, lock),
	}
	var log []string
	machine := table{
		list: func(string) ([]proc.Process, error) { return slices.Clone(running), nil },
		signal: func(id proc.Identity, sig syscall.Signal) error {
			log = append(log, fmt.Sprint(id.PID, sig))
			if id.PID == 104 && sig == syscall.SIGTERM {
				return nil // it does not obey
			}
			running = slices.DeleteFunc(running, func(p proc.Process) bool { return p.Identity == id })
			if id.PID == 101 {
				running = append(running, at(106, 1, lock))
			}
			return nil
		},
	}
	spared := at(105, 1).Identity
	require.NoError(t, machine.end(t.Context(), lock, nil, 50*time.Millisecond, []proc.Identity{spared}))
	assert.ElementsMatch(t, []string{
		"101 terminated", "102 terminated", "104 terminated", "106 terminated", "104 killed",
	}, log)
	assert.Len(t, running, 2)
}

// What a killed process had started can be missing from one listing: nothing is left only after a second look.
func TestEndLooksTwice(t *testing.T) {
	path := filepath.Join(t.TempDir(), "part.lock")
	first := proc.Process{Identity: proc.Identity{PID: 101, Start: 1}, Parent: 1, Mark: path}
	stray := proc.Process{Identity: proc.Identity{PID: 102, Start: 2}, Parent: 1, Mark: path}
	listings := [][]proc.Process{{first}, {}, {stray}, {}, {}}
	var killed []int
	machine := table{
		list: func(string) ([]proc.Process, error) {
			now := listings[0]
			listings = listings[1:]
			return now, nil
		},
		signal: func(id proc.Identity, _ syscall.Signal) error {
			killed = append(killed, id.PID)
			return nil
		},
	}
	require.NoError(t, machine.end(t.Context(), path, nil, time.Minute, nil))
	assert.Equal(t, []int{101, 102}, killed)
	assert.Empty(t, listings)
	listings = [][]proc.Process{{}}
	require.NoError(t, machine.end(t.Context(), path, nil, time.Minute, nil), "of nothing one look is enough")
}
