package postgres

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/dump"
)

// lines are a dump of a newer release and of other owners, each with what becomes of it.
var lines = []struct{ in, out string }{
	{"\\restrict abc\n", "\n"},
	{"--\n-- PostgreSQL database dump\n--\n\n", "--\n-- PostgreSQL database dump\n--\n\n"},
	{"SET statement_timeout = 0;\n", "SET statement_timeout = 0;\n"},
	{"SET transaction_timeout = 0;\n", "\n"},
	{
		"SELECT pg_catalog.set_config('search_path', '', false);\n",
		"SELECT pg_catalog.set_config('search_path', '', false);\n",
	},
	{"CREATE DATABASE quay WITH TEMPLATE = template0\n ENCODING = 'UTF8';\n", "\n\n"},
	{"ALTER DATABASE quay OWNER TO \"harbour master\";\n", "\n"},
	{"\\connect quay\n", "\n"},
	{"CREATE SCHEMA public;\n", "CREATE SCHEMA IF NOT EXISTS public;\n"},
	{"CREATE EXTENSION IF NOT EXISTS postgis WITH SCHEMA public;\n", "\n"},
	{"COMMENT ON EXTENSION postgis IS 'seas';\n", "\n"},
	{"CREATE EXTENSION IF NOT EXISTS \"uuid-ossp\" WITH SCHEMA public;\n", "\n"},
	{
		"CREATE FUNCTION public.f() RETURNS trigger LANGUAGE plpgsql AS $$\nBEGIN\n",
		"CREATE FUNCTION public.f() RETURNS trigger " +
			"LANGUAGE plpgsql AS $$\nBEGIN\n",
	},
	{"GRANT ALL ON boats TO keel;\n", "GRANT ALL ON boats TO keel;\n"},
	{"END $$;\n", "END $$;\n"},
	{"ALTER FUNCTION public.f() OWNER TO \"harbour master\";\n", "\n"},
	{"UPDATE boats\nSET name = 'x';\n", "UPDATE boats\nSET name = 'x';\n"},
	{"COPY public.boats (name) FROM stdin;\n", "COPY public.boats (name) FROM stdin;\n"},
	{"GRANT is a row\n\\.\n", "GRANT is a row\n\\.\n"},
	{"GRANT SELECT ON TABLE public.boats TO keel;\n", "\n"},
	{"\\unrestrict abc\n", "\n"},
}

func TestForHere(t *testing.T) {
	var in, want strings.Builder
	for _, c := range lines {
		in.WriteString(c.in)
		want.WriteString(c.out)
	}
	var left dump.Left
	got, err := io.ReadAll(forHere(strings.NewReader(in.String()), server{
		parameters: map[string]bool{"statement_timeout": true},
		extension: func(name string) string {
			if name == "uuid-ossp" {
				return ""
			}
			return "this server does not have it"
		},
	}, &left))
	require.NoError(t, err)
	assert.Equal(t, want.String(), string(got))
	assert.Equal(
		t,
		[]string{"the creation of its database", "the owner harbour master: all belongs to the application's user",
			"the extension postgis: this server does not have it", "rights (GRANT)"},
		left.Out,
	)
}
