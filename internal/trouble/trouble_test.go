package trouble

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/about"
)

func TestCodeOf(t *testing.T) {
	_, missing := os.Open(filepath.Join(t.TempDir(), "nothing"))
	for _, c := range []struct {
		name string
		err  error
		want Code
	}{
		{"nil", nil, ""},
		{"any error", errors.New("low tide"), ""},
		{"a file that is not there", missing, ""},
		{"a trouble", &Trouble{Code: PortTaken}, PortTaken},
		{"a trouble behind others", fmt.Errorf("starting: %w", &Trouble{Code: PortTaken}), PortTaken},
		{"the first of two", &Trouble{Code: NoPart, Err: &Trouble{Code: Damaged}}, NoPart},
		{"a full disk", &fs.PathError{Op: "write", Path: "/x", Err: syscall.ENOSPC}, NoSpace},
		{"a quota", fmt.Errorf("copying: %w", syscall.EDQUOT), QuotaUsedUp},
		{"a read-only disk", syscall.EROFS, ReadOnly},
		{"EACCES", syscall.EACCES, Forbidden},
		{"EPERM", &fs.PathError{Op: "open", Path: "/x", Err: syscall.EPERM}, Forbidden},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, CodeOf(c.err)) })
	}
}

// What errors.Is and errors.As say of a trouble, they say of it on the other side of a socket, too.
func TestIdentityAcrossJSON(t *testing.T) {
	across := func(err error) error {
		text, e := json.Marshal(Of(err))
		require.NoError(t, e)
		there := &Trouble{}
		require.NoError(t, json.Unmarshal(text, there))
		return fmt.Errorf("the keeper says: %w", there)
	}
	full := &fs.PathError{Op: "write", Path: "/x", Err: syscall.ENOSPC}
	for name, err := range map[string]error{"here": Of(full), "there": across(full)} {
		assert.ErrorIs(t, err, NoSpace, name)
		assert.ErrorIs(t, err, syscall.ENOSPC, name)
		assert.NotErrorIs(t, err, syscall.EDQUOT, name)
		assert.NotErrorIs(t, err, Forbidden, name)
		assert.ErrorContains(t, err, "write /x: no space left on device", name)
	}
	assert.ErrorIs(t, across(syscall.EACCES), fs.ErrPermission)
	assert.NotErrorIs(t, across(errors.New("low tide")), Code(""), "no code is not a code that all errors share")
	var there *Trouble
	require.ErrorAs(t,
		across(&Trouble{NoPart, about.Part("db"), "no such part", "there are two", "dravit status", nil}), &there)
	assert.Equal(t, &Trouble{NoPart, about.Part("db"), "no such part", "there are two", "dravit status", nil}, there)
}

func TestErr(t *testing.T) {
	err := &Trouble{Code: Damaged, What: "the ledger is damaged", Because: "low tide", Err: context.Canceled}
	assert.ErrorIs(t, err, context.Canceled)
	assert.EqualError(t, err, "the ledger is damaged: low tide")
	assert.EqualError(t, &Trouble{What: "the ledger is damaged"}, "the ledger is damaged")
	assert.Same(t, err, Of(fmt.Errorf("reading: %w", err)))
}

// Each code is explained to those who read the JSON objects.
func TestCodesAreDocumented(t *testing.T) {
	source, err := os.ReadFile("trouble.go")
	require.NoError(t, err)
	docs, err := os.ReadFile(filepath.Join("..", "..", "docs", "json.md"))
	require.NoError(t, err)
	codes := regexp.MustCompile(`Code = "([^"]+)"`).FindAllStringSubmatch(string(source), -1)
	require.NotEmpty(t, codes)
	for _, c := range codes {
		assert.Contains(t, string(docs), "| `"+c[1]+"` |")
	}
}

// Of many names the first ones are shown; one more than fits is shown, too, as "and 1 more" is no shorter.
func TestList(t *testing.T) {
	var names []string
	for i := range 20 {
		names = append(names, fmt.Sprint(i))
	}
	assert.Equal(t, "", List(nil))
	assert.Equal(t, "0, 1", List(names[:2]))
	assert.Equal(t, "0, 1, 2, 3, 4, 5, 6, 7, 8", List(names[:9]))
	assert.Equal(t, "0, 1, 2, 3, 4, 5, 6, 7, and 2 more", List(names[:10]))
	assert.Equal(t, "0, 1, 2, 3, 4, 5, 6, 7, and 12 more", List(names))
	assert.Equal(t, "8", names[8], "the names stay as they are")
}
