package mariadb

import (
	"bytes"
	"io"
	"regexp"
	"strings"

	"dravit/internal/dump"
	"dravit/internal/pattern"
)

var (
	definer = pattern.New("DEFINER ?= ?(?:`[^`]*`|'[^']*'|\\w+)@(?:`[^`]*`|'[^']*'|[\\w.%-]+) ?")
	newer   = pattern.New(`utf8mb4_\w*0900_\w+`) // of MySQL 8
	named   = pattern.New("(?i)^(?:/\\*!\\d+ )?(?:CREATE DATABASE|DROP DATABASE|USE)\\b" +
		"(?: IF (?:NOT )?EXISTS| /\\*!\\d+ IF NOT EXISTS\\*/)? *`?([^`\\s;]+)")
)

// takenOut are the beginnings of statements that a dump must not run: they reach beyond the part's own database.
var takenOut = []struct{ begin, what string }{
	{"SET @@GLOBAL.", "settings of the whole server"}, {"SET @@SESSION.SQL_LOG_BIN", ""},
	{"SET @MYSQLDUMP_TEMP_LOG_BIN", ""}, {"GRANT ", "rights (GRANT)"}, {"REVOKE ", "rights (REVOKE)"},
	{"CREATE USER ", "accounts (CREATE USER)"}, {"ALTER USER ", "accounts (ALTER USER)"},
	{"DROP USER ", "accounts (DROP USER)"}, {"CREATE ROLE ", "roles (CREATE ROLE)"},
	{"FLUSH PRIVILEGES", ""}, {"CHANGE MASTER ", "replication"},
	{`/*!999999\- enable the sandbox`, ""}, {`/*M!999999\- enable the sandbox`, ""},
}

// forHere returns a dump as it is meant for the part's database: whatever database it names, as whoever wrote it, and
// with collations that this server has.
func forHere(r io.Reader, left *dump.Left) io.Reader {
	inside, begins := false, true // a statement that is taken out goes on; a statement begins
	return dump.Edit(r, func(line []byte) []byte {
		if inside {
			inside = !ends(line)
			begins = !inside
			return dump.Blank(line)
		}
		first := begins
		if text := bytes.TrimSpace(line); len(text) > 0 && !bytes.HasPrefix(text, []byte("--")) {
			begins = ends(line)
		}
		if !defines(line) && !first {
			return line // a row, or a line of a body
		}
		if m := named().FindSubmatch(line); m != nil && first {
			left.Note("the name of its database, " + string(m[1]))
			inside = !ends(line)
			return dump.Blank(line)
		}
		for _, x := range takenOut {
			if first && bytes.HasPrefix(line, []byte(x.begin)) {
				if x.what != "" {
					left.Note(x.what)
				}
				inside = !ends(line) && !strings.HasPrefix(x.begin, "/*")
				begins = !inside
				return dump.Blank(line)
			}
		}
		if !defines(line) {
			return line
		}
		line = without(line, definer(), "", "definers: what it creates belongs to the application's user", left)
		return without(line, newer(), "utf8mb4_unicode_ci", "collations of MySQL 8: utf8mb4_unicode_ci is used", left)
	})
}

// defines reports whether a line may define something: a table, a column, a view, a routine. Rows do not.
func defines(line []byte) bool {
	for _, begin := range []string{"CREATE ", "ALTER ", "/*!", ") ", "  `"} {
		if bytes.HasPrefix(line, []byte(begin)) {
			return true
		}
	}
	return false
}

// ends reports whether a statement ends with a line.
func ends(line []byte) bool {
	return bytes.HasSuffix(bytes.TrimRight(line, " \r\n"), []byte(";"))
}

// without replaces what matches in a line that defines something, and notes that.
func without(line []byte, re *regexp.Regexp, by, note string, left *dump.Left) []byte {
	if !re.Match(line) {
		return line
	}
	left.Note(note)
	return re.ReplaceAll(line, []byte(by))
}
