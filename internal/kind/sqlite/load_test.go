package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
)

// database returns a part with an empty database in a folder of its own, beside which is a neighbour's file.
func database(t *testing.T) (p kind.Part, neighbour string) {
	t.Helper()
	dir := t.TempDir()
	p = kind.Part{Name: "db", Data: filepath.Join(dir, "db"), Database: "quay"}
	require.NoError(t, os.Mkdir(p.Data, 0o700))
	require.NoError(t, sqlite{}.Fill(t.Context(), p, p.Data))
	other := p
	other.Database = "tides"
	require.NoError(t, sqlite{}.Fill(t.Context(), other, p.Data))
	require.NoError(t, with(t.Context(), other, func(conn *sql.Conn) error {
		_, err := conn.ExecContext(t.Context(), "CREATE TABLE secrets (a); INSERT INTO secrets VALUES ('low water')")
		return err
	}))
	return p, path(other)
}

// A dump reaches no other file: none is read, written or made.
func TestLoadStaysInItsFile(t *testing.T) {
	for _, text := range []string{
		"ATTACH 'NEIGHBOUR' AS n; INSERT INTO n.secrets VALUES (1);",
		"attach /* x */ database 'FRESH' as n; CREATE TABLE n.a (b);",
		"CREATE TABLE a (b); /* ; */ VACUUM INTO 'FRESH';",
		"VACUUM main INTO 'NEIGHBOUR';",
		"PRAGMA temp_store_directory = 'DIR';",
		"-- x\npragma main.temp_store_directory('DIR');",
		"/* x */ PRAGMA /* y */ data_store_directory = 'DIR';",
		"SELECT load_extension('FRESH');",
		"SELECT writefile('FRESH', 'x');",
		"CREATE TABLE a (b);\x00 ATTACH 'FRESH' AS n;",
		"CREATE VIRTUAL TABLE a USING csv(filename='NEIGHBOUR');",
		".output FRESH\n.dump",
		"BEGIN; CREATE TABLE a (b);",
	} {
		t.Run(text, func(t *testing.T) {
			p, neighbour := database(t)
			before, err := os.ReadFile(neighbour)
			require.NoError(t, err)
			files, err := os.ReadDir(p.Data)
			require.NoError(t, err)
			hostile := strings.NewReplacer("NEIGHBOUR", neighbour, "FRESH", filepath.Join(p.Data, "fresh"), "DIR",
				p.Data).Replace(text)
			_, err = sqlite{}.Load(t.Context(), p, strings.NewReader(hostile))
			require.Error(t, err)
			assert.Contains(t, err.Error(), map[bool]string{true: "breaks off", false: "line "}[strings.HasPrefix(text,
				"BEGIN")])
			after, err := os.ReadFile(neighbour)
			require.NoError(t, err)
			assert.Equal(t, before, after)
			now, err := os.ReadDir(p.Data)
			require.NoError(t, err)
			assert.Len(t, now, len(files), "no file was made")
			err = sqlite{}.Read(t.Context(), p, strings.TrimSpace(hostile), kind.Rows{})
			if !strings.HasPrefix(text, "BEGIN") {
				require.Error(t, err, "nor by a query that only reads")
			}
			assert.NoFileExists(t, filepath.Join(p.Data, "fresh"))
		})
	}
}

// A long statement is loaded in time, and a load ends when it is told to.
func TestLoadOfLongStatements(t *testing.T) {
	p, _ := database(t)
	began := time.Now()
	_, err := sqlite{}.Load(t.Context(), p, strings.NewReader("CREATE TABLE a (b, c); INSERT INTO a VALUES "+
		strings.Repeat("(1, 'boat'), ", 100_000)+"(2, 'x');"))
	require.NoError(t, err)
	assert.Less(t, time.Since(began), time.Minute, "1.3 MB: it took minutes for a third of that")

	for name, in := range map[string]io.Reader{
		"a query without end": strings.NewReader("WITH RECURSIVE x(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM x) " +
			"SELECT COUNT(*) FROM x;"),
		"statements without end": endless("INSERT INTO a VALUES (1, 2);\n"),
	} {
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		began = time.Now()
		_, err = sqlite{}.Load(ctx, p, in)
		assert.Truef(t, errors.Is(err, context.DeadlineExceeded), "%s: %v", name, err)
		assert.Less(t, time.Since(began), 20*time.Second, name)
		cancel()
	}
}

type endless string

func (e endless) Read(p []byte) (int, error) { return copy(p, e), nil }
