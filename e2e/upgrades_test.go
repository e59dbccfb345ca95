package e2e

import (
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/pattern"
)

// A real MariaDB 10.5 writes the data. This machine's newer one converts them with consent, after a copy, and 10.5
// cannot read them afterwards.
func TestDataOfAnOlderServer(t *testing.T) {
	w := newWorld(t)
	w.settings(`programs = ["` + beside(t) + `/mariadb-10.5/tree/usr/libexec"]`)
	file := func(version string) {
		w.write("dravit.toml", "name = \"ages\"\n[part.db]\nkind = \"mariadb\"\n"+version)
	}
	query := func(sql string) string {
		return w.must("run", "--", "sh", "-c",
			`mariadb -h"$DB_HOST" -P"$DB_PORT" -u"$DB_USER" -p"$DB_PASSWORD" "$DB_DATABASE" -N -e "`+sql+`"`).stdout
	}
	file("version = \"10.5\"\n")
	w.must("start")
	assert.Contains(t, query("SELECT VERSION()"), "10.5.")
	query("CREATE TABLE boats (name TEXT); INSERT INTO boats VALUES ('Dunlin')")
	w.must("stop")
	file("")
	assert.True(t, strings.HasPrefix(planned(t, w.plan(), "db").Version, "10.5."),
		"the server that wrote the data goes before a newer one")
	file("version = \">= 10.6\"\n")
	r := w.dravit("start")
	assert.Equal(t, 3, r.code, r.all())
	assert.Contains(t, r.stderr, "dravit start --upgrade db")
	w.must("start", "--upgrade", "db")
	assert.NotContains(t, query("SELECT VERSION()"), "10.5.")
	assert.Contains(t, query("SELECT name FROM boats"), "Dunlin")
	assert.Contains(t, query("SELECT PASSWORD('x') LIKE '*%'"), "1")
	w.must("db", "query", "DELETE FROM boats")
	w.goBack("10.5")
	assert.Contains(t, query("SELECT name FROM boats"), "Dunlin")
}

// goBack goes back to the mark from before an upgrade from that version, which then starts again.
func (w *world) goBack(version string) {
	w.t.Helper()
	file, err := os.ReadFile(filepath.Join(w.dir, "dravit.toml"))
	require.NoError(w.t, err)
	mark := pattern.Of(`before-upgrade-from-\S+`).FindString(w.must("db", "marks").stdout)
	r := w.dravit("db", "rewind", mark)
	assert.Equal(w.t, 1, r.code, r.all())
	assert.Contains(w.t, flat(r.stderr), "dravit stop, and again; then version = \""+version+"\" for the part")
	w.must("stop")
	w.write("dravit.toml",
		pattern.Of(`version = .*`).ReplaceAllString(string(file), `version = "`+version+`"`))
	r = w.dravit("start")
	assert.Equal(w.t, 3, r.code)
	assert.Contains(w.t, flat(r.stderr), "an older server would damage it")
	w.must("db", "rewind", mark)
	w.must("start")
}

// A newer PostgreSQL takes over the data of an older one: all databases, users and what they hold, after a mark. What
// it cannot take over leaves the data to the older one.
func TestUpgradePostgres(t *testing.T) {
	w := newWorld(t)
	w.settings(`programs = ["` + beside(t) + `/postgres-13/tree/usr/lib/postgresql/13/bin"]`)
	file := func(version string) {
		w.write("dravit.toml", "name = \"ages\"\n[part.db]\nkind = \"postgres\"\nversion = \""+version+"\"\n")
	}
	file("13")
	w.must("start")
	w.write("fleet.sql", fleet(2000)+"CREATE EXTENSION pgcrypto;\n"+
		"CREATE VIEW big AS SELECT n FROM boats WHERE n > 1000;\n")
	w.must("db", "load", "fleet.sql")
	w.must("db", "add", "archive")
	w.must("db", "query", "--database", "archive",
		`CREATE TABLE "Öld" (t text); INSERT INTO "Öld" VALUES (E'a\\\\b\n')`)
	archive := w.must("db", "query", "--database", "archive", "--json", `SELECT t FROM "Öld"`).stdout
	w.must("db", "query", "CREATE AGGREGATE together(anyarray) (SFUNC = array_cat, STYPE = anyarray)") // 14 has no such
	file("15")
	r := w.dravit("start")
	assert.Equal(t, 3, r.code, r.all())
	assert.Contains(t, r.stderr, "dravit start --upgrade db")
	r = w.dravit("start", "--upgrade", "db")
	assert.Equal(t, 1, r.code, r.all())
	assert.Contains(t, flat(r.all()), "array_cat")
	file("13")
	w.must("start")
	assert.Equal(t, "2000", w.count(), "the data are what they were")
	w.must("db", "query", "DROP AGGREGATE together(anyarray)")
	handOver := filepath.Join(filepath.Dir(w.status().part(t, "db").Socket), "up-*", "b", ".s.PGSQL.5432")

	file("15")
	for _, servers := range []bool{true, false} { // it dies, with all its servers or without them
		cmd := w.command(context.Background(), "start", "--upgrade", "db")
		require.NoError(t, cmd.Start())
		if servers {
			time.Sleep(time.Duration(500+rand.IntN(1500)) * time.Millisecond)
			for _, pid := range w.living() {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		} else {
			w.eventually("the newer server runs", func() bool {
				found, _ := filepath.Glob(handOver)
				return len(found) > 0
			})
			_ = syscall.Kill(w.keeperPID(), syscall.SIGKILL)
			assert.NotEmpty(t, w.living(), "the servers of the hand-over")
		}
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	w.must("start", "--upgrade", "db")
	assert.True(t, strings.HasPrefix(w.status().part(t, "db").Version, "15."))
	assert.Equal(t, "2000", w.count())
	assert.Contains(t, w.must("db", "query", "SELECT count(*) FROM big").stdout, "1000")
	assert.Contains(t, w.must("db", "query", "SELECT encode(digest('x', 'md5'), 'hex')").stdout, "9dd4e461")
	assert.Equal(t, archive, w.must("db", "query", "--database", "archive", "--json", `SELECT t FROM "Öld"`).stdout)
	w.must("check", "--deep")
	w.must("db", "query", "DELETE FROM boats")
	w.goBack("13")
	assert.Equal(t, "2000", w.count())
	left, err := filepath.Glob(filepath.Join(w.home, "stacks/*/data/db.*"))
	require.NoError(t, err)
	for _, path := range left {
		assert.NotContains(t, path, "db.next", "nothing is left over")
	}
}
