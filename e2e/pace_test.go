package e2e

import (
	"bytes"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What packages do before main runs is paid for at every command. These counts do not depend on the machine: if one of
// them has to grow, docs/performance.md says why.
func TestWhatEachCommandPaysFor(t *testing.T) {
	w := newWorld(t)
	cmd := w.command(t.Context(), "version")
	cmd.Env = append(cmd.Env, "GODEBUG=inittrace=1")
	var trace bytes.Buffer
	cmd.Stderr = &trace
	require.NoError(t, cmd.Run())
	var packages, kilobytes, allocations int
	for line := range strings.Lines(trace.String()) {
		// init PACKAGE @0.1 ms, 0.2 ms clock, 300 bytes, 4 allocs (pkg.go.dev/runtime, "Environment Variables")
		words := strings.Fields(line)
		if len(words) < 10 || words[0] != "init" {
			continue
		}
		bytesOf, err := strconv.Atoi(words[7])
		require.NoError(t, err, line)
		allocs, err := strconv.Atoi(words[9])
		require.NoError(t, err, line)
		packages, kilobytes, allocations = packages+1, kilobytes+bytesOf, allocations+allocs
	}
	kilobytes /= 1000
	t.Log(packages, "packages,", kilobytes, "kB in", allocations, "allocations")
	assert.Greater(t, packages, 100, "the trace was read")
	assert.Less(t, packages, 230)
	assert.Less(t, kilobytes, 370)
	assert.Less(t, allocations, 2800)
}
