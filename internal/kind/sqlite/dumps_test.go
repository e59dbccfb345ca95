package sqlite

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
)

// A dump that is loaded again holds what its readers do not see at once: the last number of a key, full-text tables,
// generated columns.
func TestDumpIsWhole(t *testing.T) {
	k := sqlite{}
	empty := func() kind.Part {
		p := kind.Part{Data: t.TempDir(), Database: "ferry"}
		require.NoError(t, k.Fill(t.Context(), p, p.Data))
		return p
	}
	rows := func(p kind.Part, sql string) (all []string) {
		require.NoError(t, k.Query(t.Context(), p, sql, kind.Rows{
			Columns: func([]string) error { return nil },
			Row: func(values []*string) error {
				for _, v := range values {
					all = append(all, *v)
				}
				return nil
			},
		}))
		return all
	}
	from, to := empty(), empty()
	rows(from, `CREATE TABLE boats (n INTEGER PRIMARY KEY AUTOINCREMENT, "na""me" TEXT, big TEXT AS (upper("na""me")));
INSERT INTO boats ("na""me") VALUES ('Tern'), ('Plover'), ('Knot');
DELETE FROM boats WHERE n = 3;
CREATE VIRTUAL TABLE notes USING fts5(title, body);
INSERT INTO notes (rowid, title, body) VALUES (7, 'tide', 'it''s high; at noon'), (9, 'fog', NULL);
CREATE VIRTUAL TABLE places USING rtree(id, west, east);
INSERT INTO places VALUES (4, 1.5, 2.5);`)
	var text bytes.Buffer
	require.NoError(t, k.Dump(t.Context(), from, &text))
	_, err := k.Load(t.Context(), to, &text)
	require.NoError(t, err)
	for _, sql := range []string{
		`SELECT n, "na""me", big FROM boats`,
		"SELECT rowid, title FROM notes WHERE notes MATCH 'noon'",
		"SELECT rowid, title, body IS NULL FROM notes",
		"SELECT * FROM places WHERE west > 1",
		"SELECT seq FROM sqlite_sequence",
	} {
		assert.Equal(t, rows(from, sql), rows(to, sql), sql)
	}
	rows(to, `INSERT INTO boats ("na""me") VALUES ('Dunlin')`)
	assert.Equal(t, []string{"4"}, rows(to, `SELECT n FROM boats WHERE "na""me" = 'Dunlin'`))

	// what AUTOINCREMENT leaves when its table is gone
	rows(from, "DROP TABLE boats")
	text.Reset()
	require.NoError(t, k.Dump(t.Context(), from, &text))
	_, err = k.Load(t.Context(), empty(), &text)
	require.NoError(t, err)
}
