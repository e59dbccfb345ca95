package sqlite

import "dravit/internal/kind"

// signs are how a project tells that it needs such a part.
var signs = kind.Signs{
	Part:  "db",
	Names: []string{"sqlite", "sqlite3"},
	Packages: []string{"composer:ext-sqlite3", "composer:ext-pdo_sqlite", "npm:sqlite3", "npm:better-sqlite3",
		"npm:sqlite", "python:aiosqlite", "gem:sqlite3", "go:github.com/mattn/go-sqlite3",
		"go:modernc.org/sqlite", "go:gorm.io/driver/sqlite", "maven:sqlite-jdbc",
		"nuget:microsoft.data.sqlite", "nuget:microsoft.entityframeworkcore.sqlite"},
	Extensions: []string{"sqlite3", "pdo_sqlite"},
	Driver:     "pdo_sqlite",
	DataSource: "sqlite:{db.database}",
	Variables:  []string{"SQLITE"},
	File:       true,
}
