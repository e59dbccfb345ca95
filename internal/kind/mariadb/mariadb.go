// Package mariadb is the kind for the MariaDB database server.
package mariadb

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"

	"dravit/internal/account"
	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/proc"
	"dravit/internal/stackfile"
	"dravit/internal/version"
)

// New returns the kind.
func New() kind.Kind { return mariadb{} }

type mariadb struct{ kind.StoreDefaults }

var _ kind.Database = mariadb{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:      "mariadb",
		Signs:     signs,
		Role:      kind.RoleDatabase,
		Keys:      []string{"port", "outside", "main", "database", "seed", "user", "settings"},
		Programs:  []string{"mariadbd", "mysqld"},
		Databases: true,
		Accounts:  true,
		HeadStart: true,
		System: map[string]string{
			"apt-get": "mariadb-server",
			"dnf":     "mariadb-server",
			"pacman":  "mariadb",
			"zypper":  "mariadb",
			"apk":     "mariadb",
			"brew":    "mariadb",
		},
		Raises: map[cause.ID][]kind.Raise{
			cause.PacketLimit: {{Settings: []string{"max_allowed_packet"}, Value: "256M"}}},
		Packages: kind.Packages{Servers: []string{`mariadb-server-core(?:-(\d+\.\d+))?`}, Program: "usr/sbin/mariadbd",
			With: []string{"mariadb-client-core", "mariadb-client-core-{series}",
				"mariadb-client", "mariadb-client-{series}"}},
		Clients:  pattern.New(`(?i)mysql|mariadb|Access denied for user`),
		Settings: small,
		Rules:    rules(),
		Symptoms: symptoms(),
	}
})

func (mariadb) Traits() *kind.Traits { return traits() }

func (mariadb) Needs(stackfile.PartConfig) kind.Needs {
	return kind.Needs{Port: true, PortBase: 13306, Socket: true, Data: true, Older: kind.ChangesOlder}
}

const (
	factShare   = "share"   // the folder of the system tables' statements
	factUpgrade = "upgrade" // the program that brings the system tables of older data up to date
)

func (mariadb) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	out, err := run(path, "--no-defaults", "--version") // mariadbd  Ver 10.11.19-MariaDB-0+deb12u1 for debian-linux-gnu
	m := pattern.Of(`Ver (\d[\d.]*\d)-MariaDB`).FindStringSubmatch(out)
	if err != nil || m == nil {
		return "", nil, fmt.Errorf("no version in %q: %w", out, err)
	}
	resolved, err := filepath.EvalSymlinks(path)
	if err != nil {
		return "", nil, err
	}
	facts := map[string]string{factShare: "", factUpgrade: ""}
	base := filepath.Dir(filepath.Dir(resolved))
	for _, dir := range []string{"share/mysql", "share/mariadb", "share"} {
		if dir = filepath.Join(base, dir); systemTables(dir) != nil {
			facts[factShare] = dir
			break
		}
	}
	if facts[factShare] == "" { // ask the server itself
		said, _ := run(path, "--no-defaults", "--verbose", "--help")
		dir := pattern.Of(`(?m)^lc-messages-dir\s+(/\S.*?)/?\s*$`).FindStringSubmatch(said)
		if dir != nil && systemTables(dir[1]) != nil {
			facts[factShare] = dir[1]
		}
	}
	for _, name := range []string{"mariadb-upgrade", "mysql_upgrade"} {
		if tool := filepath.Join(base, "bin", name); facts[factUpgrade] == "" {
			if _, err := os.Stat(tool); err == nil {
				facts[factUpgrade] = tool
			}
		}
	}
	return m[1], facts, nil
}

// systemTables returns the files that fill a data folder, in order. Their names begin with mysql up to 10.x, and with
// mariadb from 11 on.
func systemTables(share string) []string {
	for _, prefix := range []string{"mariadb", "mysql"} {
		var files []string
		for _, name := range []string{"system_tables", "performance_tables", "system_tables_data"} {
			f := filepath.Join(share, prefix+"_"+name+".sql")
			if _, err := os.Stat(f); err == nil {
				files = append(files, f)
			}
		}
		if len(files) == 3 {
			return files
		}
	}
	return nil
}

// ownDatabases are the server's own databases, and ownUsers its own accounts.
var (
	ownDatabases = []string{"mysql", "information_schema", "performance_schema", "sys"}
	ownUsers     = []string{"root", "mysql", "mariadb.sys"}
)

// oldest is the first release whose accounts are in mysql.global_priv.
const oldest = "10.4"

