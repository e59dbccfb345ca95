package postgres

import (
	"strings"

	"dravit/internal/dump"
	"dravit/internal/pattern"
	"dravit/internal/sqltext"
)

var (
	owner     = pattern.New(`(?s)^ALTER\s[A-Za-z\s]+.*\sOWNER\s+TO\s+(.+?)\s*$`)
	extension = pattern.New(`(?i)^CREATE\s+EXTENSION\s+(?:IF\s+NOT\s+EXISTS\s+)?"?([\w-]+)"?`)
	parameter = pattern.New(`^SET (?:SESSION |LOCAL )?(\w+) ?(?:=|TO )`)
	public    = pattern.New(`(?i)^CREATE\s+SCHEMA\s+public\b`)
)

// takenOut are the beginnings of statements that a dump must not run: they reach beyond the part's own database.
var takenOut = dump.Beginnings{
	{"CREATE DATABASE ", "the creation of its database"}, {"ALTER DATABASE ", "settings of its database"},
	{"DROP DATABASE ", ""}, {"CREATE ROLE ", "roles (CREATE ROLE)"}, {"ALTER ROLE ", "roles (ALTER ROLE)"},
	{"DROP ROLE ", "roles (DROP ROLE)"}, {"CREATE USER ", "roles (CREATE USER)"}, {"ALTER USER ", "roles (ALTER USER)"},
	{"GRANT ", "rights (GRANT)"}, {"REVOKE ", "rights (REVOKE)"},
	{"ALTER DEFAULT PRIVILEGES ", "rights (ALTER DEFAULT PRIVILEGES)"}, {"SET SESSION AUTHORIZATION ", ""},
	{"SET ROLE ", ""}, {"COMMENT ON EXTENSION ", ""}, {"COMMENT ON SCHEMA PUBLIC ", ""},
	{"COMMENT ON DATABASE ", ""}, {"CREATE TABLESPACE ", "tablespaces"}, {"SET DEFAULT_TABLESPACE ", ""},
}

// server is what has to be known about a server before a dump is loaded.
type server struct {
	parameters map[string]bool          // its settings, or nil if they are unknown
	extension  func(name string) string // creates an extension, and returns why that is impossible, or ""
}

// forHere returns a statement of a dump as it is meant for the part's database, or nil to leave it out: whatever
// database and owners it names, and with the extensions and parameters that this server has. It is for the dumps of
// honest people; against others stand the rights of the account of loads.
func forHere(s sqltext.Statement, here server, left *dump.Left) []byte {
	head := s.Head()
	if m := owner().FindSubmatch(s.Text); m != nil {
		left.Note("the owner " + strings.Trim(string(m[1]), `"`) + ": all belongs to the application's user")
		return nil
	}
	if m := extension().FindSubmatch(s.Text); m != nil {
		if because := here.extension(string(m[1])); because != "" {
			left.Note("the extension " + string(m[1]) + ": " + because)
		}
		return nil
	}
	if m := parameter().FindStringSubmatch(head); m != nil && here.parameters != nil &&
		!here.parameters[strings.ToLower(m[1])] {
		return nil
	}
	if left.Takes(head, takenOut) {
		return nil
	}
	return public().ReplaceAll(s.Text, []byte("CREATE SCHEMA IF NOT EXISTS public"))
}
