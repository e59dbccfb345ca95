package postgres

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"dravit/internal/dump"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/sqltext"
)

// syntax is how PostgreSQL and its dumps write SQL.
var syntax = sqltext.Syntax{Nested: true, Dollar: true, Bodies: true, Commands: true, Longest: dump.LongestStatement}

// archive is how an archive of pg_dump begins (pg_dump -Fc).
const archive = "PGDMP"

// Load sends the dump's statements to the server itself, as the account of loads: nothing in it reaches a client that
// would obey it. An archive of pg_dump comes through pg_restore. The administrator creates the extensions that the dump
// wants and this server has.
func (postgres) Load(ctx context.Context, p kind.Part, source io.Reader) (left []string, err error) {
	in := bufio.NewReader(source)
	var text io.Reader = in
	if head, _ := in.Peek(len(archive)); string(head) == archive {
		restored, end, err := restore(ctx, p, in)
		if err != nil {
			return nil, err
		}
		defer end()
		text = restored
	}
	var out dump.Left
	err = asLoader(ctx, p, func(loader, admin *pgconn.PgConn) error {
		s := server{parameters: parameters(ctx, admin), extension: func(name string) string {
			return createExtension(ctx, admin, name)
		}}
		l := sender{db: loader, edit: func(x sqltext.Statement) []byte { return forHere(x, s, &out) }}
		return l.run(ctx, text)
	})
	return out.Out, err
}

// loader is the account of loads. It owns the database while a dump is loaded and has no rights elsewhere, so whatever
// the dump says stays in that database. It exists only meanwhile, and nobody knows its password.
const loader = "dravit_load"

// asLoader runs do with a session of the account of loads and one of the administrator, both in the part's database.
// What the account owns then belongs to the application's user, and the account is gone.
func asLoader(ctx context.Context, p kind.Part, do func(loader, admin *pgconn.PgConn) error) error {
	late := context.WithoutCancel(ctx)
	return asAdminIn(ctx, p, func(db *pgconn.PgConn) error {
		if err := dropLoader(ctx, p); err != nil { // of a load that was killed
			return err
		}
		password := rand.Text()
		_, err := db.Exec(ctx, "CREATE ROLE "+loader+" LOGIN PASSWORD "+quote(password)+"; ALTER DATABASE "+
			id(p.Database)+" OWNER TO "+loader).ReadAll()
		if err != nil {
			return err
		}
		session, err := connect(ctx, health.Dial("tcp", p.Address()), loader, password, p.Database)
		if err == nil {
			err = errors.Join(do(session, db), session.Close(late))
		}
		return errors.Join(err, dropLoader(late, p))
	})
}

// dropLoader gives what the account of loads owns to the application's user, and deletes the account.
func dropLoader(ctx context.Context, p kind.Part) error {
	var owns []string
	err := asAdmin(ctx, p, func(db *pgconn.PgConn) error {
		r := db.ExecParams(ctx, `SELECT DISTINCT d.datname FROM pg_roles r LEFT JOIN pg_shdepend s
ON s.refclassid = 'pg_authid'::regclass AND s.refobjid = r.oid LEFT JOIN pg_database d
ON d.oid = s.dbid OR s.dbid = 0 AND s.classid = 'pg_database'::regclass AND d.oid = s.objid
WHERE r.rolname = '`+loader+`'`, nil, nil, nil, nil).Read()
		for _, row := range r.Rows {
			owns = append(owns, string(row[0])) // "" for an account that owns nothing
		}
		if r.Err != nil || len(owns) == 0 {
			return r.Err
		}
		_, err := db.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = '"+loader+
			"'").ReadAll()
		return err
	})
	if err != nil || len(owns) == 0 {
		return err
	}
	for _, name := range owns {
		if name == "" {
			continue
		}
		in := p
		in.Database = name
		err := asAdminIn(ctx, in, func(db *pgconn.PgConn) error {
			_, err := db.Exec(ctx, "REASSIGN OWNED BY "+loader+" TO "+id(p.User)+"; DROP OWNED BY "+loader).ReadAll()
			return err
		})
		if err != nil {
			return err
		}
	}
	return asAdmin(ctx, p, func(db *pgconn.PgConn) error {
		_, err := db.Exec(ctx, "DROP ROLE IF EXISTS "+loader).ReadAll()
		return err
	})
}

// sender sends the statements of a dump to a server.
type sender struct {
	db *pgconn.PgConn
	// edit returns a statement as it is sent, or nil if it is left out.
	edit func(sqltext.Statement) []byte
	// connect returns a session in another database. If nil, what the dump says of others is left out.
	connect func(database string) (*pgconn.PgConn, error)
}

