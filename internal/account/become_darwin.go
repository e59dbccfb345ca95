package account

import "os"

// maxGroups is how many groups setgroups(2) takes (NGROUPS_MAX); a process has the others through the system's
// directory.
const maxGroups = 16

func program() (string, func(), error) {
	path, err := os.Executable()
	return path, func() {}, err
}

func reachable() error { return nil }
