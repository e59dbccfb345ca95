package task

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/stackfile"
)

// A pulled migration, an added package, a changed script: the task that reads it is outdated, and no other.
func TestOutdated(t *testing.T) {
	for command, file := range map[string]string{
		"composer install --no-interaction": "composer.lock",
		"npm ci":                            "package-lock.json",
		"yarn":                              "yarn.lock",
		"bundle install":                    "Gemfile.lock",
		"pip install -r requirements.txt":   "requirements.txt",
		"php artisan migrate --force":       "database/migrations/2026_boats.php",
		"bin/rails db:migrate":              "db/migrate/1_boats.rb",
		"python3 manage.py migrate":         "ferry/migrations/0001_initial.py",
		"npx prisma migrate deploy":         "prisma/migrations/1/migration.sql",
		"php tools/tables.php":              "tools/tables.php",
		"psql -f data/timetable.sql":        "data/timetable.sql",
		"mariadb < 'data/tides.sql'":        "data/tides.sql",
	} {
		dir := t.TempDir()
		x := Task{TaskConfig: stackfile.TaskConfig{Name: "x", Command: command}, Project: dir}
		write := func(name, text string) {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
		}
		write("README.md", "one")
		write(file, "one")
		r := Record{At: time.Now(), Depends: x.Depends()}
		require.NotEmpty(t, r.Depends, command)
		write("README.md", "two")
		assert.False(t, x.Outdated(r), command)
		write(file, "two")
		assert.True(t, x.Outdated(r), command)
		assert.False(t, x.Outdated(Record{}), "it never ran")
		r.How = "it failed"
		assert.False(t, x.Outdated(r), "it runs again anyway")
		x.IfChanged = []string{file}
		assert.Empty(t, x.Depends(), "the stack file says what it depends on")
	}
	for _, command := range []string{"make", "npm run build", "php -r 'echo 1;'", "cat /etc/x.sql", "sh ../x.sh"} {
		assert.Empty(t, Task{TaskConfig: stackfile.TaskConfig{Command: command}, Project: t.TempDir()}.Depends(),
			command)
	}
}
