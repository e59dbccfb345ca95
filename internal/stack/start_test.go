package stack

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind/all"
	"dravit/internal/lifecycle"
	"dravit/internal/plan"
	"dravit/internal/trouble"
)

// A start uses another port if one was lost, even to a process that is gone by now. Other failures would happen again.
func TestRobbed(t *testing.T) {
	s := &Stack{Machine: &Machine{Home: &home.Home{Dir: t.TempDir()}, Kinds: all.Kinds()}, ID: "harbour"}
	log := s.Home.Stack(s.ID, "logs", "app.log")
	require.NoError(t, os.MkdirAll(filepath.Dir(log), 0o700))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	held := l.Addr().(*net.TCPAddr).Port
	const free = 1 // only root could listen there
	for name, c := range map[string]struct {
		port   int
		status lifecycle.Status
		says   string
		want   bool
	}{
		"the keeper saw a other": {free,
			lifecycle.Status{State: lifecycle.Failed, Code: trouble.PortTaken}, "", true},
		"it says that it was failedForPort": {free, lifecycle.Status{State: lifecycle.Failed},
			"Error: listen EADDRINUSE: address already in use 127.0.0.1:1\n", true},
		"it said so in another life": {free, lifecycle.Status{State: lifecycle.Failed, LogFrom: 150},
			"Error: listen EADDRINUSE: address already in use 127.0.0.1:1\n", false},
		"somebody listens there": {held, lifecycle.Status{State: lifecycle.Failed}, "", true},
		"it failed by itself": {free, lifecycle.Status{State: lifecycle.Failed, Code: trouble.Exited},
			"TypeError: low tide\n", false},
		"it did not fail": {held, lifecycle.Status{State: lifecycle.Unwell, Code: trouble.PortTaken}, "", false},
		"it has no port":  {0, lifecycle.Status{State: lifecycle.Failed, Code: trouble.PortTaken}, "", false},
	} {
		t.Run(name, func(t *testing.T) {
			require.NoError(t, os.WriteFile(log, fmt.Appendf(nil, "%-200s", c.says), 0o600))
			c.status.Name = "app"
			out := Started{Parts: []lifecycle.Status{c.status}}
			out.Plan.Parts = []plan.PartPlan{{Name: "app", Kind: "node", Port: c.port}}
			assert.Equal(t, c.want, s.failedForPort(out))
		})
	}
}
