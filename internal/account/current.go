package account

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Current returns the account of this process, also one that /etc/passwd does not have (LDAP, sssd, systemd-homed). An
// account without a name, which some containers run programs as, gets its number as name and $HOME as home: see Name.
var Current = sync.OnceValue(func() *user.User {
	uid := strconv.Itoa(os.Geteuid())
	if u, err := LookupID(uid); err == nil {
		return u
	}
	return &user.User{Uid: uid, Gid: strconv.Itoa(os.Getegid()), Username: uid, HomeDir: os.Getenv("HOME")}
})

// Name returns the name of this process's account, as other programs of this machine find it. It fails for an account
// without a name.
func Name() (string, error) {
	u := Current()
	if u.Username == u.Uid {
		return "", fmt.Errorf("this account (user id %s) has no name on this machine, and a database server lets its "+
			"administrator in by the name", u.Uid)
	}
	return u.Username, nil
}

// Lookup returns the account with a name. It fails if there is none.
func Lookup(name string) (*user.User, error) {
	u, err := user.Lookup(name)
	if err == nil {
		return u, nil
	}
	if u := ask(name); u != nil && u.Username == name {
		return u, nil
	}
	return nil, err
}

// LookupID returns the account with a user id. It fails if there is none.
func LookupID(uid string) (*user.User, error) {
	u, err := user.LookupId(uid)
	if err == nil {
		return u, nil
	}
	if u := ask(uid); u != nil && u.Uid == uid {
		return u, nil
	}
	return nil, err
}

// ask asks the system's databases for an account (getent(1), nsswitch.conf(5)): this program is static, and reads
// /etc/passwd only. It returns nil if they do not have it.
func ask(key string) *user.User {
	const patience = 10 * time.Second // a directory may be far away
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	out, err := exec.CommandContext(ctx, "getent", "passwd", key).Output()
	if err != nil {
		return nil
	}
	return parse(string(out))
}

// parse reads a line of passwd(5). It returns nil if it is none.
func parse(line string) *user.User {
	f := strings.Split(strings.TrimSuffix(line, "\n"), ":")
	if len(f) != 7 || f[0] == "" {
		return nil
	}
	for _, number := range f[2:4] {
		if _, err := strconv.Atoi(number); err != nil {
			return nil
		}
	}
	name, _, _ := strings.Cut(f[4], ",")
	return &user.User{Username: f[0], Uid: f[2], Gid: f[3], Name: name, HomeDir: f[5]}
}
