package postgres

import (
	"context"
	"errors"
	"slices"

	"github.com/jackc/pgx/v5/pgconn"
)

// inside are extensions that reach nothing outside of their database, though their makers leave their creation to
// administrators. Those that PostgreSQL calls trusted are allowed, too (postgresql.org, "CREATE EXTENSION").
var inside = []string{
	"address_standardizer", "address_standardizer_data_us", "bloom", "btree_gin", "btree_gist", "citext", "cube",
	"dict_int", "dict_xsyn", "earthdistance", "fuzzystrmatch", "h3", "hll", "hstore", "hypopg", "intarray", "ip4r",
	"isn", "lo", "ltree", "pg_hint_plan", "pg_stat_statements", "pg_trgm", "pgcrypto", "pgrouting", "pgtap", "plpgsql",
	"postgis", "postgis_tiger_geocoder", "postgis_topology", "rum", "seg", "semver", "tablefunc", "tcn",
	"temporal_tables", "timescaledb", "tsm_system_rows", "tsm_system_time", "unaccent", "unit", "uuid-ossp", "vector",
}

// createExtension creates an extension for a dump, as the administrator. It returns why that is impossible, or "". One
// that could open files, connect to other servers or run code of any kind is not created.
func createExtension(ctx context.Context, admin *pgconn.PgConn, name string) string {
	if !slices.Contains(inside, name) && !trusted(ctx, admin, name) {
		r := admin.ExecParams(ctx, "SELECT 1 FROM pg_catalog.pg_available_extensions WHERE name = $1",
			[][]byte{[]byte(name)}, nil, nil, nil).Read()
		if r.Err == nil && len(r.Rows) == 0 {
			return "this server does not have it"
		}
		return "it reaches beyond the database"
	}
	_, err := admin.Exec(ctx, "CREATE EXTENSION IF NOT EXISTS "+id(name)).ReadAll()
	var refused *pgconn.PgError
	switch {
	case errors.As(err, &refused) && (refused.Code == "58P01" || refused.Code == "0A000"):
		return "this server does not have it"
	case err != nil:
		return plain(err)
	}
	return ""
}

// trusted reports whether PostgreSQL says so of an extension. Before version 13 it says so of none.
func trusted(ctx context.Context, admin *pgconn.PgConn, name string) bool {
	r := admin.ExecParams(ctx, "SELECT 1 FROM pg_catalog.pg_available_extension_versions WHERE name = $1 AND trusted",
		[][]byte{[]byte(name)}, nil, nil, nil).Read()
	return r.Err == nil && len(r.Rows) > 0
}
