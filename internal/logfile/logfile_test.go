package logfile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func write(t *testing.T, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "db.log")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

func TestSince(t *testing.T) {
	file := write(t, "low water\nhigh water\n")
	for _, c := range []struct {
		name         string
		offset, most int64
		text         string
		end          int64
	}{
		{"the whole", 0, 100, "low water\nhigh water\n", 21},
		{"from an offset on", 10, 100, "high water\n", 21},
		{"nothing new", 21, 100, "", 21},
		{"the last part of it", 0, 6, "water\n", 21},
		{"the last part of what is new", 10, 3, "er\n", 21},
		{"put aside meanwhile", 500, 100, "low water\nhigh water\n", 21},
	} {
		t.Run(c.name, func(t *testing.T) {
			text, end := Since(file, c.offset, c.most)
			assert.Equal(t, c.text, text)
			assert.Equal(t, c.end, end)
		})
	}
	text, end := Since(filepath.Join(t.TempDir(), "nothing"), 7, 100)
	assert.Empty(t, text)
	assert.EqualValues(t, 7, end)
}

func TestTail(t *testing.T) {
	file := write(t, "one\ntwo\r\nthree\nand a hal")
	lines, end, err := Tail(file, 3)
	require.NoError(t, err)
	assert.Equal(t, []string{"two", "three", "and a hal"}, lines)
	assert.EqualValues(t, 24, end)
	lines, _, err = Tail(file, 0)
	require.NoError(t, err)
	assert.Empty(t, lines)
	lines, end, err = Tail(filepath.Join(t.TempDir(), "nothing"), 3)
	require.NoError(t, err)
	assert.Equal(t, []string{}, lines, "in JSON, a list")
	assert.Zero(t, end)
	_, _, err = Tail(t.TempDir()+"/\x00", 3)
	assert.Error(t, err)

	long := write(t, strings.Repeat("x", maxTail)+"\nlast\n")
	lines, _, err = Tail(long, 1)
	require.NoError(t, err)
	assert.Equal(t, []string{"last"}, lines)
}

func TestSize(t *testing.T) {
	assert.EqualValues(t, 3, Size(write(t, "abc")))
	assert.Zero(t, Size(filepath.Join(t.TempDir(), "nothing")))
}

func TestBetween(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.log")
	require.NoError(t, os.WriteFile(file, []byte("0123456789"), 0o600))
	for want, c := range map[string][3]int64{"234": {2, 5, 100}, "4": {2, 5, 1}, "89": {8, 10, 100}, "9": {9, 99, 100},
		"": {5, 5, 100}} {
		assert.Equal(t, want, Between(file, c[0], c[1], c[2]))
	}
	assert.Empty(t, Between(file, 11, 20, 100), "it was rotated")
	assert.Empty(t, Between(file, 6, 3, 100))
	assert.Empty(t, Between(file+"none", 0, 9, 100))
}
