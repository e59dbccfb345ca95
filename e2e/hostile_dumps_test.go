package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// attacks are statements of dumps that reach for what is outside of their database. OUT is a file that does not exist,
// VICTIM one that does, USER the application's user, ADMIN the administrator.
var attacks = map[string][]string{
	"postgres": {
		`\! touch OUT`, `\o OUT` + "\nSELECT 1;", `\o |touch OUT`, `\w OUT`, `\copy boats to 'OUT'`, `\i VICTIM`,
		`\ir VICTIM`,
		`\copy (SELECT 1) to program 'touch OUT'`, "\\set x `touch OUT`", `\setenv PAGER 'touch OUT'`,
		`\lo_import VICTIM`,
		"SELECT 1 \\g |touch OUT", "SELECT 1\n\\g OUT", "SELECT 'touch OUT' \\gexec", `\restrict x` + "\n" +
			`\! touch OUT`,
		"/* */ \\! touch OUT", "COPY boats FROM stdin;\n\\.\n\\! touch OUT", `\unrestrict` + "\n" + `\e OUT`, `\cd /`,
		"COPY (SELECT 1) TO 'OUT';", "COPY (SELECT 1) TO PROGRAM 'touch OUT';", "COPY boats FROM PROGRAM 'touch OUT';",
		"CREATE TABLE x (a text); COPY x FROM 'VICTIM';", "CREATE TABLE x AS SELECT pg_read_file('VICTIM');",
		"SELECT lo_export(lo_from_bytea(0, 'x'), 'OUT');", "SELECT lo_import('VICTIM');",
		"DO $$ BEGIN EXECUTE 'COPY (SELECT 1) TO ''OUT'''; END $$;", "ALTER SYSTEM SET archive_command = 'touch OUT';",
		"DROP DATABASE tides;", "  drop\n database tides;", "/**/DROP DATABASE tides;",
		"ALTER DATABASE tides RENAME TO x;",
		"\\connect tides\nDROP TABLE catches;", "\\c tides\nDELETE FROM catches;", "SELECT 1; DROP DATABASE tides;",
		"ALTER ROLE \"USER\" PASSWORD 'x';", "/**/alter role \"USER\" superuser;",
		"SET ROLE \"ADMIN\"; DROP DATABASE tides;",
		"/**/SET SESSION AUTHORIZATION \"ADMIN\"; DROP DATABASE tides;", "/**/GRANT \"USER\" TO CURRENT_USER;",
		"/**/GRANT pg_execute_server_program TO CURRENT_USER;", "REASSIGN OWNED BY \"USER\" TO CURRENT_USER;",
		"CREATE EXTENSION file_fdw; CREATE SERVER s FOREIGN DATA WRAPPER file_fdw;", "CREATE EXTENSION dblink; " +
			"SELECT dblink_exec('dbname=tides', 'DROP TABLE catches');",
		"CREATE EXTENSION postgres_fdw; CREATE SERVER s " +
			"FOREIGN DATA WRAPPER postgres_fdw;",
		"CREATE EXTENSION adminpack; SELECT pg_file_write('OUT', 'x', false);",
		"CREATE FUNCTION f(text) RETURNS int AS '/lib/x86_64-linux-gnu/libc.so.6', 'system' LANGUAGE c;",
		"LOAD 'VICTIM';", "CREATE TABLESPACE t LOCATION 'DIR';", "CREATE LANGUAGE plpython3u;",
		"CREATE SUBSCRIPTION s " +
			"CONNECTION 'dbname=tides' PUBLICATION p;",
		"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname " +
			"= 'tides';", "SET session_preload_libraries = 'x';", "SELECT set_config('log_directory', 'DIR', false);",
	},
	"mariadb": {
		"LOAD DATA LOCAL INFILE 'VICTIM' INTO TABLE boats;", "load /* */ data local infile 'VICTIM' into table boats;",
		"CREATE TABLE x (a TEXT); LOAD DATA LOCAL INFILE 'VICTIM' INTO TABLE x;",
		"LOAD DATA INFILE 'VICTIM' INTO TABLE boats;",
		"CREATE TABLE x (a TEXT); LOAD DATA LOCAL INFILE 'VICTIM' INTO TABLE x (a);",
		"LOAD XML LOCAL INFILE 'VICTIM' INTO " +
			"TABLE boats;", "SELECT 1 INTO OUTFILE 'OUT';", "SELECT 1 INTO DUMPFILE 'OUT';",
		"CREATE TABLE x AS SELECT " +
			"LOAD_FILE('VICTIM') AS a;", `\! touch OUT`, "system touch OUT", "source VICTIM", `\. VICTIM`, "tee OUT\n",
		"SELECT 1\\! touch OUT",
		"DELIMITER ;;\nSELECT 1;;\n\\! touch OUT\n", "DROP DATABASE tides;", "  DROP DATABASE tides;",
		"/**/DROP DATABASE tides;",
		"drop\nschema tides;", "/*!50003 DROP DATABASE tides */;", "/*M!100000 DROP DATABASE tides */;",
		"DROP TABLE tides.catches;",
		"USE tides;\nDROP TABLE catches;", "/**/use tides; DROP TABLE catches;", "DELETE FROM tides.catches;",
		"INSERT INTO tides.catches VALUES (-1);", "TRUNCATE tides.catches;",
		"RENAME TABLE tides.catches TO harbour.catches;",
		"CREATE TABLE x AS SELECT * FROM tides.catches;", "UPDATE tides.catches SET n = 0;",
		"LOCK TABLES tides.catches WRITE;",
		"CREATE VIEW v AS SELECT * FROM tides.catches;", "DELIMITER //\nBEGIN NOT ATOMIC DROP DATABASE tides; END //\n",
		"PREPARE s FROM 'DROP DATABASE tides'; EXECUTE s;", "EXECUTE IMMEDIATE 'DROP DATABASE tides';",
		"DELIMITER //\nCREATE PROCEDURE p() SQL SECURITY DEFINER DROP DATABASE tides//\nCALL p()//\n",
		"CREATE/**/DEFINER=`ADMIN`@`localhost` PROCEDURE p() DROP DATABASE tides;\nCALL p();",
		strings.Repeat("/*x*/", 60) +
			"CREATE DEFINER=`ADMIN`@`localhost` PROCEDURE p() DROP DATABASE tides;\nCALL p();",
		"CREATE EVENT e ON SCHEDULE EVERY 1 SECOND DO DROP DATABASE tides; SET /**/GLOBAL event_scheduler = ON;",
		"SET/**/GLOBAL general_log_file = 'OUT'; SET/**/GLOBAL general_log = ON;",
		"SET @@global.slow_query_log_file = 'OUT';",
		"SET PASSWORD FOR 'USER'@'localhost' = PASSWORD('x');", "/**/ALTER USER 'USER'@'localhost' IDENTIFIED BY 'x';",
		"/**/GRANT ALL ON *.* TO CURRENT_USER;", "/**/DROP USER 'USER'@'localhost';", "SHUTDOWN;",
		"INSTALL SONAME 'x';",
		"CREATE FUNCTION f RETURNS STRING SONAME 'x.so';", "INSERT INTO mysql.global_priv VALUES ('%', 'x', '{}');",
		"CREATE TABLE x (a INT) ENGINE=MyISAM DATA DIRECTORY='DIR';", "CREATE TABLE x (a INT) DATA DIRECTORY='DIR';",
		"CREATE SERVER s FOREIGN DATA WRAPPER mysql OPTIONS (HOST '127.0.0.1');", "KILL 1;",
		"FLUSH TABLES WITH READ LOCK;",
		"RESET MASTER;", "HANDLER tides.catches OPEN;",
	},
	"sqlite": {
		"ATTACH 'NEIGHBOUR' AS n; DROP TABLE n.catches;", "attach/**/database 'OUT' as n; CREATE TABLE n.a (b);",
		"VACUUM INTO 'OUT';", "VACUUM main INTO 'NEIGHBOUR';", "VACUUM INTO 'VICTIM';",
		"EXPLAIN QUERY PLAN VACUUM INTO 'OUT'; " +
			"VACUUM INTO 'OUT';", "SELECT load_extension('OUT');", "SELECT writefile('OUT', 'x');",
		"SELECT readfile('VICTIM');",
		"PRAGMA temp_store_directory = 'DIR';", ".output OUT", ".shell touch OUT", ".read VICTIM",
		"SELECT edit('x', 'touch OUT');",
		"CREATE VIRTUAL TABLE x USING csv(filename='VICTIM');",
		"CREATE TRIGGER t AFTER INSERT ON boats BEGIN SELECT 1; END; " +
			"ATTACH 'OUT' AS n;", "CREATE TABLE x (a);\x00ATTACH 'OUT' AS n;",
		"BEGIN; COMMIT; ATTACH ':memory:' AS n; ATTACH 'OUT' AS m;",
	},
}

