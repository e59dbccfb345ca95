package postgres

import "dravit/internal/kind"

// signs are how a project tells that it needs such a part.
var signs = kind.Signs{
	Part:  "db",
	Names: []string{"postgres", "postgresql", "pgsql", "postgis"},
	Packages: []string{"composer:ext-pgsql", "composer:ext-pdo_pgsql", "npm:pg", "npm:postgres",
		"npm:pg-promise", "python:psycopg", "python:psycopg2", "python:psycopg2-binary",
		"python:asyncpg", "python:pg8000", "gem:pg", "go:github.com/lib/pq",
		"go:github.com/jackc/pgx/v4", "go:github.com/jackc/pgx/v5", "go:gorm.io/driver/postgres",
		"maven:postgresql", "nuget:npgsql", "nuget:npgsql.entityframeworkcore.postgresql"},
	Extensions: []string{"pgsql", "pdo_pgsql"},
	Driver:     "pdo_pgsql",
	DataSource: "pgsql:host={db.host};port={db.port};dbname={db.database}",
	Variables:  []string{"PG", "POSTGRES", "POSTGRESQL"},
	Port:       5432,
}
