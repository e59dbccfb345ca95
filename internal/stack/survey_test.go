package stack

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind/all"
	"dravit/internal/ledger"
	"dravit/internal/plan"
	"dravit/internal/stackfile"
)

// A start looks for programs of the kinds that its plan can be about, and for no others.
func TestLookForAStart(t *testing.T) {
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	bin := t.TempDir()
	t.Setenv("PATH", bin)
	for name, says := range map[string]string{"redis-server": "Redis server v=7.0.15 sha=0", "node": "v20.1.0",
		"memcached": "memcached 1.6.18"} {
		require.NoError(t, os.WriteFile(filepath.Join(bin, name), []byte("#!/bin/sh\necho '"+says+"'\n"), 0o755))
	}
	s := &Stack{Machine: &Machine{Home: h, Kinds: all.Kinds()}, ID: "tide", Dir: t.TempDir()}
	kinds := func() map[string]bool {
		found, err := s.lookFor(t.Context(), &stackfile.File{Parts: map[string]stackfile.PartConfig{
			"cache": {Kind: stackfile.Texts{"redis", "dravit-cache"}}}})
		require.NoError(t, err)
		out := map[string]bool{}
		for _, p := range found.Programs {
			out[p.Kind] = true
		}
		return out
	}
	assert.True(t, kinds()["redis"])
	assert.False(t, kinds()["memcached"])
	require.NoError(t, os.MkdirAll(filepath.Dir(s.goodFile()), 0o700))
	require.NoError(t, home.WriteJSON(s.goodFile(), plan.Good{Parts: map[string]plan.Chosen{
		"cache": {Kind: "memcached"}}}))
	assert.True(t, kinds()["memcached"], "the plan says what has changed since the last start")
	assert.False(t, kinds()["node"])
}

// Whose a port is, is asked of ports alone on which somebody listens: the answer may need a list of all processes.
func TestWhosePortsAre(t *testing.T) {
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	m := &Machine{Home: h, Kinds: all.Kinds()}
	lock := h.Stack("tide", "state", "db.lock")
	require.NoError(t, os.MkdirAll(filepath.Dir(lock), 0o700))
	held, err := home.TryLock(lock) // as the part that runs
	require.NoError(t, err)
	defer held.Close()
	book := &ledger.Ledger{Stacks: map[string]ledger.Stack{"tide": {Ports: map[string]int{"db": 15432, "app": 18000}}}}
	assert.Equal(t, map[int]string{15432: "tide"}, m.livePorts(book, map[int]bool{15432: true, 18000: true}))
	assert.Empty(t, m.livePorts(book, map[int]bool{18000: true}))
}