func (mariadb) Fit(want stackfile.PartConfig, p kind.Program) string {
	if slices.Contains(ownDatabases, strings.ToLower(want.Database)) {
		return "the database " + want.Database + " is the server's own"
	}
	if slices.Contains(ownUsers, strings.ToLower(want.User)) {
		return "the user " + want.User + " is the server's own"
	}
	if ofDravit(want.User) {
		return "the user " + want.User + " is Dravit's own: it loads dumps, or reads for consoles"
	}
	if version.Compare(p.Version, oldest) < 0 {
		return "it is older than " + oldest + ", and keeps its accounts in another way"
	}
	if p.Facts[factShare] == "" {
		return "the statements that fill its data folder are not beside it"
	}
	return ""
}

func (mariadb) Exports(p kind.Part) kind.Exports {
	port := fmt.Sprint(p.Port)
	u := url.URL{
		Scheme: "mysql",
		User:   url.UserPassword(p.User, p.Password),
		Host:   p.Address(),
		Path:   "/" + p.Database,
	}
	return kind.Exports{URL: u.String(), Common: map[string]string{
		"DATABASE_URL": u.String(), "DB_CONNECTION": "mysql", "DB_HOST": p.HostName(),
		"DB_PORT": port, "DB_DATABASE": p.Database,
		"DB_USERNAME": p.User, "DB_USER": p.User, "DB_PASSWORD": p.Password, "DB_SOCKET": p.Socket,
		"MYSQL_HOST": p.HostName(), "MYSQL_PORT": port, "MYSQL_TCP_PORT": port, "MYSQL_USER": p.User,
		"MYSQL_PASSWORD": p.Password, "MYSQL_DATABASE": p.Database,
	}}
}

// small are settings that keep an idle server near 50 MB. The logs' sizes must be the same at each start: otherwise the
// server rewrites the logs.
var small = map[string]string{
	"innodb-log-file-size": "8M", "aria-log-file-size": "8M", "innodb-buffer-pool-size": "32M",
	"innodb-log-buffer-size":     "2M",
	"aria-pagecache-buffer-size": "8M", "key-buffer-size": "1M", "max-connections": "151", "table-open-cache": "200",
	"table-definition-cache": "400",
	"query-cache-size":       "0", "innodb-buffer-pool-dump-at-shutdown": "0",
	"innodb-buffer-pool-load-at-startup": "0",
	"innodb-temp-data-file-path":         "ibtmp1:2M:autoextend", "innodb-flush-log-at-trx-commit": "2",
	"character-set-server": "utf8mb4", "collation-server": "utf8mb4_unicode_ci",
}

func (mariadb) Files(p kind.Part) ([]kind.File, error) {
	if p.Outside != "" {
		return clients(p), nil
	}
	set := maps.Clone(small)
	maps.Copy(set, map[string]string{
		"datadir": p.Data, "socket": p.Socket, "port": fmt.Sprint(p.Port), "bind-address": kind.Host,
		"pid-file": filepath.Join(p.Temp, "mariadb.pid"), "tmpdir": p.Temp,
	})
	for name, value := range p.Want.Settings {
		set[strings.ReplaceAll(name, "_", "-")] = string(value)
	}
	var b strings.Builder
	b.WriteString("[mariadbd]\n")
	for _, name := range slices.Sorted(maps.Keys(set)) {
		fmt.Fprintf(&b, "%s = \"%s\"\n", name, strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(set[name]))
	}
	return append([]kind.File{{Name: "my.cnf", Text: b.String(), Mode: 0o600}}, clients(p)...), nil
}

func (mariadb) Command(p kind.Part) kind.Command {
	return kind.Command{
		Path: p.Program,
		Args: []string{"--defaults-file=" + filepath.Join(p.Conf, "my.cnf")},
		Dir:  p.Conf,
		Env:  p.Env,
		Stop: syscall.SIGTERM,
	}
}

// admin is the database's administrator: the operating-system user, over the socket, without a password.
func admin() (string, error) { return account.Name() }

func (mariadb) Template(kind.Part) string {
	name, _ := admin()
	return "admin=" + name + " log=" + small["innodb-log-file-size"] + " collation=" + small["collation-server"]
}

