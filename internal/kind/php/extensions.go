package php

import (
	"slices"
	"strings"
)

// standard are the extensions that PHP's own build makes without being asked (php.net, "Extension list/categorization").
// Some systems ship them as files; a project may take them for granted.
var standard = []string{"ctype", "dom", "fileinfo", "iconv", "opcache", "pdo", "phar", "posix", "simplexml", "sqlite3", "pdo_sqlite", "tokenizer", "xml", "xmlreader", "xmlwriter"}

// debuggers slow every page down and are loaded only where they are asked for.
var debuggers = []string{"xdebug", "pcov"}

// engine extensions hook into the engine itself and are loaded by another word of the ini file.
var engine = map[string]bool{"opcache": true, "xdebug": true}

// needs says which extensions must be loaded before another: their symbols are used while it loads.
var needs = map[string][]string{
	"mysqli": {"mysqlnd"}, "pdo_mysql": {"pdo", "mysqlnd"}, "pdo_sqlite": {"pdo"}, "pdo_pgsql": {"pdo"}, "pdo_odbc": {"pdo"}, "pdo_dblib": {"pdo"}, "pdo_firebird": {"pdo"},
	"xmlreader": {"dom"}, "xsl": {"dom"}, "dom": {"xml"}, "wddx": {"xml"}, "simplexml": {"xml"}, "xmlwriter": {"xml"},
	"redis": {"igbinary", "msgpack"}, "memcached": {"igbinary", "msgpack"}, "phar": {"hash"}, "soap": {"xml"},
}

// canonical is an extension's name as its file has it: OPcache calls itself Zend OPcache, others begin with a capital.
func canonical(name string) string {
	if name == "Zend OPcache" {
		return "opcache"
	}
	return strings.ToLower(name)
}

// extensions returns which extension files to load, in order, and which wanted ones are neither built in nor a file. A nil list
// wants every file but the debuggers.
func extensions(want []string, facts map[string]string) (load, missing []string) {
	builtin, available := strings.Fields(facts[factBuiltin]), strings.Fields(facts[factAvailable])
	slices.Sort(available)
	var wanted []string
	for _, name := range standard {
		if slices.Contains(available, name) {
			wanted = append(wanted, name)
		}
	}
	if want == nil {
		for _, name := range available {
			if !slices.Contains(debuggers, name) {
				wanted = append(wanted, name)
			}
		}
	}
	for _, name := range want {
		if name = canonical(name); !slices.Contains(builtin, name) && !slices.Contains(available, name) {
			missing = append(missing, name)
		}
		wanted = append(wanted, name)
	}
	var add func(name string)
	add = func(name string) {
		if slices.Contains(load, name) || slices.Contains(builtin, name) || !slices.Contains(available, name) {
			return
		}
		for _, first := range needs[name] {
			add(first)
		}
		load = append(load, name)
	}
	for _, name := range wanted {
		add(name)
	}
	return load, missing
}
