package php

import (
	"slices"

	"dravit/internal/kind"
)

// packages says how Debian-format repositories have PHP: a package for each series, and further ones with extensions.
func packages() kind.Packages {
	p := kind.Packages{
		Servers:   []string{`php(\d+\.\d+)-fpm`},
		Program:   "usr/sbin/php-fpm{series}",
		With:      []string{"php{series}-cli", "php{series}-opcache"},
		Extension: packagesOf,
		Args:      []string{"-d", "extension_dir={tree}/usr/lib/php/20*"},
		ArgsOf:    "php",
		Env:       []string{"PHP_BINARY={tree}/usr/bin/php{series}"}, // for code that runs PHP again
	}
	more := []string{"bcmath", "curl", "gd", "intl", "mbstring", "mysql", "pgsql", "sqlite3", "xml", "zip"}
	for _, name := range more {
		p.With = append(p.With, "php{series}-"+name)
	}
	return p
}

// together are extensions that come in one package.
var together = map[string][]string{
	"mysql":    {"mysqlnd", "mysqli", "pdo_mysql"},
	"pgsql":    {"pgsql", "pdo_pgsql"},
	"sqlite3":  {"sqlite3", "pdo_sqlite"},
	"xml":      {"dom", "simplexml", "xml", "xmlreader", "xmlwriter", "xsl", "wddx"},
	"odbc":     {"odbc", "pdo_odbc"},
	"sybase":   {"pdo_dblib"},
	"firebird": {"pdo_firebird", "interbase"},
}

// inEvery are extensions that every PHP of Debian's has, built in or in the packages that it depends on.
var inEvery = []string{"calendar", "core", "ctype", "date", "exif", "ffi", "fileinfo", "filter", "ftp", "gettext",
	"hash", "iconv", "libxml", "openssl", "pcntl", "pcre", "pdo", "phar", "posix", "random", "readline",
	"reflection", "session", "shmop", "sockets", "sodium", "spl", "standard", "sysvmsg", "sysvsem", "sysvshm",
	"tokenizer", "zlib", "opcache"}

// packagesOf returns the packages that may have an extension for a series. nil: it needs none.
func packagesOf(extension, series string) []string {
	if slices.Contains(inEvery, extension) {
		return nil
	}
	for name, all := range together {
		if slices.Contains(all, extension) {
			return []string{"php" + series + "-" + name}
		}
	}
	names := []string{"php" + series + "-" + extension, "php-" + extension}
	if extension == "json" { // since 8.0 it is built in
		return append(names, "php"+series+"-common")
	}
	return names
}
