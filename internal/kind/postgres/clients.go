package postgres

import (
	"fmt"
	"path/filepath"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/shell"
)

// clientNames are the names of PostgreSQL's clients.
var clientNames = []string{
	"psql",
	"pg_dump",
	"pg_dumpall",
	"pg_restore",
	"pg_isready",
	"createdb",
	"dropdb",
	"vacuumdb",
	"reindexdb",
}

// clients returns a file with the application's password (postgresql.org, "The Password File") and small programs that
// run the clients. They connect to the part unless the environment or an option says otherwise.
func clients(p kind.Part) []kind.File {
	escape := strings.NewReplacer(`\`, `\\`, ":", `\:`)
	password := fmt.Sprintf("%s:%d:*:%s:%s\n", escape.Replace(p.HostName()), p.Port, escape.Replace(p.User),
		escape.Replace(p.Password))
	var body strings.Builder
	for _, v := range [][2]string{
		{"PGHOST", p.HostName()},
		{"PGPORT", fmt.Sprint(p.Port)},
		{"PGUSER", p.User},
		{"PGDATABASE", p.Database},
		{"PGPASSFILE", filepath.Join(p.Conf, "pgpass")},
	} {
		fmt.Fprintf(&body, "[ -n \"${%[1]s+set}\" ] || export %[1]s=%[2]s\n", v[0], shell.Quote(v[1]))
	}
	body.WriteString("exec PROGRAM \"$@\"")
	return append(
		command.Clients(p.Program, body.String(), clientNames...),
		kind.File{Name: "pgpass", Text: password, Mode: 0o600},
	)
}

// Folders puts the clients first on the PATH of the stack's commands.
func (postgres) Folders(p kind.Part) []string { return []string{filepath.Join(p.Conf, "bin")} }