// neighbour is a database beside the one of a load, which an application writes to all the time.
type neighbour struct {
	w        *world
	accepted atomic.Int64 // rows that the database has acknowledged
	stop     chan struct{}
	ended    chan struct{}
}

func (w *world) writtenNeighbour() *neighbour {
	w.t.Helper()
	w.must("db", "add", "tides")
	w.must("db", "query", "--database", "tides", "CREATE TABLE catches (n INTEGER)")
	n := &neighbour{w: w, stop: make(chan struct{}), ended: make(chan struct{})}
	go func() {
		defer close(n.ended)
		for {
			select {
			case <-n.stop:
				return
			default:
			}
			next := strconv.FormatInt(n.accepted.Load()+1, 10)
			if w.dravit("db", "query", "--database", "tides", "INSERT INTO catches VALUES ("+next+")").code == 0 {
				n.accepted.Add(1)
			}
		}
	}()
	w.t.Cleanup(n.end)
	return n
}

func (n *neighbour) end() {
	select {
	case <-n.stop:
	default:
		close(n.stop)
	}
	<-n.ended
}

// whole fails the test unless every row is there that was acknowledged.
func (n *neighbour) whole(after string) {
	n.w.t.Helper()
	said := n.accepted.Load()
	var got int64
	n.w.eventually("the neighbour answers after "+after, func() bool {
		r := n.w.dravit("db", "query", "--csv", "--database", "tides",
			"SELECT COUNT(DISTINCT n) AS n FROM catches WHERE n > 0")
		var err error
		got, err = strconv.ParseInt(strings.TrimPrefix(strings.TrimSpace(r.stdout), "n\n"), 10, 64)
		return r.code == 0 && err == nil
	})
	assert.GreaterOrEqual(n.w.t, got, said, "acknowledged rows of the neighbour after %s", after)
}

