package postgres

import (
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/dump"
	"dravit/internal/sqltext"
)

// statements are those of a dump of a newer release and of other owners, each with what becomes of it.
var statements = []struct{ in, out string }{
	{"SET statement_timeout = 0", "SET statement_timeout = 0"},
	{"SET transaction_timeout = 0", ""},
	{"SELECT pg_catalog.set_config('search_path', '', false)",
		"SELECT pg_catalog.set_config('search_path', '', false)"},
	{"CREATE DATABASE quay WITH TEMPLATE = template0\n ENCODING = 'UTF8'", ""},
	{"alter  /* x */ database quay OWNER TO \"harbour master\"", ""},
	{"CREATE SCHEMA public", "CREATE SCHEMA IF NOT EXISTS public"},
	{"CREATE EXTENSION IF NOT EXISTS postgis WITH SCHEMA public", ""},
	{"COMMENT ON EXTENSION postgis IS 'seas'", ""},
	{"CREATE EXTENSION IF NOT EXISTS \"uuid-ossp\" WITH SCHEMA public", ""},
	{"CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$\nBEGIN\nGRANT ALL ON boats TO keel;\nEND $$",
		"CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$\nBEGIN\nGRANT ALL ON boats TO keel;\nEND $$"},
	{"ALTER FUNCTION public.f() OWNER TO \"harbour master\"", ""},
	{"UPDATE boats\nSET name = 'x'", "UPDATE boats\nSET name = 'x'"},
	{"GRANT SELECT ON TABLE public.boats TO keel", ""},
}

func TestForHere(t *testing.T) {
	var left dump.Left
	here := server{
		parameters: map[string]bool{"statement_timeout": true},
		extension: func(name string) string {
			if name == "uuid-ossp" {
				return ""
			}
			return "this server does not have it"
		},
	}
	for _, c := range statements {
		in := sqltext.New(strings.NewReader("-- a note; of pg_dump\n"+c.in+";\n"), syntax)
		s, err := in.Next()
		require.NoError(t, err)
		assert.Equal(t, c.out, string(forHere(s, here, &left)))
		_, err = in.Next()
		assert.ErrorIs(t, err, io.EOF, c.in)
	}
	assert.Equal(
		t,
		[]string{"the creation of its database", "settings of its database",
			"the extension postgis: this server does not have it",
			"the owner harbour master: all belongs to the application's user", "rights (GRANT)"},
		left.Out,
	)
}

// What psql would obey is not obeyed, whatever it is.
func TestCommandsForPsql(t *testing.T) {
	for _, text := range []string{`\restrict k`, `\unrestrict k`, `\connect quay`, `\c quay`} {
		assert.NoError(t, (&sender{}).command(text), text)
	}
	for _, text := range []string{`\! id`, `\o |sh`, `\o /tmp/x`, `\w x`, `\set x`, `\ir x`, `\gexec`,
		`\copy t to program 'id'`, `\i /etc/passwd`, `\g |sh`, `\lo_export 1 x`, `\setenv A b`, `\if 1`, `\cd /`,
		`\crosstabview`, `\`, `\restrictx`} {
		assert.ErrorContains(t, (&sender{}).command(text), "a load obeys none", text)
	}
	var in string
	to := &sender{connect: func(name string) (*pgconn.PgConn, error) { in = name; return nil, errors.New("not now") }}
	for text, want := range map[string]string{`\connect quay`: "quay", `\connect "a""b"`: `a"b`,
		`\connect -reuse-previous=on "dbname='it\'s'"`: "it's"} {
		assert.Error(t, to.command(text))
		assert.Equal(t, want, in)
	}
}
