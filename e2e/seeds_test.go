package e2e

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

// pack compresses a text as the ending of the file's name says.
func pack(t *testing.T, name, text string) string {
	var b bytes.Buffer
	var w io.WriteCloser
	var err error
	switch {
	case strings.HasSuffix(name, ".gz"):
		w = gzip.NewWriter(&b)
	case strings.HasSuffix(name, ".xz"):
		w, err = xz.NewWriter(&b)
	case strings.HasSuffix(name, ".zst"):
		w, err = zstd.NewWriter(&b)
	default:
		return text
	}
	require.NoError(t, err)
	_, err = io.WriteString(w, text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.String()
}

const boats = "CREATE TABLE boats (id INT PRIMARY KEY, name VARCHAR(40));\n" +
	"INSERT INTO boats VALUES (1, 'heron; the \"day\" boat'), (2, 'owl');\n"

// count is a command that prints how many boats a database has.
var count = map[string][]string{
	"mariadb":  {"mariadb", "-Ne", "SELECT COUNT(*) FROM boats"},
	"postgres": {"psql", "-tAc", "SELECT COUNT(*) FROM boats"},
	"sqlite":   {"sh", "-c", `sqlite3 "$DB_DATABASE" "SELECT COUNT(*) FROM boats"`},
}

// tables is a command that prints how many tables a database has.
var tables = map[string][]string{
	"mariadb":  {"mariadb", "-Ne", "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE()"},
	"postgres": {"psql", "-tAc", "SELECT COUNT(*) FROM pg_tables WHERE schemaname = 'public'"},
	"sqlite":   {"sh", "-c", `sqlite3 "$DB_DATABASE" "SELECT COUNT(*) FROM sqlite_schema"`},
}

func (w *world) output(command []string) string {
	w.t.Helper()
	out := w.must(append([]string{"run", "--"}, command...)...).stdout
	return strings.TrimSpace(out)
}

// A seed is loaded once, before the tasks, while the data folder is new.
func TestSeeds(t *testing.T) {
	t.Parallel()
	for kind, file := range map[string]string{
		"mariadb": "boats.sql.gz", "postgres": "boats.sql.xz", "sqlite": "boats.sql.zst",
	} {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.write(file, pack(t, file, boats))
			w.write("dravit.toml", fmt.Sprintf("name = \"quay\"\n[part.db]\nkind = %q\nseed = %q\n[[task]]\n"+
				"name = \"third\"\nwhen = \"first-start\"\ncommand = \"%s\"\n", kind, file,
				map[string]string{
					"mariadb":  `mariadb -e \"INSERT INTO boats VALUES (3, 'tern')\"`,
					"postgres": `psql -c \"INSERT INTO boats VALUES (3, 'tern')\"`,
					"sqlite":   `sqlite3 $DB_DATABASE \"INSERT INTO boats VALUES (3, 'tern')\"`,
				}[kind]))
			w.must("start")
			assert.Equal(t, "3", w.output(count[kind]))
			w.must("stop")
			w.must("start")
			assert.Equal(t, "3", w.output(count[kind]), "once")
			w.must("remove", "db", "--data", "--yes")
			w.must("start")
			assert.Equal(t, "3", w.output(count[kind]), "for new data again, and the task, too")
		})
	}
}

// A seed that cannot be loaded leaves an empty database, and its line is named; corrected, the next start loads it.
func TestBadSeeds(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"mariadb", "postgres", "sqlite"} {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			other := map[string]string{"mariadb": "postgres", "postgres": "mariadb", "sqlite": "mariadb"}[kind]
			for _, c := range []struct{ name, file, text, says string }{
				{"an error in it", "a.sql", boats + "INSERT INTO owls VALUES (1);\n", "a.sql: line 3: "},
				{"cut off", "b.sql.gz",
					pack(t, "b.sql.gz", strings.Repeat("-- tide\n", 9000)+boats)[:60], "breaks off"},
				{"another server's", "c.sql", map[string]string{"postgres": "-- PostgreSQL database dump\n",
					"mariadb": "-- MariaDB dump 10.19\n"}[other] + boats, "it is a dump of " + other},
				{"an archive", "d.dump", "PGDMP\x01\x0e\x00", map[string]string{"postgres": "pg_restore"}[kind]},
				{"not there", "e.sql", "", "e.sql"},
			} {
				if c.name != "not there" {
					w.write(c.file, c.text)
				}
				w.write("dravit.toml", fmt.Sprintf("name = \"quay\"\n[part.db]\nkind = %q\nseed = %q\n", kind, c.file))
				r := w.dravit("start")
				assert.Equal(t, 1, r.code, "%s: %s", c.name, r.all())
				assert.Contains(t, flat(r.stderr), c.says, c.name)
				assert.Contains(t, flat(r.stderr), "was not loaded, and its database is empty", c.name)
				w.eventually("the database answers", func() bool { return w.status().part(t, "db").State == "answers" })
				assert.Equal(t, "0", w.output(tables[kind]), c.name)
			}
			w.write("e.sql", boats)
			w.must("start")
			assert.Equal(t, "2", w.output(count[kind]))
		})
	}
}

// A dump that needs more than the application's user may do is refused as a whole; what it says about its own database
// and accounts is left out.
func TestSeedNeedsRights(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.sql", "CREATE DATABASE tides;\nUSE tides;\n"+boats+"INSERT INTO mysql.db (Host) VALUES ('x');\n")
	w.write("dravit.toml", "name = \"quay\"\n[part.db]\nkind = \"mariadb\"\nseed = \"a.sql\"\n")
	r := w.dravit("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, flat(r.stderr), "a.sql: line 5: INSERT command denied to user 'dravit_load'")
	assert.Equal(t, "0", w.output(tables["mariadb"]))
	w.write("a.sql", "CREATE DATABASE tides;\nUSE tides;\n"+boats)
	w.must("start")
	assert.Equal(t, "2", w.output(count["mariadb"]))
}
