package launch

import (
	"os"
	"strings"
)

// switches are the settings of Linux by which a machine forbids ordinary users namespaces of their own, each with the
// value that forbids it and one that does not.
var switches = []struct{ file, forbids, setting string }{
	{"/proc/sys/kernel/unprivileged_userns_clone", "0", "kernel.unprivileged_userns_clone=1"},
	{"/proc/sys/kernel/apparmor_restrict_unprivileged_userns", "1", "kernel.apparmor_restrict_unprivileged_userns=0"},
	{"/proc/sys/user/max_user_namespaces", "0", "user.max_user_namespaces=10000"},
}

// Permit returns the command by which root allows namespaces on a machine that forbids them, or "" if it is not known
// what forbids them.
func Permit() string {
	for _, s := range switches {
		if text, err := os.ReadFile(s.file); err == nil && strings.TrimSpace(string(text)) == s.forbids {
			return "sudo sysctl " + s.setting
		}
	}
	return ""
}
