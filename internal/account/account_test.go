package account

import (
	"errors"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	got := parse("keel:*:61234:61234:Keel Harbour,,,:/home/keel:/bin/zsh\n")
	assert.Equal(t, &user.User{Username: "keel", Uid: "61234", Gid: "61234", Name: "Keel Harbour",
		HomeDir: "/home/keel"}, got)
	for _, line := range []string{"", "keel", "keel:x:a:1::/:/bin/sh", "keel:x:1:::/:/bin/sh", ":x:1:1::/:/bin/sh",
		"keel:x:1:1::/:/bin/sh\nanna:x:2:2::/:/bin/sh"} {
		assert.Nil(t, parse(line), line)
	}
}

// An account that /etc/passwd does not have is asked for: a directory knows it.
func TestLookupAsksTheSystem(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "getent"), []byte(`#!/bin/sh
case "$2" in
61234|keel-of-a-directory) echo 'keel-of-a-directory:*:61234:61235::/home/keel:/bin/sh';;
61299) echo 'somebody:*:1:1::/:/bin/sh';;
*) exit 2
esac
`), 0o755))
	t.Setenv("PATH", dir)
	for _, look := range []func() (*user.User, error){
		func() (*user.User, error) { return LookupID("61234") },
		func() (*user.User, error) { return Lookup("keel-of-a-directory") },
	} {
		u, err := look()
		require.NoError(t, err)
		assert.Equal(t, "61235", u.Gid)
		assert.Equal(t, "/home/keel", u.HomeDir)
	}
	_, err := LookupID("61299")
	assert.Error(t, err, "an answer about somebody else is none")
	_, err = LookupID("61300")
	assert.ErrorAs(t, err, new(user.UnknownUserIdError))
	assert.Equal(t, "keel-of-a-directory", NameOf(61234))
	assert.Equal(t, "61300", NameOf(61300))
	t.Setenv("PATH", "/no/such/folder")
	_, err = LookupID("61234")
	assert.Error(t, err, "a system without getent")
}

func TestCurrent(t *testing.T) {
	u := Current()
	assert.Equal(t, strconv.Itoa(os.Geteuid()), u.Uid)
	name, err := Name()
	require.NoError(t, err)
	assert.Equal(t, u.Username, name)
}

func TestPickGroups(t *testing.T) {
	ids := []string{"1000", "0", "27", "nonsense", "27", "44", "46"}
	assert.Equal(t, []int{1000, 27, 44, 46}, pickGroups(ids, 1000, 16))
	assert.Equal(t, []int{1000, 27}, pickGroups(ids, 1000, 2), "macOS takes a few only")
	assert.Equal(t, []int{7, 1000, 27}, pickGroups(ids[:3], 7, 16), "never root's")
}

func TestMakeCommandOfEachSystem(t *testing.T) {
	has := func(programs ...string) func(string) (string, error) {
		return func(program string) (string, error) {
			for _, p := range programs {
				if p == program {
					return "/usr/sbin/" + p, nil
				}
			}
			return "", errors.New("not found")
		}
	}
	assert.Equal(t, "useradd", makeCommand(has("useradd", "adduser"))[0], "Debian, whose adduser is another program")
	assert.Equal(t, []string{"adduser", "-D", "-s", "/bin/sh", Own}, makeCommand(has("adduser")), "Alpine")
	assert.Equal(t, "/usr/sbin/useradd", makeCommand(has("/usr/sbin/useradd"))[0], "a PATH without sbin")
	assert.Nil(t, makeCommand(has()), "macOS")
}
