package mariadb

import (
	"fmt"
	"path/filepath"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/shell"
)

// clientNames are the names of MariaDB's clients, also of those that keep MySQL's names.
var clientNames = []string{
	"mariadb", "mariadb-dump", "mariadb-admin", "mariadb-check", "mariadb-import", "mariadb-show",
	"mysql", "mysqldump", "mysqladmin", "mysqlcheck", "mysqlimport", "mysqlshow",
}

// clients returns a configuration for clients, with the application's user, and small programs that run the clients
// with it unless a command names another one (mariadb.com, "Configuring MariaDB with Option Files": the option has to
// come first).
func clients(p kind.Part) []kind.File {
	escape := strings.NewReplacer(`\`, `\\`, `"`, `\"`)
	text := fmt.Sprintf(
		"[client]\nhost = %s\nport = %d\nprotocol = tcp\nuser = \"%s\"\npassword = \"%s\"\n\n"+
			"[mysql]\ndatabase = \"%s\"\n",
		p.HostName(),
		p.Port,
		escape.Replace(p.User),
		escape.Replace(p.Password),
		escape.Replace(p.Database),
	)
	config := filepath.Join(p.Conf, "client.cnf")
	body := "case \"$1\" in\n--defaults-*|--no-defaults|--print-defaults) exec PROGRAM \"$@\" ;;\nesac\n" +
		"exec PROGRAM --defaults-file=" + shell.Quote(config) + " \"$@\""
	return append(
		command.Clients(p.Program, body, clientNames...),
		kind.File{Name: "client.cnf", Text: text, Mode: 0o600},
	)
}

// Folders puts the clients first on the PATH of the stack's commands.
func (mariadb) Folders(p kind.Part) []string { return []string{filepath.Join(p.Conf, "bin")} }
