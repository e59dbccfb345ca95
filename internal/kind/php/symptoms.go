package php

import (
	"slices"
	"strings"

	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/pattern"
)

// symptoms match what PHP and its FPM write, in the log and on the page, when something is wrong.
func symptoms() []kind.Symptom {
	return slices.Concat(command.Expired(), command.Certificates(), []kind.Symptom{
		kind.When(cause.ExtensionOtherBuild, pattern.New(`(?:PHP Startup: )?(\S+): Unable to initialize `+
			`module[\s\S]{0,40}Module compiled with module API=(\d+)`),
			"the extension $1 was built for another PHP (API $2)",
			"dravit extensions, which names a file that fits; or remove the path from the part's extensions"),
		kind.When(cause.ExtensionOtherBuild,
			pattern.New(`Unable to load dynamic library '([^']+)'[^\n]*(undefined symbol: \w+|`+
				`version .GLIBC\S+ not found|was built with configuration API\S+)`),
			"the extension file $1 does not fit this PHP: $2", "dravit extensions, which names a file that fits"),
		kind.When(cause.ExtensionFileMissing, pattern.New(`Unable to load dynamic library '([^']+)'`), "the extension "+
			"file $1 cannot be loaded", "install it again, or remove it from the part's extensions; then dravit start"),
		kind.When(cause.SettingRefused, pattern.New(`\[([^\]\n]+:\d+)\] unknown entry '([^']+)'`),
			"FPM does not know the entry $2 in $1", "correct the part's settings in dravit.toml"),
		kind.When(cause.PackagesMissing, pattern.New(`(?:Failed opening required '|failed to open stream: [^\n]*|`+
			`[Ff]ailed to open stream[^\n]*)[^\n']*vendor/autoload\.php`), "the project's packages are not "+
			"installed: vendor/autoload.php does not exist", "dravit run -- composer install"),
		kind.When(cause.PackagesMissing, pattern.New(`require\(([^)]*vendor/autoload\.php)\)`),
			"the project's packages are not installed: $1 does not exist", "dravit run -- composer install"),
	}, extensionSymptoms(), pageSymptoms(), command.Common(), lastSymptoms())
}

// extensionSymptoms match what PHP says of an extension that is not loaded.
func extensionSymptoms() []kind.Symptom {
	const add = "add its extension to the part's extensions in dravit.toml, then dravit start"
	return []kind.Symptom{
		kind.When(cause.ExtensionNotLoaded, pattern.New(`Class "(Redis|Memcached|Imagick|IntlDateFormatter|`+
			`NumberFormatter|Collator|Normalizer|MessageFormatter|PDO|mysqli|SQLite3|SoapClient|DOMDocument|`+
			`ZipArchive|XMLWriter|XMLReader|SimpleXMLElement)" not found`),
			"the application uses the class $1, whose extension is not loaded", add),
		kind.When(cause.ExtensionNotLoaded, pattern.New(`[Cc]all to undefined function (?:\w+\\)*(`+
			`(?:mysqli|pg|intl|numfmt|grapheme|normalizer|collator|mb|curl|gd|sodium|ldap|imap|msgpack|igbinary|`+
			`memcache|gmp|iconv|ctype|simplexml|xml|json|openssl|exif|posix|pcntl|socket|apcu|ftp|tidy|zip|cal|`+
			`yaml|ssh2)_\w+|image(?:create|png|jpeg|copy|color|scale|text|ttf)\w*|`+
			`bc(?:add|sub|mul|div|mod|pow|sqrt|comp|scale|powmod)|utf8_(?:en|de)code|gettext)\(\)`),
			"the application calls $1(), whose extension is not loaded", add),
		kind.When(cause.ExtensionNotLoaded, pattern.New(`could not find driver`),
			"PDO has no driver for the database that the application asks for",
			"add it to the part's extensions (pdo_mysql, pdo_pgsql, pdo_sqlite) in dravit.toml, then dravit start"),
	}
}

