package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/logfile"
	"dravit/internal/proc"
	"dravit/internal/sqltext"
)

// upgradePort names the sockets of the two servers. They listen on no network.
const upgradePort = "5432"

// Upgrade runs the older server on the data and the newer one on the folder dir, and gives the newer one what the
// client pg_dumpall says of the older one: every database, with its roles and their passwords.
func (k postgres) Upgrade(ctx context.Context, p kind.Part, dir string) error {
	name, err := admin()
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(p.Conf, "bin", "pg_dumpall")); err != nil {
		return errors.New("the client pg_dumpall, which the upgrade needs, is not installed")
	}
	if err := k.Fill(ctx, p, dir); err != nil {
		return err
	}
	run, err := os.MkdirTemp(filepath.Dir(p.Socket), "up-") // a path short enough for a socket
	if err != nil {
		return err
	}
	defer os.RemoveAll(run)
	older, stopOlder, err := serve(ctx, p, p.UpgradeWith, p.Data, filepath.Join(run, "a"))
	if err != nil {
		return fmt.Errorf("the older server: %w", err)
	}
	// Nothing is lost if it dies: the folder is filled anew, and synced as a whole when it is done.
	newer, stopNewer, err := serve(ctx, p, p.Program, dir, filepath.Join(run, "b"), "fsync=off", "full_page_writes=off",
		"autovacuum=off", "max_wal_size=512MB")
	if err != nil {
		return errors.Join(fmt.Errorf("the newer server: %w", err), stopOlder())
	}
	err = handOver(ctx, p, name, older, newer)
	return errors.Join(err, stopNewer(), stopOlder())
}

// handOver loads what the older server holds into the newer one. Both are named by the folders of their sockets.
func handOver(ctx context.Context, p kind.Part, admin, older, newer string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	// a tablespace would be outside the part's data
	from := exec.CommandContext(ctx, filepath.Join(p.Conf, "bin", "pg_dumpall"), "--no-tablespaces")
	from.Dir = p.Temp
	from.Env = append(slices.Clone(p.Env), "PGHOST="+older, "PGPORT="+upgradePort, "PGUSER="+admin,
		"PGDATABASE=postgres")
	var said bytes.Buffer
	from.Stderr = &said
	out, err := from.StdoutPipe()
	if err != nil {
		return err
	}
	if err := from.Start(); err != nil {
		return err
	}
	loaded := takeOver(ctx, admin, newer, out)
	if loaded != nil {
		cancel() // nobody reads the rest
	}
	dumped := from.Wait()
	switch {
	case loaded != nil:
		return fmt.Errorf("loading: %w", loaded)
	case dumped != nil && said.Len() > 0:
		line, _, _ := strings.Cut(strings.TrimSpace(said.String()), "\n")
		return fmt.Errorf("dumping: %s", line)
	}
	return dumped
}

// takeOver sends what pg_dumpall wrote to the newer server. The names in it may be those of a dump that somebody else
// made, so no client that obeys commands reads it.
func takeOver(ctx context.Context, admin, newer string, from io.Reader) error {
	in := func(database string) (*pgconn.PgConn, error) {
		return connect(ctx, health.Dial("unix", filepath.Join(newer, ".s.PGSQL."+upgradePort)), admin, "", database)
	}
	db, err := in("postgres")
	if err != nil {
		return err
	}
	create := []string{"CREATE ROLE " + admin, "CREATE ROLE " + id(admin)} // it is there
	globals := true
	to := &sender{db: db, edit: func(s sqltext.Statement) []byte {
		if globals && slices.Contains(create, string(s.Text)) {
			return nil
		}
		return s.Text
	}}
	to.connect = func(database string) (*pgconn.PgConn, error) {
		globals = false
		return in(database) // run closes the one before
	}
	defer func() { to.db.Close(context.WithoutCancel(ctx)) }()
	return to.run(ctx, from)
}

// upgradePatience is how long a server may take to recover after a crash, and to stop.
const upgradePatience = 10 * time.Minute

// serve runs a server on a data folder, for the administrator only, with a socket in the folder at, which it creates.
// The caller must call stop, which waits for the server's end. What the server writes goes to the part's log.
func serve(ctx context.Context, p kind.Part, program, dataDir, at string, settings ...string) (
	socketDir string, stop func() error, err error) {
	name, err := admin()
	if err != nil {
		return "", nil, err
	}
	if err := os.Mkdir(at, 0o700); err != nil {
		return "", nil, err
	}
	access := filepath.Join(at, "hba.conf")
	if err := os.WriteFile(access, []byte("local all "+id(name)+" peer\n"), 0o600); err != nil {
		return "", nil, err
	}
	settings = append(settings, "listen_addresses=", "port="+upgradePort, "unix_socket_directories="+at,
		"hba_file="+access, "shared_buffers=32MB", "wal_level=minimal", "max_wal_senders=0", "logging_collector=off",
		"log_destination=stderr", "log_line_prefix=")
	if libraries := p.Want.Settings["shared_preload_libraries"]; libraries != "" {
		settings = append(settings, "shared_preload_libraries="+string(libraries))
	}
	args := []string{"-D", dataDir}
	for _, s := range settings {
		args = append(args, "-c", s)
	}
	greets := func() error {
		db, err := connect(ctx, health.Dial("unix", filepath.Join(at, ".s.PGSQL."+upgradePort)), name, "", "postgres")
		if err != nil {
			return err
		}
		return db.Close(ctx)
	}
	for try := 1; ; try++ {
		stop, err = launch(ctx, p, greets, at, program, args...)
		// The workers of a server that was killed may have its memory for a moment.
		if err == nil || ctx.Err() != nil || try == 5 {
			return at, stop, err
		}
		if proc.Sleep(ctx, 500*time.Millisecond) != nil {
			return "", nil, err
		}
	}
}

// launch starts a server and waits until it greets.
func launch(ctx context.Context, p kind.Part, greets func() error, dir, program string, args ...string) (
	stop func() error, err error) {
	log, err := os.OpenFile(p.Log, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	before := logfile.Size(p.Log)
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = dir, p.Env, log, log
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	stop = func() error {
		_ = cmd.Process.Signal(syscall.SIGINT) // the fast shutdown; it may have ended already
		select {
		case err := <-ended:
			return err
		case <-time.After(upgradePatience):
			_ = cmd.Process.Kill()
			return errors.Join(errors.New("it did not stop"), <-ended)
		}
	}
	for end := time.Now().Add(upgradePatience); ; {
		if err = greets(); err == nil {
			return stop, nil
		}
		select {
		case err := <-ended:
			said, _ := logfile.Since(p.Log, before, lastSaid)
			return nil, fmt.Errorf("%w: %s", err, postgres{}.LastWords(said))
		case <-time.After(50 * time.Millisecond):
		}
		if ctx.Err() != nil || time.Now().After(end) {
			return nil, errors.Join(ctx.Err(), err, stop())
		}
	}
}

// lastSaid is how much of the log is looked at for a server's words, in bytes.
const lastSaid = 64 << 10
