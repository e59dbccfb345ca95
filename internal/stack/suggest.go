package stack

import "dravit/internal/confined"

// suggestions are commands that the files of a project suggest, by the cause that they remove (docs/causes.md). The
// first file that exists counts.
var suggestions = []struct{ cause, file, command string }{
	{"tables-missing", "manage.py", "python3 manage.py migrate"},
	{"tables-missing", "artisan", "php artisan migrate --force"},
	{"tables-missing", "bin/rails", "bin/rails db:prepare"},
	{"packages-missing", "composer.json", "composer install"},
	{"packages-missing", "package.json", "npm install"},
	{"packages-missing", "Gemfile", "bundle install"},
	{"packages-missing", "requirements.txt", "python3 -m pip install -r requirements.txt"},
}

// suggested returns, by cause, the commands that the project's own files suggest.
func suggested(dir string) map[string]string {
	out := map[string]string{}
	for _, x := range suggestions {
		if _, known := out[x.cause]; known {
			continue
		}
		if _, err := confined.Stat(dir, x.file); err == nil {
			out[x.cause] = x.command
		}
	}
	return out
}
