package e2e

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

// sqlKinds are the kinds with an SQL database.
var sqlKinds = []string{"mariadb", "postgres", "sqlite"}

// database starts a stack with a database that has three boats.
func (w *world) database(kind string) {
	w.t.Helper()
	w.write("dravit.toml", "name = \"harbour\"\n[part.db]\nkind = \""+kind+"\"\n")
	w.must("start")
	w.write("old.sql", fleet(3))
	w.must("db", "load", "old.sql")
}

// fleet is a dump with a table of n boats, and a last word that tells whether it is whole.
func fleet(n int) string {
	var b strings.Builder
	b.WriteString("CREATE TABLE boats (n INTEGER NOT NULL, name VARCHAR(40));\n")
	for i := range n {
		fmt.Fprintf(&b, "INSERT INTO boats VALUES (%d, 'boat %d');\n", i+1, i+1)
	}
	b.WriteString("CREATE TABLE whole (n INTEGER);\n")
	return b.String()
}

// count returns how many boats there are.
func (w *world) count() string {
	w.t.Helper()
	r := w.must("db", "query", "--csv", "SELECT COUNT(*) AS n FROM boats")
	return strings.TrimPrefix(strings.TrimSpace(r.stdout), "n\n")
}

// packed is a dump in each form that a load takes.
func packed(t *testing.T, text string) map[string][]byte {
	t.Helper()
	all := map[string][]byte{"plain.sql": []byte(text)}
	var b bytes.Buffer
	g := gzip.NewWriter(&b)
	_, err := g.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, g.Close())
	all["gzip"] = bytes.Clone(b.Bytes())
	b.Reset()
	x, err := xz.NewWriter(&b)
	require.NoError(t, err)
	_, err = x.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, x.Close())
	all["xz"] = bytes.Clone(b.Bytes())
	b.Reset()
	s, err := zstd.NewWriter(&b)
	require.NoError(t, err)
	_, err = s.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, s.Close())
	all["zstd"] = bytes.Clone(b.Bytes())
	b.Reset()
	z := zip.NewWriter(&b)
	f, err := z.Create("dumps/harbour.sql.gz")
	require.NoError(t, err)
	_, err = f.Write(all["gzip"])
	require.NoError(t, err)
	require.NoError(t, z.Close())
	all["zip of a gzip file"] = bytes.Clone(b.Bytes())
	b.Reset()
	a := tar.NewWriter(&b)
	require.NoError(t, a.WriteHeader(&tar.Header{Name: "d/", Typeflag: tar.TypeDir, Mode: 0o755}))
	require.NoError(t, a.WriteHeader(&tar.Header{Name: "d/x.sql", Mode: 0o644, Size: int64(len(text))}))
	_, err = a.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, a.Close())
	all["tar"] = bytes.Clone(b.Bytes())
	bz := exec.Command("bzip2", "-c")
	bz.Stdin = strings.NewReader(text)
	all["bzip2"], err = bz.Output()
	require.NoError(t, err)
	return all
}

func TestLoadInEveryForm(t *testing.T) {
	for _, kind := range sqlKinds {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.database(kind)
			forms := packed(t, fleet(7))
			names := slices.Sorted(maps.Keys(forms))
			if kind != "sqlite" { // what unpacks them is the same
				names = sample(names, 4)
			}
			for _, form := range names {
				text := forms[form]
				require.NoError(t, os.WriteFile(filepath.Join(w.dir, form), text, 0o644))
				r := w.must("db", "load", form)
				assert.Contains(t, r.stdout, "dravit db rewind before-load takes it back")
				assert.Equal(t, "7", w.count(), form)
				w.must("db", "load", "old.sql")
				cmd := w.command(t.Context(), "db", "load", "-")
				cmd.Stdin = bytes.NewReader(text)
				piped := finish(t, cmd)
				require.Equal(t, 0, piped.code, "%s %s", form, piped.all())
				assert.Equal(t, "7", w.count(), form)
			}
			w.must("db", "rewind", "before-load")
			assert.Equal(t, "3", w.count(), "a load can be taken back")
			w.must("check", "--deep")
		})
	}
}

