package webrules

// What no web server of Dravit serves, as regular expressions that Go, nginx and Apache read alike. They are matched
// with the decoded path of a URL, from its first slash on.
const (
	// WellKnown is the path below which other programs put public files (RFC 8615). Dot files and scripts are hidden
	// there, too.
	WellKnown = "/.well-known/"

	// SecretPattern matches stack files and their lock, databases, dumps and archives, source that is only included,
	// and copies of any file that editors and people leave.
	SecretPattern = `(?i)(^|/)(dravit(\.local)?\.(toml|lock)[^/]*|[^/]*~|[^/]*\.(bak|orig|save|sw[a-p])|` +
		`[^/]*\.(inc|mdb|accdb|zip|7z|rar|tar|t[bglx]z|tbz2|tzst|tar\.[a-z0-9]+)|` +
		`[^/]*\.(sql|dump|sqlite3?|db3?)([^a-z0-9/][^/]*)?)$`

	// ScriptPattern matches PHP source under each of its names. A site with a runtime runs .php, and none of the
	// others.
	ScriptPattern = `(?i)\.(php[0-9]*|pht|phtml|phps|phar)(/|$)`
)