// whole is set if the suite should make every case of its longest campaigns, not a part of each.
var whole = os.Getenv("DRAVIT_TEST_WHOLE") != ""

// sample returns every nth of some cases, from a random one on, or all of them if the whole suite should run.
func sample[T any](all []T, n int) []T {
	if whole {
		return all
	}
	var some []T
	for i := rand.IntN(n); i < len(all); i += n {
		some = append(some, all[i])
	}
	return some
}

const secret = "low water at the quay: 04:17"

// A dump of somebody else's reaches nothing outside of its database, however it is written and packed: no program runs,
// no file is read or written, no neighbour loses anything.
func TestHostileDumps(t *testing.T) {
	for _, kind := range sqlKinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			w.database(kind)
			n := w.writtenNeighbour()
			dir := t.TempDir()
			require.NoError(t, os.Chmod(dir, 0o777))
			victim, out := filepath.Join(dir, "victim"), filepath.Join(dir, "out")
			require.NoError(t, os.WriteFile(victim, []byte(secret+"\n"), 0o666))
			files, err := filepath.Glob(filepath.Join(w.home, "stacks/*/data/db/tides.sqlite"))
			require.NoError(t, err)
			fill := strings.NewReplacer("OUT", out, "VICTIM", victim, "DIR", dir, "USER", "harbour", "ADMIN",
				tester.Username,
				"NEIGHBOUR", strings.Join(files, ""))
			for i, attack := range sample(attacks[kind], 4) {
				w.must("db", "add", "quarry") // it is empty, so no mark of it is made, which would take a moment
				text := fleet(2) + fill.Replace(attack) + "\nINSERT INTO whole VALUES (1);\n"
				form := []string{"plain.sql", "gzip", "zstd", "zip of a gzip file"}[i%4]
				require.NoError(t, os.WriteFile(filepath.Join(w.dir, "hostile"), packed(t, text)[form], 0o644))
				r := w.dravit("db", "load", "hostile", "--database", "quarry")
				assert.NoFileExists(t, out, attack)
				left, err := os.ReadDir(dir)
				require.NoError(t, err)
				assert.Len(t, left, 1, attack)
				got, err := os.ReadFile(victim)
				require.NoError(t, err)
				assert.Equal(t, secret+"\n", string(got), attack)
				if r.code != 0 {
					assert.Contains(t, flat(r.stderr), "is as it was", attack)
				}
				// What was loaded may be nonsense; it must not hold what was outside.
				if r.code == 0 {
					dumped := w.must("db", "dump", "--database", "quarry").stdout
					assert.NotContains(t, dumped, "low water", attack)
				}
				w.must("db", "drop", "quarry", "--yes")
				if i%10 == 9 {
					n.whole(attack)
				}
			}
			assert.Equal(t, "3", w.count())
			n.end()
			n.whole("all attacks")
			w.must("check", "--deep")
			assert.Contains(t, w.must("db", "access").stdout, "tides")
			assert.NotContains(t, w.must("db", "access").stdout, "dravit_load")
		})
	}
}

