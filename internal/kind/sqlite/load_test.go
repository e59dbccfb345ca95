package sqlite

import (
	"bufio"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStatements(t *testing.T) {
	text := `-- boats; and more
CREATE TABLE a (b TEXT); /* ; */
INSERT INTO a VALUES ('x;''y');INSERT INTO "a;b" VALUES (1);

CREATE TRIGGER c AFTER INSERT ON a BEGIN
  UPDATE a SET b = 'END;';
  DELETE FROM a;
END;
CREATE TEMP TRIGGER d AFTER INSERT ON a BEGIN SELECT 1;END;
SELECT [x;y] -- the end`
	in := &statements{in: bufio.NewReader(strings.NewReader(text)), line: 1}
	type statement struct {
		line  int
		begin string
	}
	var got []statement
	for {
		text, line, err := in.next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		fields := strings.Fields(text)
		got = append(got, statement{line, strings.Join(fields[:min(3, len(fields))], " ")})
	}
	assert.Equal(t, []statement{
		{1, "-- boats; and"},
		{2, "/* ; */"},
		{3, `INSERT INTO "a;b"`},
		{5, "CREATE TRIGGER c"},
		{9, "CREATE TEMP TRIGGER"},
		{10, "SELECT [x;y] --"},
	}, got)
	_, _, err := (&statements{in: bufio.NewReader(strings.NewReader("SELECT 1; -- done\n")), line: 1}).next()
	require.NoError(t, err)
}