// Fill creates the system tables with the server's own bootstrap. The administrator is the only account: there is no
// root with a password, no anonymous user and no test database. Nothing is synced here: a template is synced as a
// whole.
func (mariadb) Fill(ctx context.Context, p kind.Part, dir string) error {
	name, err := admin()
	if err != nil {
		return err
	}
	var sqlText bytes.Buffer
	quoted := strings.ReplaceAll(name, "'", "''")
	fmt.Fprintf(&sqlText, "create database mysql;\nuse mysql;\nSET @auth_root_socket='%s';\n", quoted)
	for _, file := range systemTables(p.Facts[factShare]) {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		sqlText.Write(text)
		sqlText.WriteByte('\n')
	}
	// These statements also create root accounts. Delete all but the administrator's.
	fmt.Fprintf(&sqlText, "DELETE FROM mysql.global_priv WHERE User IN ('root', '') AND User <> '%s';\n", quoted)
	args := []string{"--no-defaults", "--bootstrap", "--datadir=" + dir, "--tmpdir=" + p.Temp,
		"--innodb-flush-method=nosync",
		"--character-set-server=" + small["character-set-server"], "--collation-server=" + small["collation-server"],
		"--innodb-log-file-size=" + small["innodb-log-file-size"],
		"--aria-log-file-size=" + small["aria-log-file-size"],
		"--innodb-buffer-pool-size=32M", "--skip-networking", "--lc-messages-dir=" + p.Facts[factShare]}
	cmd := exec.CommandContext(ctx, p.Program, args...)
	cmd.Stdin = &sqlText
	cmd.Dir, cmd.Env = dir, []string{"LC_ALL=C"}
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("filling the data folder: %w: %s", err, mariadb{}.LastWords(string(out)))
	}
	return nil
}

// connect logs in over a connection that dial makes. The caller must close what it returns.
func connect(ctx context.Context, dial func(context.Context) (net.Conn, error), userName, password,
	database string) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.Net, c.Addr, c.User, c.Passwd, c.DBName = "tcp", kind.Host, userName, password, database
	c.DialFunc = func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) }
	c.Timeout, c.ReadTimeout, c.WriteTimeout = health.Deadline, health.Deadline, health.Deadline
	c.Logger = quiet{}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(1)
	if err := db.PingContext(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// tooManyConnections is the server's error number for a log-in beyond the limit (mariadb.com, "Error 1040").
const tooManyConnections = 1040

// adminPatience is how long to wait for the administrator's own connection.
const adminPatience = 2 * time.Second

// connectAdmin logs in as the administrator over the socket. Beyond its limit, the server keeps one connection for an
// administrator (mariadb.com, "max_connections": CONNECTION ADMIN). If another process of Dravit has it, connectAdmin
// waits.
func connectAdmin(ctx context.Context, p kind.Part, name string) (*sql.DB, error) {
	for end := time.Now().Add(adminPatience); ; {
		db, err := connect(ctx, health.Dial("unix", p.Socket), name, "", "")
		var refused *mysql.MySQLError
		if !errors.As(err, &refused) || refused.Number != tooManyConnections || time.Now().After(end) {
			return db, err
		}
		if proc.Sleep(ctx, 20*time.Millisecond) != nil {
			return nil, err
		}
	}
}

// quiet discards the driver's own log: every error is also returned.
type quiet struct{}

func (quiet) Print(...any) {}

// Prepare creates the database, and the application's account with the stack's password.
func (mariadb) Prepare(ctx context.Context, p kind.Part) error {
	name, err := admin()
	if err != nil {
		return err
	}
	db, err := connectAdmin(ctx, p, name)
	if err != nil {
		return fmt.Errorf("the administrator %s cannot log in: %w", name, err)
	}
	defer db.Close()
	if p.UpgradeFrom != "" {
		if err := upgrade(ctx, p, name); err != nil {
			return err
		}
	}
	lit := dialect.Literal
	statements := []string{"CREATE DATABASE IF NOT EXISTS " + dialect.Name(p.Database)}
	for _, host := range accountHosts {
		who := lit(p.User) + "@" + lit(host)
		by := "IDENTIFIED BY " + lit(p.Password)
		if p.User == name { // the administrator's account stays as it is
			by = "IDENTIFIED VIA unix_socket OR mysql_native_password USING PASSWORD(" + lit(p.Password) + ")"
		}
		statements = append(statements,
			"CREATE USER IF NOT EXISTS "+who,
			"ALTER USER "+who+" "+by,
			"GRANT ALL PRIVILEGES ON "+inDatabase(p)+" TO "+who)
	}
	for _, s := range statements {
		if _, err := db.ExecContext(ctx, s); err != nil {
			return fmt.Errorf("preparing the database: %w", err)
		}
	}
	return nil
}

// upgrade updates the system tables of an older version. Once done, it does nothing: the program leaves a note in the
// data folder.
func upgrade(ctx context.Context, p kind.Part, admin string) error {
	if p.Facts[factUpgrade] == "" {
		return nil // the server also runs on the older tables
	}
	cmd := exec.CommandContext(ctx, p.Facts[factUpgrade], "--no-defaults", "--protocol=socket",
		"--socket="+p.Socket, "--user="+admin, "--silent")
	cmd.Dir, cmd.Env = p.Temp, []string{"LC_ALL=C", "PATH=" + filepath.Dir(p.Facts[factUpgrade]) + ":/usr/bin:/bin"}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("bringing the system tables up to date: %w: %s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

func (mariadb) Ladder(p kind.Part) []kind.Rung {
	lower, shared := health.LowerRungs(p, "tcp", p.Address())
	var db *sql.DB // greets logs in, works continues in the same session
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
					db.Close()
				}
			}},
		kind.Rung{Name: kind.Works, Ask: func(ctx context.Context) error {
			// Check that the database exists, and that a row is written and read. The table is temporary: only this
			// session sees it.
			var got int
			if p.Outside != "" { // a server of somebody else's: write nothing
				return db.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.tables").Scan(&got)
			}
			for _, statement := range []string{"CREATE TEMPORARY TABLE dravit_probe (n INT)",
				"INSERT INTO dravit_probe VALUES (40), (2)"} {
				if _, err := db.ExecContext(ctx, statement); err != nil {
					return err
				}
			}
			if err := db.QueryRowContext(ctx, "SELECT SUM(n) FROM dravit_probe").Scan(&got); err != nil {
				return err
			}
			if got != 42 {
				return &kind.Miss{Expected: "42", Got: fmt.Sprint(got)}
			}
			return nil
		}})
}