// A load that is killed at any moment, with or without the server and the keeper, leaves the neighbour every row that
// it acknowledged, and nothing of its own.
func TestHostileDumpsKilled(t *testing.T) {
	for _, kind := range sqlKinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			w.database(kind)
			n := w.writtenNeighbour()
			w.write("big.sql", fleet(3000)+"INSERT INTO nowhere VALUES (1);\n") // it fails at its end
			rounds := 4
			if whole {
				rounds = 16
			}
			for round := range rounds {
				cmd := w.command(context.Background(), "db", "load", "big.sql")
				cmd.SysProcAttr.Setpgid = true
				require.NoError(t, cmd.Start())
				if round%4 != 0 {
					time.Sleep(time.Duration(rand.IntN(700)) * time.Millisecond)
					_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
				}
				_ = cmd.Wait()
				if round%4 == 3 {
					for _, pid := range w.living() {
						_ = syscall.Kill(pid, syscall.SIGKILL)
					}
					w.must("start")
				}
				w.eventually("the database is as it was", func() bool {
					r := w.dravit("db", "query", "--csv",
						"SELECT (SELECT COUNT(*) FROM boats), (SELECT COUNT(*) FROM whole)")
					return r.code == 0 && strings.HasSuffix(strings.TrimSpace(r.stdout), "\n3,0")
				})
				n.whole(fmt.Sprint("round ", round))
			}
			n.end()
			n.whole("all rounds")
			w.must("restart")
			left, err := filepath.Glob(filepath.Join(w.home, "stacks/*/data/*"))
			require.NoError(t, err)
			for _, file := range left {
				for _, of := range []string{".next", ".load", ".before.sql.zst", ".loading.json", ".was", ".new"} {
					assert.False(t, strings.HasSuffix(file, of), file)
				}
			}
			w.must("check", "--deep")
		})
	}
}