// run sends every statement. The error names the line and has the server's words.
func (l *sender) run(ctx context.Context, text io.Reader) error {
	in := sqltext.New(text, syntax)
	for {
		s, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if s.Command {
			err = l.command(string(s.Text))
		} else if sql := l.edit(s); sql != nil {
			err = l.send(ctx, s, string(sql), in)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return fmt.Errorf("line %d: %w", s.Line+rowOf(err), err)
		}
		in.Escapes = l.db.ParameterStatus("standard_conforming_strings") == "off"
	}
	if l.db.TxStatus() != 'I' {
		return errors.New("the dump breaks off: the transaction that it began does not end")
	}
	return nil
}

func (l *sender) send(ctx context.Context, s sqltext.Statement, sql string, in *sqltext.Scanner) error {
	if strings.ContainsRune(sql, 0) {
		return errors.New("a NUL byte, which PostgreSQL does not take")
	}
	var err error
	if strings.HasPrefix(s.Head(), "COPY ") {
		rows := in.Data()
		if _, err = l.db.CopyFrom(ctx, rows, sql); err == nil {
			_, err = io.Copy(io.Discard, rows)
		}
	} else {
		_, err = l.db.Exec(ctx, sql).ReadAll()
	}
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return &refusal{refused}
	}
	return err
}

// refusal is an error of the server in its own words.
type refusal struct{ *pgconn.PgError }

func (r *refusal) Error() string {
	if r.Detail == "" {
		return r.Message
	}
	return r.Message + ": " + r.Detail
}

var copiedRow = pattern.New(`^COPY .*, line (\d+)`)

// rowOf returns the row of a COPY that the server refuses, from 1, or 0.
func rowOf(err error) int {
	var r *refusal
	if !errors.As(err, &r) {
		return 0
	}
	m := copiedRow().FindStringSubmatch(r.Where)
	if m == nil {
		return 0
	}
	n, _ := strconv.Atoi(m[1])
	return n
}

// harmless are commands for psql that a load can leave out: the guard of newer dumps (pg_dump, "\restrict"), which is
// there for a client that obeys commands, and the change to the dump's own database.
var harmless = pattern.New(`^\\(?:restrict|unrestrict|connect|c)(?:\s|$)`)

var connects = pattern.New(`^\\c(?:onnect)? +(?:-reuse-previous=on +"dbname='(.*)'"|"(.*)"|(\S+)) *$`)

// command obeys or leaves out a command for psql, or refuses it: such commands run programs and open files.
func (l *sender) command(text string) error {
	if m := connects().FindStringSubmatch(text); m != nil && l.connect != nil {
		name := strings.NewReplacer(`\'`, "'", `\\`, `\`).Replace(m[1])
		if m[1] == "" {
			name = strings.ReplaceAll(m[2], `""`, `"`) + m[3]
		}
		db, err := l.connect(name)
		if err != nil {
			return err
		}
		err = l.db.Close(context.Background()) // it says good-bye and waits for nothing
		l.db = db
		return err
	}
	if harmless().MatchString(text) {
		return nil
	}
	command, _, _ := strings.Cut(text, " ")
	return errors.New(command + " is a command for the client psql, and not of the database: a load obeys none")
}

// parameters returns the names of the server's settings, or nil if it does not tell.
func parameters(ctx context.Context, db *pgconn.PgConn) map[string]bool {
	r := db.ExecParams(ctx, "SELECT name FROM pg_catalog.pg_settings", nil, nil, nil, nil).Read()
	if r.Err != nil {
		return nil
	}
	all := map[string]bool{}
	for _, row := range r.Rows {
		all[string(row[0])] = true
	}
	return all
}

// restore runs pg_restore, which turns an archive into SQL. Its reader fails as pg_restore does. The caller must call
// end.
func restore(ctx context.Context, p kind.Part, from io.Reader) (sql io.Reader, end func(), err error) {
	program := filepath.Join(p.Conf, "bin", "pg_restore")
	if _, err := os.Stat(program); err != nil {
		return nil, nil, errors.New("it is an archive of pg_dump, and the client pg_restore is not installed")
	}
	ctx, cancel := context.WithCancel(ctx)
	read, write := io.Pipe()
	var said strings.Builder
	cmd := exec.CommandContext(ctx, program, "--no-owner", "--no-privileges", "-f", "-")
	cmd.Stdin, cmd.Stdout, cmd.Stderr, cmd.Dir, cmd.Env = from, write, &said, p.Conf, p.Env
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if err := cmd.Run(); err != nil {
			write.CloseWithError(fmt.Errorf("pg_restore: %w: %s", err, strings.TrimSpace(said.String())))
			return
		}
		write.Close()
	}()
	return read, func() { cancel(); read.Close(); <-ended }, nil
}
