package webrules

// What no web server of Dravit's gives away, as regular expressions that Go, nginx and Apache read alike. They are
// matched with the path of an address, decoded, from its first slash on.
const (
	// WellKnown begins the addresses below which other programs put files for the world (RFC 8615). Dot files and
	// scripts there are as hidden as elsewhere.
	WellKnown = "/.well-known/"

	// SecretPattern matches stack files, databases and dumps, and the copies that editors and people leave of any file.
	SecretPattern = `(?i)(^|/)(dravit(\.local)?\.toml[^/]*|[^/]*~|[^/]*\.(bak|orig|save|sw[a-p])|` +
		`[^/]*\.(sql|dump|sqlite3?|db3?)([^a-z0-9/][^/]*)?)$`

	// ScriptPattern matches PHP source under each of its names. A site with a runtime runs .php, and nothing else of
	// it.
	ScriptPattern = `(?i)\.(php[0-9]*|pht|phtml|phps|phar)(/|$)`
)
