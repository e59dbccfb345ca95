// Package tool knows which packages carry command-line programs that a project may require, so that Dravit can fetch
// them. They are no kinds of parts.
package tool

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// carried are the packages of each program.
var carried = map[string]kind.Packages{
	"composer": {Servers: []string{"composer"}, Program: "usr/bin/composer", Interpreter: "php",
		Folder: "usr/share/php", Args: []string{"-d", "include_path={tree}/usr/share/php"},
		Env:  []string{"COMPOSER_ALLOW_XDEBUG=1"},
		Left: pattern.New(`^php(\d.*|-(cli|common|curl|intl|json|mbstring|xml|zip))$`)},
	"curl":      {Servers: []string{"curl"}, Program: "usr/bin/curl"},
	"git":       {Servers: []string{"git"}, Program: "usr/bin/git", Env: git},
	"jq":        {Servers: []string{"jq"}, Program: "usr/bin/jq"},
	"make":      {Servers: []string{"make"}, Program: "usr/bin/make"},
	"mysql":     {Servers: []string{`mariadb-client-core(?:-(\d+\.\d+))?`}, Program: "usr/bin/mysql"},
	"openssl":   {Servers: []string{"openssl"}, Program: "usr/bin/openssl"},
	"pg_dump":   {Servers: []string{postgres}, Program: "usr/lib/postgresql/{series}/bin/pg_dump"},
	"psql":      {Servers: []string{postgres}, Program: "usr/lib/postgresql/{series}/bin/psql"},
	"redis-cli": {Servers: []string{"redis-tools"}, Program: "usr/bin/redis-cli"},
	"rsync":     {Servers: []string{"rsync"}, Program: "usr/bin/rsync"},
	"sqlite3":   {Servers: []string{"sqlite3"}, Program: "usr/bin/sqlite3"},
	"wget":      {Servers: []string{"wget"}, Program: "usr/bin/wget"},
}

const postgres = `postgresql-client-(\d+)`

// git says where git finds its other programs and templates (git(1), "Environment Variables").
var git = []string{"GIT_EXEC_PATH={tree}/usr/lib/git-core", "GIT_TEMPLATE_DIR={tree}/usr/share/git-core/templates"}

// Of returns how to fetch the program of that name, and false if no package is known to carry it.
func Of(name string) (kind.Recipe, bool) {
	packages, ok := carried[name]
	return kind.Recipe{Name: name, Packages: packages, Inspect: inspect(name)}, ok
}

// Names returns the names of the programs, sorted.
func Names() []string { return slices.Sorted(maps.Keys(carried)) }

// number and release match the version in what a program prints. MariaDB's client names its own version before that of
// the release.
var (
	number  = pattern.New(`^\D*(\d+(?:\.\d+)+)`)
	release = pattern.New(`(?:Distrib |from )(\d+(?:\.\d+)+)`)
)

// inspect returns how a program is made to say its version (kind.Recipe).
func inspect(name string) func(context.Context, string, func(string, ...string) (string, error)) (
	string, map[string]string, error) {
	arg := "--version"
	if name == "openssl" {
		arg = "version"
	}
	return func(_ context.Context, path string, run func(string, ...string) (string, error)) (
		string, map[string]string, error) {
		out, err := run(path, arg)
		m := release().FindStringSubmatch(out)
		if m == nil {
			m = number().FindStringSubmatch(out)
		}
		if err != nil || m == nil {
			return "", nil, fmt.Errorf("no version in %q: %w", out, err)
		}
		return m[1], nil, nil
	}
}
