package stackfile

import "strings"

// Words that people write for kinds and keys, with what these are called in a stack file.
var (
	kindWords = map[string]string{
		"mysql":      "mariadb",
		"mysqld":     "mariadb",
		"mariadbd":   "mariadb",
		"postgresql": "postgres",
		"pgsql":      "postgres",
		"pg":         "postgres",
		"httpd":      "apache",
		"apache2":    "apache",
		"sqlite3":    "sqlite",
		"nodejs":     "node",
		"php-fpm":    "php",
		"fpm":        "php",
		"python3":    "python",
		"valkey":     "redis",
		"memcache":   "memcached",
		"mail":       "dravit-mail",
		"smtp":       "dravit-mail",
		"cache":      "redis, memcached or dravit-cache",
		"web":        "nginx, apache or dravit-web",
		"database":   "mariadb, postgres or sqlite",
		"worker":     "custom, with a command",
		"command":    "custom, with a command",
		"app":        "php, node, python, ruby or custom",
	}
	topWords = map[string]string{
		"parts":       "[part.NAME]",
		"service":     "[part.NAME]",
		"services":    "[part.NAME]",
		"sites":       "[[site]]",
		"host":        "[[site]] with a name",
		"domain":      "[[site]] with a name",
		"domains":     "[[site]] with a name",
		"php":         "[part.app] with kind = \"php\"",
		"node":        "[part.app] with kind = \"node\"",
		"database":    "[part.db] with kind = \"mariadb\"",
		"environment": "[env]",
		"env_file":    "dotenv",
		"tasks":       "[[task]]",
		"version":     "a version of its own for each part: [part.NAME] version = \"...\"",
	}
	partWords = map[string]string{
		"type":           "kind",
		"cmd":            "command",
		"run":            "command",
		"exec":           "command",
		"script":         "command",
		"entrypoint":     "command",
		"depends_on":     "uses",
		"needs":          "uses",
		"requires_parts": "uses",
		"config":         "settings",
		"ini":            "settings",
		"options":        "settings",
		"db":             "database",
		"dbname":         "database",
		"username":       "user",
		"modules":        "extensions",
		"xdebug":         "debugger",
		"ports":          "port",
		"password": "no key: Dravit makes the passwords, and commands get them from the " +
			"environment (dravit run -- env)",
		"host": "no key: every part listens on 127.0.0.1; for a server that somebody else runs: outside = " +
			"\"127.0.0.1:3306\"",
		"name":   "no key: the part's name is in that of its table, [part.NAME]",
		"env":    "[env], for the whole stack",
		"root":   "root of a [[site]]",
		"domain": "name of a [[site]]",
	}
	siteWords = map[string]string{
		"domain":        "name (served as NAME.localhost), aliases, or suffix",
		"hostname":      "name (served as NAME.localhost)",
		"host":          "name (served as NAME.localhost)",
		"server_name":   "name, and aliases",
		"domains":       "aliases",
		"tld":           "suffix",
		"ssl":           "no key: every site answers over HTTPS, too (dravit names)",
		"https":         "no key: every site answers over HTTPS, too (dravit names)",
		"tls":           "no key: every site answers over HTTPS, too (dravit names)",
		"certificate":   "no key: dravit names certificate on",
		"php":           "app = \"PART\", a part of kind php",
		"runtime":       "app = \"PART\"",
		"backend":       "app = \"PART\"",
		"upstream":      "app = \"PART\"",
		"proxy":         "app = \"PART\"",
		"part":          "app = \"PART\"",
		"docroot":       "root",
		"document_root": "root",
		"webroot":       "root",
		"path":          "root",
		"folder":        "root",
		"public":        "root",
		"port":          "no key: all sites share the gateway's port (dravit names)",
		"folders":       "each",
	}
)

// called returns what a word is called in a stack file, or "" if it is not known.
func called(words map[string]string, word string) string {
	meant := words[strings.ToLower(strings.ReplaceAll(word, "-", "_"))]
	if meant == "" {
		meant = words[strings.ToLower(word)]
	}
	switch {
	case meant == "":
		return ""
	case strings.HasPrefix(meant, "no key: "):
		return strings.TrimPrefix(meant, "no key: ")
	}
	return "here that is called " + meant
}
