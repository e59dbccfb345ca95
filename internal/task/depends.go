package task

import (
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"dravit/internal/pattern"
)

// tools are tools that prepare projects, with the files and folders of a project that their work depends on.
var tools = []struct {
	command func() *regexp.Regexp
	reads   []string
}{
	{pattern.New(`\bcomposer\b.*\b(install|update|i)\b`), []string{"composer.json", "composer.lock"}},
	{pattern.New(`\bnpm\b.*\b(ci|install|i)\b`), []string{"package.json", "package-lock.json"}},
	{pattern.New(`\byarn\b(\s+install)?\s*($|[;&|])`), []string{"package.json", "yarn.lock"}},
	{pattern.New(`\bpnpm\b.*\b(install|i)\b`), []string{"package.json", "pnpm-lock.yaml"}},
	{pattern.New(`\bbundle\b(\s+install)?\s*($|[;&|])`), []string{"Gemfile", "Gemfile.lock"}},
	{pattern.New(`\bpip3?\b.*\binstall\b`), []string{"requirements*.txt", "requirements/*.txt", "pyproject.toml"}},
	{pattern.New(`\b(poetry|uv|pipenv)\b.*\b(install|sync)\b`), []string{"pyproject.toml", "poetry.lock", "uv.lock",
		"Pipfile.lock"}},
	{pattern.New(`\bartisan\b.*\bmigrate\b`), []string{"database/migrations"}},
	{pattern.New(`\bartisan\b.*(\bdb:seed\b|--seed\b)`), []string{"database/seeders", "database/seeds"}},
	{pattern.New(`\bdoctrine:migrations:migrate\b`), []string{"migrations", "src/Migrations"}},
	{pattern.New(`\bphinx\b.*\bmigrate\b`), []string{"db/migrations"}},
	{pattern.New(`\b(rails|rake)\b.*\bdb:(migrate|setup|prepare|schema:load)\b`), []string{"db/migrate",
		"db/schema.rb"}},
	{pattern.New(`\b(rails|rake)\b.*\bdb:(seed|setup)\b`), []string{"db/seeds.rb", "db/seeds"}},
	{pattern.New(`\bmanage\.py\b.*\bmigrate\b`), []string{"migrations", "*/migrations", "*/*/migrations"}},
	{pattern.New(`\bmanage\.py\b.*\bloaddata\b`), []string{"fixtures", "*/fixtures"}},
	{pattern.New(`\balembic\b.*\bupgrade\b`), []string{"alembic/versions", "migrations/versions"}},
	{pattern.New(`\bflask\b.*\bdb\b.*\bupgrade\b`), []string{"migrations/versions"}},
	{pattern.New(`\bprisma\b.*\b(migrate|db push)\b`), []string{"prisma/schema.prisma", "prisma/migrations"}},
	{pattern.New(`\b(knex|sequelize(-cli)?|typeorm|drizzle-kit|node-pg-migrate)\b.*\b(migrat\w*|up|push)\b`),
		[]string{"migrations", "db/migrations", "src/migrations", "drizzle"}},
	{pattern.New(`\b(goose|migrate|dbmate)\b.*\bup\b`), []string{"migrations", "db/migrations"}},
}

// dependsOn returns the files and folders, as patterns below the project's folder, on which a command's work depends:
// what its tool is known to read, and scripts and dumps of the project that the command names.
func dependsOn(command string) []string {
	var all []string
	for _, t := range tools {
		if t.command().MatchString(command) {
			all = append(all, t.reads...)
		}
	}
	for _, word := range strings.FieldsFunc(command, func(r rune) bool {
		return strings.ContainsRune(" \t;&|<>()'\"",
			r)
	}) {
		switch filepath.Ext(word) {
		case ".sql", ".php", ".py", ".rb", ".js", ".sh", ".gz", ".json", ".yml", ".yaml", ".csv":
			if filepath.IsLocal(word) && !strings.ContainsAny(word, "*?[$") && !slices.Contains(all, word) {
				all = append(all, filepath.Clean(word))
			}
		}
	}
	return all
}

// Depends returns a digest of the files on which the task's command depends, as far as that is known without
// if_changed, or "". What cannot be read, or is too much, counts as nothing.
func (t Task) Depends() string {
	if len(t.IfChanged) > 0 {
		return "" // the stack file says it
	}
	known := t
	known.IfChanged = dependsOn(t.Command)
	if len(known.IfChanged) == 0 {
		return ""
	}
	digest, err := known.Digest()
	if err != nil {
		return ""
	}
	return digest
}

// Outdated reports whether files on which the task depends have changed since it ran and succeeded. A task that runs at
// every start, or has its own if_changed, is never outdated.
func (t Task) Outdated(r Record) bool {
	known := t
	known.IfChanged = dependsOn(t.Command)
	return r.Ran() && !r.Failed() && r.Depends != "" && known.Touched(r.At) && r.Depends != t.Depends()
}

// Touched reports whether any file or folder that if_changed names has changed since a time, by its own time alone: a
// quick look before a digest.
func (t Task) Touched(since time.Time) bool {
	since = since.Add(-2 * time.Second) // a file system counts time in steps
	touched, left := false, maxFiles
	for _, glob := range t.IfChanged {
		found, _ := filepath.Glob(filepath.Join(t.Project, glob)) // a pattern that is none finds nothing
		for _, path := range append(found, filepath.Dir(filepath.Join(t.Project, glob))) {
			top := path == filepath.Dir(filepath.Join(t.Project, glob))
			_ = filepath.WalkDir(path, func(path string, d fs.DirEntry, err error) error {
				if left--; err != nil || touched || left < 0 {
					return filepath.SkipAll
				}
				if info, err := d.Info(); err == nil && info.ModTime().After(since) {
					touched = true
				}
				if top {
					return filepath.SkipAll // only whether something was added to it or is gone
				}
				return nil
			})
		}
	}
	return touched
}
