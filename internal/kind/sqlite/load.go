package sqlite

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// Load runs the statements of a dump one after the other. The error names the line at which a statement begins.
func (sqlite) Load(ctx context.Context, p kind.Part, dump io.Reader) (left []string, err error) {
	return nil, with(ctx, p, func(conn *sql.Conn) error {
		in := &statements{in: bufio.NewReader(dump), line: 1}
		for {
			text, line, err := in.next()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return fmt.Errorf("the dump breaks off: %w", err)
			}
			if _, err := conn.ExecContext(ctx, text); err != nil {
				return fmt.Errorf("line %d: %w", line, err)
			}
		}
	})
}

// Create creates an empty database, unless there is one.
func (k sqlite) Create(ctx context.Context, p kind.Part) error {
	if _, err := os.Stat(path(p)); err == nil {
		return nil
	}
	return k.Fill(ctx, p, filepath.Dir(path(p)))
}

// Drop deletes the database's files.
func (sqlite) Drop(_ context.Context, p kind.Part) error {
	for _, end := range []string{"", "-wal", "-shm"} {
		if err := os.Remove(path(p) + end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Names returns the names of the files.
func (sqlite) Names(_ context.Context, p kind.Part) ([]string, error) {
	files, err := filepath.Glob(filepath.Join(pattern.Literal(p.Data), "*.sqlite"))
	names := []string{}
	for _, f := range files {
		names = append(names, strings.TrimSuffix(filepath.Base(f), ".sqlite"))
	}
	return names, err
}

// statements splits SQL into statements, as sqlite3_complete tells where one ends (sqlite.org/c3ref/complete.html): at
// a semicolon outside of quotes and comments, and for a trigger at the one after END.
type statements struct {
	in   *bufio.Reader
	line int // of the next byte
}

// next returns a statement and the line at which it begins. At the end of the text the error is io.EOF.
func (s *statements) next() (text string, line int, err error) {
	var b strings.Builder
	words := "" // of the statement, in upper case, without quotes and comments
	quote := rune(0)
	for {
		r, _, err := s.in.ReadRune()
		if errors.Is(err, io.EOF) {
			if strings.TrimSpace(words) == "" && quote == 0 {
				return "", 0, io.EOF
			}
			return b.String(), line, nil
		}
		if err != nil {
			return "", 0, err
		}
		if line == 0 && !strings.ContainsRune(" \t\r\n", r) {
			line = s.line
		}
		if r == '\n' {
			s.line++
		}
		b.WriteRune(r)
		ahead, _ := s.in.Peek(1) // at the end there is nothing ahead
		switch {
		case quote == '\n' && r == '\n', quote == '*' && r == '*' && string(ahead) == "/",
			quote != 0 && quote != '*' && quote != '\n' && r == quote:
			quote = 0
		case quote != 0:
		case r == '\'' || r == '"' || r == '`':
			quote = r
		case r == '[':
			quote = ']'
		case r == '-' && string(ahead) == "-":
			quote = '\n'
		case r == '/' && string(ahead) == "*":
			quote = '*'
		case r == ';':
			if complete(words) {
				return b.String(), line, nil
			}
			words += ";"
		default:
			words += strings.ToUpper(string(r))
		}
	}
}

// complete reports whether the words before a semicolon are a whole statement.
func complete(words string) bool {
	fields := strings.Fields(words)
	if len(fields) < 2 || fields[0] != "CREATE" {
		return true
	}
	i := 1
	if fields[1] == "TEMP" || fields[1] == "TEMPORARY" {
		i = 2
	}
	if i >= len(fields) || fields[i] != "TRIGGER" {
		return true
	}
	last := fields[len(fields)-1]
	return last == "END" || strings.HasSuffix(last, ";END")
}
