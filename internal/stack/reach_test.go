package stack

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/home"
	"dravit/internal/kind/all"
	"dravit/internal/plan"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// folder is a stack of this stack file, with the id abc.
func folder(t *testing.T, file string) *Stack {
	t.Helper()
	h, err := home.Open(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(h.Run) })
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, stackfile.Name), []byte(file), 0o600))
	return &Stack{Machine: &Machine{Home: h, Kinds: all.Kinds()}, ID: "abc", Dir: dir}
}

const open = `name = "pier"
[part.seats]
kind = "redis"
settings = { bind = "0.0.0.0" }
[part.near]
kind = "redis"
settings = { bind = "127.0.0.1" }
[part.quay]
kind = "redis"
settings = { bind = "::" }
[[site]]
name = "quay"
listen = "network"
[[site]]
name = "crew"
`

// The user is asked once about what wants to be reachable; the answer is kept, and can be withdrawn.
func TestConsentIsKept(t *testing.T) {
	s := folder(t, open)
	unasked := func() []string {
		names, err := s.Unasked()
		require.NoError(t, err)
		return names
	}
	assert.Equal(t, []string{"quay", "part.quay", "part.seats"}, unasked())
	said, err := s.consent(plan.Consent{Network: []string{"quay"}, Loopback: []string{"part.seats"}})
	require.NoError(t, err)
	require.NoError(t, said.keep(s))
	assert.Equal(t, []string{"part.quay"}, unasked())
	said, err = s.consent(plan.Consent{Network: []string{"part.seats", "part.quay"}})
	require.NoError(t, err)
	given := said.with(plan.Consent{Network: []string{"lost"}, Upgrade: []string{"db"}}, plan.Consent{})
	assert.Equal(t, plan.Consent{Network: []string{"part.quay", "part.seats", "quay"}, Upgrade: []string{"db"}}, given)
	require.NoError(t, said.keep(s))
	said, err = s.consent(plan.Consent{Loopback: []string{"quay"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"quay"}, said.with(plan.Consent{}, plan.Consent{}).Loopback)
	assert.NoError(t, consent{}.keep(s), "nothing was said")
	require.NoError(t, os.WriteFile(s.consentFile(), []byte("{broken"), 0o600))
	require.NoError(t, os.RemoveAll(s.consentFile()+".last"))
	_, err = s.Unasked()
	assert.ErrorIs(t, err, trouble.Damaged)
}

// A name means the site, and the part if no site has it. A name that asks for nothing is an error.
func TestSubjectsOfConsent(t *testing.T) {
	s := folder(t, open)
	file, err := s.file()
	require.NoError(t, err)
	assert.Equal(t, []string{"quay", "part.seats", "crew"}, s.subjects(file, []string{"quay", "seats", "crew"}))
	assert.NoError(t, s.knows(file, plan.Consent{Network: []string{"quay"}, Loopback: []string{"part.seats"}}))
	for _, c := range []plan.Consent{{Network: []string{"crew"}}, {Loopback: []string{"near"}}} {
		err := s.knows(file, c)
		assert.ErrorIs(t, err, trouble.NoSite)
		assert.ErrorContains(t, err, "those that have it: quay, part.quay, part.seats")
	}
}

// A command uses one text of the stack file; the next command reads changes.
func TestStackFileIsReadOnce(t *testing.T) {
	s := folder(t, open)
	first, err := s.file()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, stackfile.Name), []byte("broken"), 0o600))
	again, err := s.file()
	require.NoError(t, err)
	assert.Same(t, first, again)
	s.read = nil
	_, err = s.file()
	var faults stackfile.Faults
	assert.ErrorAs(t, err, &faults)
}

func TestAddressesForOthers(t *testing.T) {
	for _, only := range []string{"", "0.0.0.0", "::"} {
		for _, u := range urls(8600, only) {
			assert.Contains(t, u, ":8600/")
			assert.NotContains(t, u, "127.0.0.1")
			assert.NotContains(t, u, "[::1]")
		}
	}
	assert.Empty(t, urls(8600, "203.0.113.9"), "no address of this machine")
}

// A missing folder, and a path that is a file, are different from a folder without a stack file.
func TestFindWithoutFolder(t *testing.T) {
	m := &Machine{Home: &home.Home{Dir: t.TempDir()}, Kinds: all.Kinds()}
	file := filepath.Join(t.TempDir(), "ferry")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := m.Find(file+"s", "")
	assert.EqualError(t, err, "there is no folder "+file+"s")
	assert.ErrorIs(t, err, trouble.BadFolder)
	_, err = m.Find(file, "")
	assert.EqualError(t, err, file+" is no folder")
	_, err = m.Find(t.TempDir(), "")
	assert.ErrorIs(t, err, stackfile.ErrNone)
}

// A stack that was never started has neither an environment nor logs.
func TestNeverStarted(t *testing.T) {
	s := folder(t, open)
	_, err := s.Environment("", nil)
	assert.ErrorIs(t, err, trouble.NeverStarted)
	_, err = s.Logs(nil)
	assert.ErrorIs(t, err, trouble.NeverStarted)
	assert.False(t, s.Runs())
	s.ID = ""
	assert.False(t, s.Runs())
}
