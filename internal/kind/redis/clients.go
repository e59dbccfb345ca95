package redis

import (
	"fmt"
	"path/filepath"

	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/shell"
)

// clients returns a small program that runs redis-cli, which connects to the part unless an option says otherwise. The
// password is in a file, not on a command line, where every user would see it.
func clients(p kind.Part) []kind.File {
	file := filepath.Join(p.Conf, "client-password")
	body := fmt.Sprintf(
		"[ -n \"${REDISCLI_AUTH+set}\" ] || export REDISCLI_AUTH=\"$(cat %s)\"\nexec PROGRAM -h %s -p %d \"$@\"",
		shell.Quote(file),
		shell.Quote(p.HostName()),
		p.Port,
	)
	files := command.Clients(p.Program, body, "redis-cli")
	return append(files, kind.File{Name: "client-password", Text: p.Password + "\n", Mode: 0o600})
}

// Folders puts the client first on the PATH of the stack's commands.
func (redis) Folders(p kind.Part) []string { return []string{filepath.Join(p.Conf, "bin")} }
