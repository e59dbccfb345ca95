package logfile

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A line has the time at which its log first had it; one that was written since the last note has none yet.
func TestTimesOfLines(t *testing.T) {
	file := write(t, "")
	at := func(minute int) time.Time { return time.Date(2026, 12, 1, 8, minute, 0, 0, time.Local) }
	add := func(text string) {
		f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		_, err = f.WriteString(text)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	var c Clock
	add("one\ntwo\n")
	require.NoError(t, c.Note(file, at(1)))
	require.NoError(t, c.Note(file, at(2)), "nothing new")
	add("three\n")
	require.NoError(t, c.Note(file, at(3)))
	require.NoError(t, new(Clock).Note(file, at(4)), "another keeper, which finds nothing new")
	add("four\n")
	lines, _, err := TailAt(file, 10)
	require.NoError(t, err)
	assert.Equal(t, []Line{{"one", at(1)}, {"two", at(1)}, {"three", at(3)}, {"four", time.Time{}}}, lines)
	lines, _, err = TailAt(file, 2)
	require.NoError(t, err)
	assert.Equal(t, []Line{{"three", at(3)}, {"four", time.Time{}}}, lines)

	require.NoError(t, os.Truncate(file, 0))
	add("five\n")
	require.NoError(t, c.Note(file, at(5)))
	lines, _, err = TailAt(file, 10)
	require.NoError(t, err)
	assert.Equal(t, []Line{{"five", at(5)}}, lines, "a log that was emptied begins anew")
}
