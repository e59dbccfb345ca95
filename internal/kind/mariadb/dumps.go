package mariadb

import (
	"regexp"
	"strings"

	"dravit/internal/dump"
	"dravit/internal/pattern"
	"dravit/internal/sqltext"
)

// syntax is how MariaDB and its dumps write SQL.
var syntax = sqltext.Syntax{Backslash: true, Hash: true, Versioned: true, Delimiter: true,
	Longest: dump.LongestStatement}

var (
	definer = pattern.New("(?i)DEFINER ?= ?(?:`[^`]*`|'[^']*'|\\w+)@(?:`[^`]*`|'[^']*'|[\\w.%-]+) ?")
	newer   = pattern.New(`utf8mb4_\w*0900_\w+`) // of MySQL 8
	named   = pattern.New("(?i)^(?:CREATE DATABASE|DROP DATABASE|CREATE SCHEMA|DROP SCHEMA|ALTER DATABASE|USE)\\b" +
		"(?: IF (?:NOT )?EXISTS)? *`?([^`\\s;]+)")
)

// takenOut are the beginnings of statements that a dump must not run: they reach beyond the part's own database.
var takenOut = dump.Beginnings{
	{"SET @@GLOBAL.", "settings of the whole server"}, {"SET GLOBAL ", "settings of the whole server"},
	{"SET @@SESSION.SQL_LOG_BIN", ""}, {"SET @MYSQLDUMP_TEMP_LOG_BIN", ""}, {"GRANT ", "rights (GRANT)"},
	{"REVOKE ", "rights (REVOKE)"}, {"CREATE USER ", "accounts (CREATE USER)"},
	{"ALTER USER ", "accounts (ALTER USER)"}, {"DROP USER ", "accounts (DROP USER)"},
	{"CREATE ROLE ", "roles (CREATE ROLE)"}, {"FLUSH PRIVILEGES", ""}, {"CHANGE MASTER ", "replication"},
}

// forHere returns a statement of a dump as it is meant for the part's database, or nil to leave it out: whatever
// database it names, as whoever wrote it, and with collations that this server has. It is for the dumps of honest
// people; against others stand the rights of the account of loads.
func forHere(s sqltext.Statement, left *dump.Left) []byte {
	head := s.Head()
	if m := named().FindStringSubmatch(head); m != nil {
		if m := named().FindStringSubmatch(spelled(s)); m != nil {
			left.Note("the name of its database, " + m[1])
		}
		return nil
	}
	if left.Takes(head, takenOut) {
		return nil
	}
	if !strings.HasPrefix(head, "CREATE ") && !strings.HasPrefix(head, "ALTER ") {
		return s.Text
	}
	text := s.Text
	// A definer stands before the body, in which such words are text.
	if at := definer().FindIndex(text); at != nil && at[0] < definerWithin {
		left.Note("definers: what it creates belongs to the application's user")
		text = append(append([]byte{}, text[:at[0]]...), text[at[1]:]...)
	}
	return without(text, newer(), "utf8mb4_unicode_ci", "collations of MySQL 8: utf8mb4_unicode_ci is used", left)
}

// definerWithin is how many bytes may stand before a definer.
const definerWithin = 200

// spelled returns the beginning of a statement as Head does, with its own letters.
func spelled(s sqltext.Statement) string {
	text := strings.NewReplacer("*/", " ").Replace(string(s.Text[:min(len(s.Text), definerWithin)]))
	text = pattern.Of(`/\*M?!\d*`).ReplaceAllString(text, " ")
	return strings.Join(strings.Fields(text), " ")
}

// without replaces what matches in a statement that defines something, and notes that.
func without(text []byte, re *regexp.Regexp, by, note string, left *dump.Left) []byte {
	if !re.Match(text) {
		return text
	}
	left.Note(note)
	return re.ReplaceAll(text, []byte(by))
}
