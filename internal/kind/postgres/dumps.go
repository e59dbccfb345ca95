package postgres

import (
	"bytes"
	"io"
	"strings"

	"dravit/internal/dump"
	"dravit/internal/pattern"
)

var (
	owner     = pattern.New(`^ALTER [A-Z ]+.* OWNER TO (.+);\s*$`)
	extension = pattern.New(`^CREATE EXTENSION (?:IF NOT EXISTS )?"?([\w-]+)"?`)
	parameter = pattern.New(`^SET (?:SESSION |LOCAL )?(\w+) *(?:=|TO) `)
	quoting   = pattern.New(`\$\w*\$`) // of functions
)

// takenOut are the beginnings of statements that a dump must not run: they reach beyond the part's own database.
var takenOut = []struct{ begin, what string }{
	{"CREATE DATABASE ", "the creation of its database"}, {"ALTER DATABASE ", "settings of its database"},
	{"DROP DATABASE ", ""}, {"CREATE ROLE ", "roles (CREATE ROLE)"}, {"ALTER ROLE ", "roles (ALTER ROLE)"},
	{"DROP ROLE ", "roles (DROP ROLE)"}, {"GRANT ", "rights (GRANT)"}, {"REVOKE ", "rights (REVOKE)"},
	{"ALTER DEFAULT PRIVILEGES ", "rights (ALTER DEFAULT PRIVILEGES)"}, {"SET SESSION AUTHORIZATION ", ""},
	{"SET ROLE ", ""}, {"COMMENT ON EXTENSION ", ""}, {"COMMENT ON SCHEMA public ", ""},
	{"COMMENT ON DATABASE ", ""}, {`\connect `, ""}, {`\c `, ""}, {`\restrict`, ""}, {`\unrestrict`, ""},
	{"CREATE TABLESPACE ", "tablespaces"}, {"SET default_tablespace ", ""},
}

// server is what has to be known about a server before a dump is loaded.
type server struct {
	parameters map[string]bool          // its settings, or nil if they are unknown
	extension  func(name string) string // creates an extension, and returns why that is impossible, or ""
}

// forHere returns a dump as it is meant for the part's database: whatever database and owners it names, and with the
// extensions and parameters that this server has. It leaves rows (COPY) and bodies of functions alone.
func forHere(r io.Reader, s server, left *dump.Left) io.Reader {
	inside, rows, body, begins := false, false, false, true
	return dump.Edit(r, func(line []byte) []byte {
		switch {
		case rows:
			rows = !bytes.HasPrefix(line, []byte(`\.`))
			return line
		case body:
			body = len(quoting().FindAllIndex(line, -1))%2 == 0
			begins = !body && ends(line)
			return line
		case inside:
			inside = !ends(line)
			begins = !inside
			return dump.Blank(line)
		case bytes.HasPrefix(line, []byte("COPY ")) && bytes.Contains(line, []byte(" FROM stdin;")):
			rows = true
			return line
		}
		first := begins
		if text := bytes.TrimSpace(line); len(text) > 0 && !bytes.HasPrefix(text, []byte("--")) {
			begins = ends(line) || line[0] == '\\'
		}
		body = len(quoting().FindAllIndex(line, -1))%2 == 1
		if !first {
			return line
		}
		if m := owner().FindSubmatch(line); m != nil {
			left.Note("the owner " + strings.Trim(string(m[1]), `"`) + ": all belongs to the application's user")
			return dump.Blank(line)
		}
		if m := extension().FindSubmatch(line); m != nil {
			if because := s.extension(string(m[1])); because != "" {
				left.Note("the extension " + string(m[1]) + ": " + because)
			}
			return dump.Blank(line)
		}
		if m := parameter().FindSubmatch(line); m != nil && s.parameters != nil && !s.parameters[string(m[1])] {
			return dump.Blank(line)
		}
		for _, x := range takenOut {
			if bytes.HasPrefix(line, []byte(x.begin)) {
				if x.what != "" {
					left.Note(x.what)
				}
				inside = line[0] != '\\' && !ends(line)
				return dump.Blank(line)
			}
		}
		if rest, ok := bytes.CutPrefix(line, []byte("CREATE SCHEMA public")); ok {
			return append([]byte("CREATE SCHEMA IF NOT EXISTS public"), rest...)
		}
		return line
	})
}

// ends reports whether a statement ends with a line.
func ends(line []byte) bool {
	return bytes.HasSuffix(bytes.TrimRight(line, " \r\n"), []byte(";"))
}