// extensions are those that have a class, and those of functions whose names do not begin with theirs.
var extensions = map[string]string{"redis": "redis", "memcached": "memcached", "imagick": "imagick",
	"intldateformatter": "intl", "numberformatter": "intl", "collator": "intl", "normalizer": "intl",
	"messageformatter": "intl", "numfmt": "intl", "grapheme": "intl", "pdo": "pdo", "mysqli": "mysqli",
	"sqlite3": "sqlite3", "soapclient": "soap", "domdocument": "dom", "ziparchive": "zip", "xmlwriter": "xmlwriter",
	"xmlreader": "xmlreader", "simplexmlelement": "simplexml", "pg": "pgsql", "mb": "mbstring", "socket": "sockets",
	"cal": "calendar", "gettext": "gettext", "utf8": "xml"}

// extensionOf implements kind.Traits.
func extensionOf(word string) string {
	first, _, _ := strings.Cut(strings.ToLower(word), "_")
	if name, ok := extensions[first]; ok {
		return name
	}
	switch {
	case strings.HasPrefix(first, "image"):
		return "gd"
	case strings.HasPrefix(first, "bc"):
		return "bcmath"
	}
	return first
}

// pageSymptoms match what the application's own code fails of.
func pageSymptoms() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.VariableMissing, pattern.New(`No application encryption key has been specified`),
			"the application wants the variable APP_KEY, and it is not set",
			"dravit run --part {part} -- php artisan key:generate, which writes it to .env"),
		kind.When(cause.FunctionDisabled,
			pattern.New(`(?:Call to undefined function|has been disabled for security reasons)[^\n]*?\b(exec|`+
				`shell_exec|system|passthru|proc_open|popen|mail)\(\)`), "the function $1() is disabled",
			"remove it from disable_functions in the part's settings"),
		kind.When(cause.MemoryLimit, pattern.New(`Allowed memory size of (\d+) bytes exhausted`),
			"a script needs more memory than memory_limit allows ($1 bytes)",
			`settings = { memory_limit = "512M" } for the part in dravit.toml`),
		kind.When(cause.TimeLimit, pattern.New(`Maximum execution time of (\d+) seconds? exceeded`),
			"a script ran longer than max_execution_time allows ($1 s)",
			`settings = { max_execution_time = 120 } for the part in dravit.toml`),
		kind.When(cause.TimeLimit,
			pattern.New(`script '([^'\n]+)'[^\n]* execution timed out \((\d+)[^)\n]*\), terminating`),
			"the script $1 ran longer than $2 s, and FPM ended it",
			`settings = { max_execution_time = 0 } for the part in dravit.toml allows any time`),
		kind.When(cause.UploadLimit,
			pattern.New(`(?:POST Content-Length of (\d+) bytes exceeds the limit|exceeds the upload_max_filesize)`),
			"an upload is larger than post_max_size or upload_max_filesize allows",
			`settings = { post_max_size = "64M", upload_max_filesize = "64M" } for the part in dravit.toml`),
		kind.When(cause.TablesMissing,
			pattern.New(`(Table '[^']+' doesn't exist|relation "[^"]+" does not exist|no such table: \w+)`),
			"the database exists, but its tables do not: $1",
			"run the application's command that creates them: dravit run -- COMMAND"),
		kind.When(cause.DatabaseMissing, pattern.New(`(Unknown database '[^']+'|database "[^"]+" does not exist)`),
			"the application asks for a database that does not exist: $1",
			"use the name in DB_DATABASE or DATABASE_URL, or give the part database = \"NAME\""),
		kind.When(cause.WrongPassword,
			pattern.New(`(Access denied for user '[^']*'@'[^']*'|password authentication failed for user "[^"]*"|`+
				`NOAUTH Authentication required|WRONGPASS|invalid username-password pair)`),
			"a database or cache rejects the application's user or password: $1",
			"read them from the environment (DATABASE_URL, DB_USER, DB_PASSWORD, REDIS_URL): dravit run -- env"),
		kind.When(cause.StoreElsewhere, pattern.New(`(?:SQLSTATE\[[^\]]*\][^\n]*?|mysqli[^\n]*?|RedisException[^\n]*?|`+
			`Redis[^\n]*?|pg_connect[^\n]*?|PDOException[^\n]*?)(Connection refused|No such file or directory|`+
			`getaddrinfo for \S+ failed|getaddrinfo[^\n<]{0,60}|Name or service not known)`),
			"the application looks for its database or cache where there is none: $1",
			"read host, port and socket from the environment (DB_HOST, DB_PORT, REDIS_URL): dravit run -- env"),
		kind.When(cause.FolderUnwritable, pattern.New(`(?:file_put_contents|fopen|mkdir|move_uploaded_file|touch|`+
			`session_start|copy|rename)\(([^)]*)\)[^\n]*Permission denied`), "the application may not write to $1",
			"name the folder in the stack file, and start prepares it: writable = [\"FOLDER\"] in the php part"),
		kind.When(cause.FolderUnwritable, pattern.New(`mkdir\(\): (?:Permission denied|Read-only file system) in `+
			`([^\s<]+) on line (\d+)`), "the application may not make the folder that it wants in line $2 of $1",
			"name the folder in the stack file, and start prepares it: writable = [\"FOLDER\"] in the php part"),
		kind.When(cause.FolderMissing, pattern.New(`mkdir\(\): No such file or directory in ([^\s<]+) on line (\d+)`),
			"the folder does not exist in which the application makes one in line $2 of $1",
			"give mkdir() there true as its third argument, which makes the folders above it, too"),
		kind.When(cause.FolderMissing, pattern.New(`(?:file_put_contents|mkdir|move_uploaded_file|touch|copy|rename)`+
			`\(([^)]*)\)[^\n]*No such file or directory`), "the application cannot write to $1: its folder is missing",
			"name the folder in the stack file, and start creates it: writable = [\"FOLDER\"] in the php part"),
		kind.When(cause.FileUnreadable, pattern.New(`(?:include|require|include_once|require_once|file_get_contents|`+
			`readfile|Failed opening required|`+
			`Unable to open primary script)[^\n]*?['(: ]([^'()\n]+\.\w+)[^\n]*Permission denied`),
			"PHP may not read $1", "give your account access: chmod u+r, or chown"),
		kind.When(cause.ScriptSyntax, pattern.New(`(?:PHP )?Parse error:\s+([^\n<]+? in [^\n<]+? on line \d+)`),
			"a script has a syntax error: $1", "correct it; php -l checks a file: dravit run -- php -l FILE"),
		kind.When(cause.TooManyOpenFiles, pattern.New(kind.TooManyFiles), "the process has as many files "+
			"open as it may", kind.MoreFiles),
	}
}

// lastSymptoms match errors of which nothing else is known.
func lastSymptoms() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.CodeMissing, pattern.New(`((?:Class|Interface|Trait) "[^"\n]+" not found)`),
			"the code uses what does not exist: $1",
			"correct the name; if its file is there, dravit run -- composer dump-autoload finds it"),
		kind.When(cause.CodeMissing, pattern.New(`(?:Failed opening (?:required )?'|(?:include|require)(?:_once)?\()`+
			`([^'()\n]+\.\w+)[^\n]*(?:No such file or directory|include_path)`), "the file $1, which the code "+
			"includes, does not exist", "correct the path, or add the file"),
		kind.When(cause.ApplicationError, pattern.New(`(?:PHP )?Fatal error:\s+(?:Uncaught )?([^\n<]{1,200})`),
			"the application exited with an error: $1", "correct it; dravit logs {part} has the rest"),
	}
}
