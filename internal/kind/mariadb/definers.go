package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"dravit/internal/kind"
)

// giveAway makes the application's user the definer of what the account of loads created: views, triggers, routines and
// events act with the rights of their definer (mariadb.com, "SQL SECURITY").
func giveAway(ctx context.Context, p kind.Part) error {
	return withAdmin(ctx, p, func(db *sql.DB) error {
		conn, err := db.Conn(ctx)
		if err != nil {
			return err
		}
		defer conn.Close()
		g := giver{conn: conn, part: p, from: loader + "@" + loaderHost,
			to: dialect.Literal(p.User) + "@" + dialect.Literal(accountHosts[0])}
		for _, step := range []func(context.Context) error{g.views, g.triggers, g.routines, g.events} {
			if err := step(ctx); err != nil {
				return fmt.Errorf("giving what was loaded to the application's user: %w", said(err))
			}
		}
		return nil
	})
}

type giver struct {
	conn *sql.Conn
	part kind.Part
	from string // the definer, as the server writes it
	to   string // as a statement writes it
}

// name returns the name of something in the database, as a statement writes it.
func (g giver) name(of string) string { return dialect.Name(g.part.Database) + "." + dialect.Name(of) }

func (g giver) run(ctx context.Context, statement string) error {
	_, err := g.conn.ExecContext(ctx, statement)
	return err
}

func (g giver) views(ctx context.Context) error {
	found, err := texts(ctx, g.conn, "SELECT TABLE_NAME, ALGORITHM, SECURITY_TYPE, VIEW_DEFINITION, CHECK_OPTION FROM "+
		"information_schema.VIEWS WHERE TABLE_SCHEMA = ? AND DEFINER = ?", g.part.Database, g.from)
	if err != nil {
		return err
	}
	for _, v := range found {
		statement := "ALTER ALGORITHM = " + v[1] + " DEFINER = " + g.to + " SQL SECURITY " + v[2] + " VIEW " +
			g.name(v[0]) + " AS " + v[3]
		if v[4] != "NONE" {
			statement += " WITH " + v[4] + " CHECK OPTION"
		}
		if err := g.run(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// triggers are dropped and created again in their order, as their definer cannot be changed.
func (g giver) triggers(ctx context.Context) error {
	found, err := texts(ctx, g.conn, "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ? "+
		"AND DEFINER = ? ORDER BY EVENT_OBJECT_TABLE, EVENT_MANIPULATION, ACTION_TIMING, ACTION_ORDER", g.part.Database,
		g.from)
	if err != nil || len(found) == 0 {
		return err
	}
	if err := g.run(ctx, "USE "+dialect.Name(g.part.Database)); err != nil {
		return err
	}
	var statements []string
	for _, t := range found {
		// Trigger, sql_mode, SQL Original Statement, character_set_client, collation_connection, ...
		shown, err := texts(ctx, g.conn, "SHOW CREATE TRIGGER "+g.name(t[0]))
		if err != nil {
			return err
		}
		s := shown[0]
		text := strings.Replace(s[2], "DEFINER="+dialect.Name(loader)+"@"+dialect.Name(loaderHost), "DEFINER="+g.to, 1)
		statements = append(statements, "SET SESSION sql_mode = "+dialect.Literal(s[1]),
			"SET NAMES "+s[3]+" COLLATE "+s[4], text)
		if err := g.run(ctx, "DROP TRIGGER "+g.name(t[0])); err != nil {
			return err
		}
	}
	for _, s := range append(statements, "SET SESSION sql_mode = DEFAULT", "SET NAMES utf8mb4") {
		if err := g.run(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// routines are rows of a system table: ALTER PROCEDURE cannot change their definer (mariadb.com, "mysql.proc Table").
func (g giver) routines(ctx context.Context) error {
	_, err := g.conn.ExecContext(ctx, "UPDATE mysql.proc SET definer = ? WHERE db = ? AND definer = ?",
		g.part.User+"@"+accountHosts[0], g.part.Database, g.from)
	return err
}

func (g giver) events(ctx context.Context) error {
	found, err := texts(ctx, g.conn, "SELECT EVENT_NAME, ON_COMPLETION FROM information_schema.EVENTS WHERE "+
		"EVENT_SCHEMA = ? AND DEFINER = ?", g.part.Database, g.from)
	if err != nil {
		return err
	}
	for _, e := range found {
		statement := "ALTER DEFINER = " + g.to + " EVENT " + g.name(e[0]) + " ON COMPLETION " + e[1]
		if err := g.run(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// texts returns the rows of a query as texts. NULL is "".
func texts(ctx context.Context, db interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}, query string, args ...any) ([][]string, error) {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var all [][]string
	for rows.Next() {
		values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		row := make([]string, len(columns))
		for i, v := range values {
			row[i] = v.String
		}
		all = append(all, row)
	}
	return all, rows.Err()
}
