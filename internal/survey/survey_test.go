package survey

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/kind/all"
)

// boat is a kind whose programs are called boat and tell their version when asked.
type boat struct {
	kind.Server
	asked *atomic.Int64
}

func (boat) Name() string       { return "boat" }
func (boat) Programs() []string { return []string{"boat", "boat[0-9]*"} }
func (b boat) Probe(_ context.Context, path string, run func(string, ...string) (string, error)) (string, map[string]string, error) {
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
	s, err := Look(t.Context(), kind.List{b}, cache)
	require.NoError(t, err)
	assert.Equal(t, runtime.GOOS, s.Host.OS)
	return s.Programs
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
	assert.Equal(t, kind.Program{Kind: "boat", Version: "1.2", Path: filepath.Join(one, "boat"), Origin: "path", Facts: map[string]string{"hull": "oak"}}, got[0])
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
	_, err := run(ctx, "/bin/sh", "-c", "trap '' TERM INT; sleep 60 & sleep 60")
	assert.Error(t, err)
	assert.Less(t, time.Since(began), 3*time.Second)
	out, err := run(t.Context(), "/bin/sh", "-c", "yes | head -c 3000000")
	require.NoError(t, err)
	assert.Len(t, out, probeBytes)
}

// What this machine really has: the servers that the suite needs must be found.
func TestRealPrograms(t *testing.T) {
	s, err := Look(t.Context(), all.Kinds(), filepath.Join(t.TempDir(), "survey.json"))
	require.NoError(t, err)
	for _, want := range []string{"mariadb", "nginx", "php", "redis"} {
		i := slices.IndexFunc(s.Programs, func(p kind.Program) bool { return p.Kind == want })
		require.GreaterOrEqual(t, i, 0, "%s is not found; ./verify installs it", want)
		assert.Regexp(t, `^\d+\.\d+`, s.Programs[i].Version)
		assert.Equal(t, "system", s.Programs[i].Origin)
		if want == "php" {
			assert.Contains(t, s.Programs[i].Facts["available"], "mysqli")
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
	find := func(ours map[int]string, named map[int]bool) Port {
		all, err := Ports(ours, named)
		require.NoError(t, err)
		i := slices.IndexFunc(all, func(p Port) bool { return p.Port == port })
		require.GreaterOrEqual(t, i, 0)
		return all[i]
	}
	assert.Equal(t, os.Getpid(), find(nil, map[int]bool{port: true}).PID)
	assert.Zero(t, find(nil, nil).PID, "who holds a port is looked up on request")
	assert.Equal(t, "abc", find(map[int]string{port: "abc"}, map[int]bool{port: true}).Stack)
}