// A dump that cannot be loaded leaves the database as it was, and the message says where and why.
func TestLoadThatFails(t *testing.T) {
	for _, kind := range sqlKinds {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.database(kind)
			other := map[string]string{"mariadb": "-- PostgreSQL database dump\n", "postgres": "-- MySQL dump 10.13\n",
				"sqlite": "-- MariaDB dump 10.19\n"}[kind]
			own := map[string]string{"mariadb": "-- MariaDB dump 10.19\n", "postgres": "-- PostgreSQL database dump\n",
				"sqlite": "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n"}[kind]
			packs := packed(t, fleet(500))
			for name, c := range map[string]struct {
				text  string
				words string
			}{
				"a fault":       {fleet(50) + "INSERT INTO no_such_table VALUES (1);\n", "line 53: "},
				"another kind":  {other + fleet(5), "it is a dump of "},
				"cut off":       {own + fleet(5)[:60], "breaks off"},
				"cut off, gzip": {string(packs["gzip"][:len(packs["gzip"])-20]), "breaks off"},
				"a backslash":   {fleet(2) + "\\nonsense\n", "line 5: "},
				"none":          {"\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR", "line "},
				"NUL bytes":     {"INSERT INTO boats VALUES (9, 'a\x00b');\nINSERT INTO nowhere VALUES (1);\n", "line"},
				"empty":         {"", "it is empty"},
				"two in a zip":  {twoFiles(t), "several files"},
			} {
				require.NoError(t, os.WriteFile(filepath.Join(w.dir, "bad"), []byte(c.text), 0o644))
				r := w.dravit("db", "load", "bad")
				assert.Equal(t, 1, r.code, "%s: %s", name, r.all())
				assert.Contains(t, flat(r.stderr), c.words, name)
				assert.Equal(t, "3", w.count(), "%s: the database is as it was", name)
			}
			assert.Equal(t, 1, w.dravit("db", "load", "no-such-file").code)
			assert.Equal(t, 2, w.dravit("db", "load", "old.sql", "--part", "nobody").code)
			assert.Equal(t, 2, w.dravit("db", "load").code)
			w.must("check")
			w.must("stop")
			r := w.dravit("db", "load", "old.sql")
			assert.Equal(t, 1, r.code)
			assert.Contains(t, r.stderr, "dravit start")
		})
	}
}

