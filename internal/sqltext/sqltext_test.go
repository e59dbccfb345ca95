package sqltext

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	maria  = Syntax{Backslash: true, Hash: true, Versioned: true, Delimiter: true, Longest: 1 << 20}
	pg     = Syntax{Nested: true, Dollar: true, Bodies: true, Commands: true, Longest: 1 << 20}
	lite   = Syntax{Brackets: true, Triggers: true, Longest: 1 << 20}
	quotes = "it''s; \"; -- /* "
)

// all returns the statements of a text, each with its line, read in one piece or byte by byte.
func all(t *testing.T, s Syntax, text string, slow bool) []string {
	t.Helper()
	var in io.Reader = strings.NewReader(text)
	if slow {
		in = iotest.OneByteReader(in)
	}
	var out []string
	for x := New(in, s); ; {
		st, err := x.Next()
		if errors.Is(err, io.EOF) {
			return out
		}
		require.NoError(t, err)
		mark := ""
		if st.Command {
			mark = "!"
		}
		out = append(out, fmt.Sprintf("%s%d:%s", mark, st.Line, st.Text))
		if strings.HasPrefix(string(st.Text), "COPY") {
			rows, err := io.ReadAll(x.Data())
			require.NoError(t, err)
			out = append(out, "rows:"+string(rows))
		}
	}
}

func TestStatementsEndWhereTheServerSays(t *testing.T) {
	for _, c := range []struct {
		name   string
		syntax Syntax
		text   string
		want   []string
	}{
		{"plain", pg, "SELECT 1;\n\n SELECT 2 ;SELECT 3", []string{"1:SELECT 1", "3:SELECT 2 ", "3:SELECT 3"}},
		{"comments before", pg, "-- a; b\n/* x; /* y */ ; */\nSELECT 1;", []string{"3:SELECT 1"}},
		{"quotes", lite, "INSERT INTO t VALUES ('" + quotes + "');x;", []string{
			"1:INSERT INTO t VALUES ('" + quotes + "')", "1:x"}},
		{"brackets", lite, "SELECT [a;'b];x", []string{"1:SELECT [a;'b]", "1:x"}},
		{"backslash", maria, `INSERT INTO t VALUES ('a\';b\\');x;`, []string{
			`1:INSERT INTO t VALUES ('a\';b\\')`, "1:x"}},
		{"no backslash", pg, `SELECT 'a\';x`, []string{`1:SELECT 'a\'`, "1:x"}},
		{"E string", pg, `SELECT E'a\';b', name'';x`, []string{`1:SELECT E'a\';b', name''`, "1:x"}},
		{"dollar", pg, "DO $a$ BEGIN; $b$ ; $a$;SELECT $1;x$y$z;w", []string{
			"1:DO $a$ BEGIN; $b$ ; $a$", "1:SELECT $1", "1:x$y$z", "1:w"}},
		{"parentheses", pg, "CREATE RULE r AS ON INSERT TO t DO (DELETE FROM a; DELETE FROM b);x", []string{
			"1:CREATE RULE r AS ON INSERT TO t DO (DELETE FROM a; DELETE FROM b)", "1:x"}},
		{"body", pg, "CREATE OR REPLACE FUNCTION f() RETURNS int LANGUAGE sql BEGIN ATOMIC SELECT CASE WHEN true " +
			"THEN 1 END; SELECT 2; END;x",
			[]string{"1:CREATE OR REPLACE FUNCTION f() RETURNS int LANGUAGE sql BEGIN ATOMIC " +
				"SELECT CASE WHEN true THEN 1 END; SELECT 2; END", "1:x"}},
		{"transaction", pg, "BEGIN;x;END;", []string{"1:BEGIN", "1:x", "1:END"}},
		{"command", pg, "\\restrict k\nSELECT 1\n\\! id\n;\n\\o |sh\n", []string{
			`!1:\restrict k`, "2:SELECT 1\n\\! id\n", `!5:\o |sh`}},
		{"rows", pg, "COPY t FROM stdin;\n1\t;\n\\N\\.\n\\.\nx;", []string{
			"1:COPY t FROM stdin", "rows:1\t;\n\\N\\.\n", "5:x"}},
		{"no rows", pg, "COPY t FROM stdin;\n\\.\nx;", []string{"1:COPY t FROM stdin", "rows:", "3:x"}},
		{"delimiter", maria, "DELIMITER ;;\nCREATE TRIGGER t BEGIN a; b; END ;;\ndelimiter ;\nx;", []string{
			"2:CREATE TRIGGER t BEGIN a; b; END ", "4:x"}},
		{"versioned", maria, "/*!50003 SET a='/*;*/' */;\n/*M!999999 b */;\n# c;\n--;\n-- d;\nx;", []string{
			"1:/*!50003 SET a='/*;*/' */", "4:--", "6:x"}},
		{"trigger", lite, "CREATE TEMP TRIGGER t AFTER INSERT ON a BEGIN SELECT CASE 1 WHEN 1 THEN 2 END; SELECT 1; " +
			"/* x */ end;x", []string{"1:CREATE TEMP TRIGGER t AFTER INSERT ON a BEGIN SELECT CASE 1 WHEN 1 THEN 2 " +
			"END; SELECT 1; /* x */ end", "1:x"}},
		{"unended", maria, "SELECT 'a;", []string{"1:SELECT 'a;"}},
		{"nothing", lite, " ;;\n-- x\n", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.want, all(t, c.syntax, c.text, false))
			assert.Equal(t, c.want, all(t, c.syntax, c.text, true), "byte by byte")
		})
	}
}

// A long statement takes time in proportion to its length, and no more memory than it may.
func TestLongStatements(t *testing.T) {
	long := "INSERT INTO t VALUES " + strings.Repeat("(1,'a''b'), ", 50_000) + "(2)"
	began := time.Now()
	assert.Len(t, all(t, lite, long+";x;", false), 2)
	assert.Less(t, time.Since(began), 5*time.Second, "600 kB took minutes when each word was appended to the others")

	x := New(io.MultiReader(strings.NewReader("a;\n'"), endless{}), lite)
	_, err := x.Next()
	require.NoError(t, err)
	_, err = x.Next()
	require.ErrorIs(t, err, ErrTooLong)
	assert.Contains(t, err.Error(), "line 2: ")
	assert.LessOrEqual(t, cap(x.buf), 4*lite.Longest)
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}

// Whatever the text: the scanner ends, and returns every byte that is neither blank nor comment nor end.
func FuzzStatements(f *testing.F) {
	f.Add("SELECT $a$;$a$; E'\\''; COPY t FROM stdin;\n\\.\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, s := range []Syntax{maria, pg, lite} {
			n := 0
			for x := New(strings.NewReader(text), s); ; n++ {
				if _, err := x.Next(); err != nil {
					break
				}
			}
			assert.LessOrEqual(t, n, len(text))
		}
	})
}
