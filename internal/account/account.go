// Package account tells whose account this process runs under, and finds the ordinary one that Dravit becomes when root
// runs it: Dravit and its parts are never root.
package account

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Own is the account that Dravit creates, after consent, if no other account is suitable.
const Own = "dravit"

// MakeCommand returns the command that creates the account Own, or nil if this system has none that Dravit knows.
func MakeCommand() []string { return makeCommand(exec.LookPath) }

func makeCommand(find func(program string) (string, error)) []string {
	for _, command := range [][]string{
		{"useradd", "--create-home", "--shell", "/bin/sh", Own},
		{"adduser", "-D", "-s", "/bin/sh", Own}, // BusyBox
	} {
		for _, program := range []string{command[0], "/usr/sbin/" + command[0]} { // PATH may have no sbin
			if _, err := find(program); err == nil {
				return append([]string{program}, command[1:]...)
			}
		}
	}
	return nil
}

// ErrNone says that no ordinary account is suitable.
var ErrNone = errors.New("no ordinary account is suitable")

// For returns the account to switch to: the named one, else the one behind sudo, else the owner of the folder dir, else
// the one that Dravit created before.
func For(name, dir string) (*user.User, error) {
	if name != "" {
		u, err := Lookup(name)
		if err == nil && u.Uid == "0" {
			err = fmt.Errorf("%s is root", name)
		}
		return u, err
	}
	if uid := os.Getenv("SUDO_UID"); uid != "" && uid != "0" {
		return LookupID(uid)
	}
	if info, err := os.Stat(dir); err == nil {
		if stat, ok := info.Sys().(*syscall.Stat_t); ok && stat.Uid != 0 {
			if u, err := LookupID(fmt.Sprint(stat.Uid)); err == nil {
				return u, nil
			}
		}
	}
	if u, err := Lookup(Own); err == nil {
		return u, nil
	}
	return nil, ErrNone
}

// NameOf returns the name of the account with that user id, or the number if no account has it.
func NameOf(uid int) string {
	if u, err := LookupID(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return strconv.Itoa(uid)
}

// Make creates the account. The caller has asked for consent.
func Make() (*user.User, error) {
	command := MakeCommand()
	if command == nil {
		return nil, ErrNone
	}
	out, err := exec.Command(command[0], command[1:]...).CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %s", strings.Join(command, " "), err, strings.TrimSpace(string(out)))
	}
	return Lookup(Own)
}

// Become runs this same command again as the account, in this process. It returns only if that fails.
func Become(u *user.User) error {
	uid, err := strconv.Atoi(u.Uid)
	if err != nil || uid == 0 {
		return fmt.Errorf("%s is no ordinary account", u.Username)
	}
	gid, err := strconv.Atoi(u.Gid)
	if err != nil {
		return err
	}
	env := environment(u)
	program, release, err := program()
	if err != nil {
		return err
	}
	defer release()
	if err := syscall.Setgroups(groups(u, gid)); err != nil {
		return fmt.Errorf("dropping root's groups: %w", err)
	}
	if err := syscall.Setgid(gid); err != nil {
		return err
	}
	if err := syscall.Setuid(uid); err != nil {
		return err
	}
	if err := reachable(); err != nil {
		return err
	}
	// A folder that only root may enter cannot be the account's current folder.
	if dir, err := os.Getwd(); err != nil || syscall.Access(dir, 1) != nil {
		if err := os.Chdir(u.HomeDir); err != nil {
			return err
		}
	}
	if err := syscall.Exec(program, os.Args, env); err != nil {
		return fmt.Errorf("the account %s cannot run %s: %w", u.Username, os.Args[0], err)
	}
	return nil
}

// patience is how long id(1) may take to ask a directory. Then only the groups of /etc/group count.
const patience = 10 * time.Second

// groups returns the account's groups for setgroups(2), its own first and never root's, as many as the system takes.
func groups(u *user.User, gid int) []int {
	ids, err := u.GroupIds() // those of /etc/group; id(1) knows those of other databases, too
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	if out, askErr := exec.CommandContext(ctx, "id", "-G", u.Username).Output(); askErr == nil {
		ids, err = strings.Fields(string(out)), nil
	}
	if err != nil {
		return []int{gid}
	}
	return pickGroups(ids, gid, maxGroups)
}

func pickGroups(ids []string, gid, limit int) []int {
	all := []int{gid}
	for _, id := range ids {
		if n, err := strconv.Atoi(id); err == nil && n != 0 && !slices.Contains(all, n) && len(all) < limit {
			all = append(all, n)
		}
	}
	return all
}

// environment returns the account's environment, without what belongs to root's session.
func environment(u *user.User) []string {
	env := []string{"HOME=" + u.HomeDir, "USER=" + u.Username, "LOGNAME=" + u.Username}
	for _, v := range os.Environ() {
		name, _, _ := strings.Cut(v, "=")
		switch name {
		case "PATH", "TERM", "COLORTERM", "NO_COLOR", "LANG", "LC_ALL", "TZ", "DRAVIT_HOME", "COLUMNS", "LINES":
			env = append(env, v)
		}
	}
	return env
}