func twoFiles(t *testing.T) string {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range []string{"a.sql", "b.sql"} {
		_, err := z.Create(name)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.String()
}

// Dumps of whole servers of others: what reaches beyond the database is left out, and said.
func TestLoadDumpsOfOthers(t *testing.T) {
	for kind, c := range map[string]struct {
		dump string
		left []string
	}{
		"mariadb": {"-- MySQL dump 10.13  Distrib 8.0.36\nSET @@GLOBAL.GTID_PURGED=/*!80000 '+'*/ '';\n" +
			"CREATE DATABASE /*!32312 IF NOT EXISTS*/ `quay`;\nUSE `quay`;\nCREATE TABLE `boats` (\n  `n` int,\n" +
			"  `name` varchar(40) COLLATE utf8mb4_0900_ai_ci\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 " +
			"COLLATE=utf8mb4_0900_ai_ci;\nINSERT INTO `boats` VALUES (1,'DEFINER=`a`@`b`'),(2,'x');\n" +
			"/*!50001 CREATE ALGORITHM=UNDEFINED */\n/*!50013 DEFINER=`harbour master`@`%` SQL SECURITY DEFINER */\n" +
			"/*!50001 VIEW `big` AS select `n` from `boats` */;\nGRANT ALL ON *.* TO 'keel'@'%';\n" +
			"-- Dump completed on 2026-11-26\n",
			[]string{"settings of the whole server", "quay", "definers", "collations of MySQL 8", "rights (GRANT)"}},
		"postgres": {"--\n-- PostgreSQL database dump\n--\n\\restrict x\nSET transaction_timeout = 0;\n" +
			"CREATE DATABASE quay;\n\\connect quay\nCREATE EXTENSION IF NOT EXISTS nowhere;\n" +
			"CREATE EXTENSION IF NOT EXISTS pgcrypto WITH SCHEMA public;\n" +
			"CREATE TABLE public.boats (n integer, name text);\n" +
			"ALTER TABLE public.boats OWNER TO harbour_master;\n" +
			"COPY public.boats (n, name) FROM stdin;\n1\tGRANT ALL\n2\tx\n\\.\n" +
			"GRANT SELECT ON TABLE public.boats TO keel;\nCREATE VIEW public.big AS SELECT n FROM public.boats;\n" +
			"--\n-- PostgreSQL database dump complete\n--\n\\unrestrict x\n",
			[]string{"the creation of its database", "the extension nowhere", "harbour_master", "rights (GRANT)"}},
	} {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.database(kind)
			w.write("others.sql", c.dump)
			r := w.must("db", "load", "others.sql")
			for _, thing := range c.left {
				assert.Contains(t, r.stdout, thing)
			}
			assert.Equal(t, "2", w.count())
			assert.Contains(t, w.must("db", "query", "SELECT n FROM big").stdout, "2 rows")
			if kind == "postgres" {
				assert.Contains(t, w.must("db", "query", "SELECT extname FROM pg_extension").stdout, "pgcrypto")
			}
		})
	}
}

// What a dump writes is loaded elsewhere, packed as its name says, with everything that the database has.
func TestDumpAndCopy(t *testing.T) {
	for _, kind := range sqlKinds {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.database(kind)
			w.must(
				"db",
				"query",
				"INSERT INTO boats VALUES (4, 'it''s \"œ\"\n;'); INSERT INTO boats VALUES (5, NULL); "+
					"CREATE VIEW big AS SELECT n FROM boats WHERE n > 2; CREATE INDEX by_name ON boats (name)",
			)
			before := w.must("db", "query", "--csv", "SELECT * FROM boats ORDER BY n").stdout
			endings := []string{".sql", ".sql.gz", ".sql.bz2", ".sql.xz", ".sql.zst", ".zip"}
			if kind != "sqlite" { // what packs them is the same
				endings = sample(endings, 3)
			}
			for _, ending := range endings {
				w.must("db", "dump", "whole"+ending)
				info, err := os.Stat(filepath.Join(w.dir, "whole"+ending))
				require.NoError(t, err)
				assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
				w.must("db", "query", "DELETE FROM boats")
				w.must("db", "load", "whole"+ending)
				assert.Equal(
					t,
					before,
					w.must("db", "query", "--csv", "SELECT * FROM boats ORDER BY n").stdout,
					ending,
				)
			}
			assert.Contains(t, w.must("db", "query", "SELECT n FROM big").stdout, "3 rows")
			assert.Contains(t, w.must("db", "dump").stdout, "boats")
			assert.Equal(t, 1, w.dravit("db", "dump", "whole.rar").code)
			assert.NoFileExists(t, filepath.Join(w.dir, "whole.rar"))

			twin := *w
			twin.dir = filepath.Join(filepath.Dir(w.home), "twin")
			require.NoError(t, os.Mkdir(twin.dir, 0o755))
			twin.write("dravit.toml", "name = \"twin\"\n[part.copy]\nkind = \""+kind+"\"\n")
			twin.must("start")
			twin.must("db", "copy", "harbour")
			assert.Equal(t, before, twin.must("db", "query", "--csv", "SELECT * FROM boats ORDER BY n").stdout)
			assert.Equal(t, 2, twin.dravit("db", "copy", "nobody").code)
		})
	}
}