func plain(err error) string {
	var refused *mysql.MySQLError
	if errors.As(err, &refused) {
		return refused.Message
	}
	return health.Plain(err)
}

var errorLine = pattern.New(`(?m)\[ERROR\] (?:\S*mariadbd: )?(.*)$`)

// LastWords returns the first error of the last start in a log: the errors after it follow from it.
func (mariadb) LastWords(log string) string {
	if i := strings.LastIndex(log, "starting as process"); i >= 0 {
		log = log[i:]
	}
	m := errorLine().FindStringSubmatch(log)
	if m == nil {
		return ""
	}
	return m[1]
}

// symptoms match what the server writes when something is wrong.
func symptoms() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.SettingRefused, pattern.New(`unknown (?:variable|option) '([^']+)'`),
			"MariaDB does not know the setting $1", "correct the part's settings in dravit.toml"),
		kind.When(cause.SettingRefused, pattern.New(`(Error while setting value '[^']*' to '[^']*')`),
			"MariaDB rejects a setting: $1", "correct the part's settings in dravit.toml"),
		kind.When(cause.DataLocked, pattern.New(`Can't lock aria control file|Unable to lock \S+ibdata1`),
			"another MariaDB uses this data folder", "stop it; dravit ports and ps show which one it is"),
		kind.When(cause.DataUnreadable, pattern.New(`((?:Can't change dir to|Can't create/write to file|`+
			`Can't open file:?|Can't create test file|The data file|Cannot open datafile|`+
			`Could not open)[^\n]*(?:Errcode: 13|Permission denied|must be writable))`),
			"MariaDB may not write to its data folder: $1",
			"give it back to your account: chown -R and chmod -R u+rwX"),
		kind.When(cause.DiskFull, pattern.New(`(Errcode: 28[^\n]*|No space left on device|Disk is full|`+
			`aborted with error Out of disk)`),
			"there is no free space for the data", "free some space (df -h, df -i)"),
		kind.When(cause.DataDamaged, pattern.New(`(Invalid (?:redo )?log header[^\n]*|`+
			`Unknown/unsupported storage engine: InnoDB|Missing FILE_CHECKPOINT|[Cc]orrupt(?:ion|ed)? [^\n]*|`+
			`is corrupted|Table 'mysql\.\w+' doesn't exist|Could not open mysql\.\w+ table|`+
			`Can't open and lock privilege tables[^\n]*|[Uu]nsupported redo log format|Header checksum mismatch|`+
			`File \S+ was not found|Operating system error number 2 )`),
			"the data are damaged or incomplete: $1",
			"restore a copy; or, to start with an empty database, dravit stop and move the part's data folder away"),
		kind.When(cause.PortTaken, pattern.New(`(Can't start server: Bind on TCP/IP port[^\n]*)`),
			"the port was taken: $1", "dravit start, which uses another port unless it is pinned"),
		kind.When(cause.TooManyOpenFiles,
			pattern.New(`(Errcode: 24|`+kind.TooManyFiles+`|Could not increase number of max_open_files)`),
			"the process has reached its limit of open files",
			kind.MoreFiles),
		kind.When(cause.MemoryLimit,
			pattern.New(`(Cannot allocate memory for the buffer pool|mmap\(\d+ bytes\) failed|Out of memory)`),
			"it got no memory: $1",
			"a smaller innodb_buffer_pool_size in the part's settings, or stop other programs"),
	}
}

func (mariadb) DeepChecks(p kind.Part) []kind.DeepCheck {
	return health.SQLDeepChecks(func(ctx context.Context) (*sql.DB, error) {
		db, err := connect(ctx, health.Dial("tcp", p.Address()), p.User, p.Password, p.Database)
		if err != nil {
			return nil, &kind.Miss{Expected: "a log-in as " + p.User, Got: plain(err)}
		}
		return db, nil
	})
}