func TestMarksAndRewinds(t *testing.T) {
	for _, kind := range sqlKinds {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.database(kind)
			w.must("db", "mark")
			w.must("db", "query", "INSERT INTO boats VALUES (4, 'four')")
			odd := `../Ärger; "x" 'y' %2E`
			w.must("db", "mark", odd)
			w.must("db", "query", "DELETE FROM boats")
			for range 2 { // again and again
				w.must("db", "rewind", odd)
				assert.Equal(t, "4", w.count())
			}
			w.must("db", "query", "DELETE FROM boats")
			w.must("db", "rewind")
			assert.Equal(t, "4", w.count(), "the newest mark that a user made")
			w.must("db", "rewind", "before-rewind")
			assert.Equal(t, "0", w.count(), "a rewind can be undone")
			w.must("check", "--deep")
			for _, bad := range []string{"", strings.Repeat("x", 61), "a\nb", " x"} {
				if bad != "" {
					assert.Equal(t, 2, w.dravit("db", "mark", bad).code, "%q", bad)
				}
			}
			assert.Equal(t, 2, w.dravit("db", "mark", odd).code, "a mark is not replaced")
			assert.Equal(t, 2, w.dravit("db", "rewind", "nothing").code)

			w.must("stop")
			w.must("db", "rewind", odd, "--forget")
			w.must("db", "mark", "while it is down")
			w.must("start")
			assert.Equal(t, "4", w.count())
			var marks struct {
				Marks []struct {
					Name, Before string
					Bytes        int64
				}
			}
			w.json(&marks, "db", "marks", "--delete", odd)
			names := map[string]string{}
			for _, m := range marks.Marks {
				names[m.Name] = m.Before
				assert.Positive(t, m.Bytes)
			}
			assert.NotContains(t, names, odd)
			assert.Equal(t, "rewind", names["before-rewind"])
			assert.Contains(t, names, "while it is down")
			found, err := filepath.Glob(filepath.Join(w.home, "stacks/*/data/db.marks/*"))
			require.NoError(t, err)
			assert.Len(t, found, len(marks.Marks), "nothing is left over")
			assert.Contains(t, w.must("db", "marks").stdout, "before a rewind")
		})
	}
}

// Whatever dies, whenever: the database is as it was, or as it should become.
func TestKilledChanges(t *testing.T) {
	for _, kind := range sqlKinds {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.database(kind)
			w.write("big.sql", fleet(4000))
			w.must("db", "mark", "three")
			for round := range 12 {
				what := [][]string{{"load", "big.sql"}, {"rewind", "three"}, {"mark", fmt.Sprint("m", round)}}[round%3]
				cmd := w.command(context.Background(), append([]string{"db"}, what...)...)
				cmd.SysProcAttr.Setpgid = true
				require.NoError(t, cmd.Start())
				time.Sleep(time.Duration(rand.IntN(600)) * time.Millisecond)
				_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // its clients, too
				_ = cmd.Wait()
				if round%4 == 3 {
					for _, pid := range w.living() {
						_ = syscall.Kill(pid, syscall.SIGKILL) // the keeper and the server
					}
					w.must("start")
				}
				w.eventually("the database is whole", func() bool {
					r := w.dravit(
						"db",
						"query",
						"--csv",
						"SELECT (SELECT COUNT(*) FROM boats), (SELECT COUNT(*) FROM whole)",
					)
					lines := strings.Split(strings.TrimSpace(r.stdout), "\n")
					n := lines[len(lines)-1]
					return r.code == 0 && (n == "3,0" || n == "4000,0")
				})
			}
			w.must("db", "rewind", "three")
			assert.Equal(t, "3", w.count())
			w.must("check", "--deep")
		})
	}
}

func TestTwoLoadsAtOnce(t *testing.T) {
	w := newWorld(t)
	w.database("mariadb")
	w.write("big.sql", fleet(4000))
	first := w.command(context.Background(), "db", "load", "big.sql")
	require.NoError(t, first.Start())
	w.eventually("the first load has begun", func() bool {
		files, _ := filepath.Glob(filepath.Join(w.home, "stacks/*/data/db.loading.json"))
		return len(files) == 1
	})
	r := w.dravit("db", "load", "old.sql")
	assert.Equal(t, 1, r.code, r.all())
	assert.Contains(t, flat(r.stderr), "another command loads, marks or rewinds")
	require.NoError(t, first.Wait())
	assert.Equal(t, "4000", w.count())
}

// Pages wait while a database is rewound.
func TestRewindHoldsRequests(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", `name = "harbour"
[part.app]
kind = "php"
extensions = ["mysqli"]
[part.db]
kind = "mariadb"
[[site]]
name = "harbour"
root = "public"
app = "app"
`)
	w.write("public/index.php", `<?php
$port = (int) getenv("DB_PORT");
$db = mysqli_connect(getenv("DB_HOST"), getenv("DB_USER"), getenv("DB_PASSWORD"), getenv("DB_DATABASE"), $port);
if (isset($_GET["slow"])) usleep(700000);
echo "boats: ", $db->query("SELECT COUNT(*) FROM boats")->fetch_row()[0];`)
	w.dravit("start") // its page has no table yet
	w.write("old.sql", fleet(3))
	w.must("db", "load", "old.sql")
	w.must("db", "mark", "three")
	url := w.status().Sites[0].URL
	stop, answers := make(chan bool), make(chan string, 1000)
	var visitors sync.WaitGroup
	for _, page := range []string{url, url + "?slow=1"} { // one that is under way when the database stops
		visitors.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				code, text, _ := get(t, http.MethodGet, page, nil)
				answers <- fmt.Sprint(code, " ", text)
				time.Sleep(20 * time.Millisecond)
			}
		})
	}
	for range 3 {
		time.Sleep(100 * time.Millisecond)
		w.must("db", "rewind", "three")
	}
	close(stop)
	visitors.Wait()
	close(answers)
	n := 0
	for a := range answers {
		assert.Equal(t, "200 boats: 3", a)
		n++
	}
	assert.Greater(t, n, 5)
}

func TestQueriesAndTables(t *testing.T) {
	for _, kind := range sqlKinds {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.database(kind)
			r := w.must("db", "query", "SELECT n, name FROM boats WHERE n < 3 ORDER BY n; SELECT NULL AS hole")
			assert.Equal(t, "n  name\n1  boat 1\n2  boat 2\n2 rows\n\nhole\nNULL\n1 row\n", r.stdout)
			r = w.dravit("db", "query", "SELECT * FROM nowhere")
			assert.Equal(t, 1, r.code)
			assert.Contains(t, r.stderr, "nowhere")
			var out struct {
				Results []struct {
					Columns []string
					Rows    [][]*string
				}
			}
			w.json(&out, "db", "query", "SELECT n, NULL AS x FROM boats ORDER BY n")
			require.Len(t, out.Results, 1)
			assert.Equal(t, []string{"n", "x"}, out.Results[0].Columns)
			assert.Equal(t, "1", *out.Results[0].Rows[0][0])
			assert.Nil(t, out.Results[0].Rows[0][1])
			var tables struct {
				Tables []struct {
					Name  string
					Rows  *int64
					Exact bool
				}
			}
			w.json(&tables, "db", "tables")
			require.Len(t, tables.Tables, 2)
			assert.Equal(t, "boats", tables.Tables[0].Name)
			assert.Equal(t, int64(3), *tables.Tables[0].Rows)
			assert.True(t, tables.Tables[0].Exact)

			shell := w.command(t.Context(), "db", "shell")
			shell.Stdin = strings.NewReader("SELECT COUNT(*) + 39 FROM boats;\n")
			s := finish(t, shell)
			assert.Equal(t, 0, s.code, s.all())
			assert.Contains(t, s.stdout, "42")

			r = w.must("db", "access")
			assert.NotContains(t, r.stdout, "password  ")
			var access struct{ URL, Password string }
			w.json(&access, "db", "access", "--password")
			if kind != "sqlite" {
				assert.NotEmpty(t, access.Password)
				assert.Contains(t, access.URL, access.Password)
				assert.NotContains(t, r.stdout, access.Password)
			}
		})
	}
}

func TestFlush(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"harbour\"\n[part.seats]\nkind = \"redis\"\nmain = true\n[part.pages]\n"+
		"kind = \"dravit-cache\"\n[part.tides]\nkind = \"memcached\"\n")
	w.must("start")
	keys := func() string {
		return w.must("run", "--", "sh", "-c", `redis-cli --no-auth-warning -u "$SEATS_URL" dbsize; `+
			`redis-cli --no-auth-warning -u "$PAGES_URL" dbsize`).stdout
	}
	fill := func() {
		w.must("run", "--", "sh", "-c",
			`for u in "$SEATS_URL" "$PAGES_URL"; do redis-cli --no-auth-warning -u "$u" set a 1; done`)
	}
	fill()
	require.Equal(t, "1\n1\n", keys())
	assert.Equal(t, "seats  flushed\n", w.must("flush", "seats").stdout)
	assert.Equal(t, "0\n1\n", keys())
	fill()
	var out struct{ Flushed []string }
	w.json(&out, "flush")
	assert.ElementsMatch(t, []string{"seats", "pages", "tides"}, out.Flushed)
	assert.Equal(t, "0\n0\n", keys())
	assert.Equal(t, 2, w.dravit("flush", "nobody").code)
	w.must("stop")
	r := w.dravit("flush")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "dravit start")
}

func TestMoreUsers(t *testing.T) {
	for _, kind := range []string{"mariadb", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.database(kind)
			as := func(name, sql string) (result, string) {
				var made struct{ User, Password string }
				w.json(&made, "db", "add", "--user", name, "--read-only="+fmt.Sprint(name == "reader"))
				require.NotEmpty(t, made.Password)
				client := fmt.Sprintf(`mariadb -h127.0.0.1 -P"$DB_PORT" -u%s -p%s harbour -Ne %q`,
					made.User, made.Password, sql)
				if kind == "postgres" {
					client = fmt.Sprintf(`PGPASSWORD=%s psql -U %s -h 127.0.0.1 -Atc %q`, made.Password, made.User, sql)
				}
				return w.dravit("run", "--", "sh", "-c", client), client
			}
			r, client := as("reader", "SELECT COUNT(*) FROM boats")
			assert.Equal(t, "3\n", r.stdout, r.all())
			w.write("seven.sql", fleet(7))
			w.must("db", "load", "seven.sql")
			assert.Equal(t, "7\n", w.must("run", "--", "sh", "-c", client).stdout, "its rights outlive a load")
			r = w.dravit("run", "--", "sh", "-c", strings.Replace(client, "SELECT COUNT(*)", "DELETE", 1))
			assert.NotEqual(t, 0, r.code, "it only reads")
			r, _ = as("clerk", "CREATE TABLE notes (n INTEGER); DELETE FROM boats WHERE n > 5")
			assert.Equal(t, 0, r.code, r.all())
			assert.Equal(t, "5", w.count())
			w.must("db", "query", "INSERT INTO notes VALUES (1)")
			assert.Contains(t, w.must("db", "access").stdout, "users    clerk, reader\n")

			for _, bad := range []string{"clerk", "harbour", "a b", "'", "root", "pg_x"} {
				own := kind == "mariadb" && bad == "pg_x" || kind == "postgres" && bad == "root"
				assert.Equal(t, !own, w.dravit("db", "add", "--user", bad).code == 2, bad)
			}
			assert.Equal(t, 2, w.dravit("db", "add", "x", "--user", "y").code)
			assert.Equal(t, 4, w.dravit("db", "drop", "--user", "clerk").code, "nobody agreed")
			assert.Equal(t, 2, w.dravit("db", "drop", "--user", "harbour", "--yes").code, "the part's own")
			for _, name := range []string{"clerk", "reader"} {
				w.must("db", "drop", "--user", name, "--yes")
			}
			assert.NotEqual(t, 0, w.dravit("run", "--", "sh", "-c", client).code)
			assert.Contains(t, w.must("db", "query", "SELECT n FROM notes").stdout, "1 row", "what it made stays")
		})
	}
	w := newWorld(t)
	w.database("sqlite")
	assert.Equal(t, 1, w.dravit("db", "add", "--user", "clerk").code)
}

func TestMoreDatabases(t *testing.T) {
	for _, kind := range sqlKinds {
		t.Run(kind, func(t *testing.T) {
			w := newWorld(t)
			w.database(kind)
			w.must("db", "add", "archive")
			w.write("seven.sql", fleet(7))
			w.must("db", "load", "seven.sql", "--database", "archive")
			assert.Equal(t, "3", w.count())
			r := w.must("db", "query", "--csv", "SELECT COUNT(*) AS n FROM boats", "--database", "archive")
			assert.Equal(t, "n\n7\n", r.stdout)
			assert.Contains(t, w.must("db", "access").stdout, "others   archive\n")
			shell := w.command(t.Context(), "db", "shell", "--database", "archive")
			shell.Stdin = strings.NewReader("SELECT COUNT(*) + 35 FROM boats;\n")
			assert.Contains(t, finish(t, shell).stdout, "42")
			r = w.dravit("db", "load", "old.sql", "--database", "nowhere")
			assert.Equal(t, 1, r.code)

			for _, bad := range []string{"archive", "harbour", "../x", "a b", "'", "mysql", "postgres"} {
				if (bad == "mysql") == (kind == "mariadb") && (bad == "postgres") == (kind == "postgres") ||
					bad != "mysql" && bad != "postgres" {
					assert.Equal(t, 2, w.dravit("db", "add", bad).code, bad)
				}
			}
			assert.Equal(t, 4, w.dravit("db", "drop", "archive").code, "nobody agreed")
			assert.Equal(t, 2, w.dravit("db", "drop", "harbour", "--yes").code, "the part's own")
			w.must("db", "drop", "archive", "--yes")
			assert.Equal(t, 2, w.dravit("db", "drop", "archive", "--yes").code)
			assert.NotContains(t, w.must("db", "access").stdout, "archive")
			assert.Equal(t, "3", w.count())
		})
	}
}

// A mark is of any part that keeps data, not of SQL databases only.
func TestMarksOfOtherParts(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"harbour\"\n[part.seats]\nkind = \"redis\"\n[part.mail]\nkind = \"dravit-mail\"\n")
	w.must("start")
	set := func(value string) {
		w.must("run", "--", "sh", "-c", "redis-cli SET boat "+value)
	}
	set("heron")
	r := w.dravit("db", "mark")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, flat(r.stderr), "it is not clear which part is meant")
	assert.Contains(t, flat(r.stderr), "mail, seats")
	w.must("db", "mark", "one", "--part", "seats")
	set("owl")
	w.must("db", "rewind", "one", "--part", "seats")
	assert.Contains(t, w.must("run", "--", "redis-cli", "GET", "boat").stdout, "heron")
	assert.Contains(t, w.must("db", "marks", "--part", "seats").stdout, "before-rewind")
	w.must("db", "rewind", "before-rewind", "--part", "seats")
	assert.Contains(t, w.must("run", "--", "redis-cli", "GET", "boat").stdout, "owl")
	w.must("db", "marks", "--part", "seats", "--delete", "one")
	w.write("x.sql", "SELECT 1;\n")
	assert.Equal(t, 2, w.dravit("db", "load", "x.sql", "--part", "seats").code)
	w.must("check", "--deep")
}
