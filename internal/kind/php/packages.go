package php

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/pattern"
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
		EnvUnset:  []string{"PHP_INI_SCAN_DIR={tree}/etc/php/{series}/cli/conf.d"},
		Made:      settingsOf,
	}
	more := []string{"bcmath", "curl", "gd", "intl", "mbstring", "mysql", "pgsql", "sqlite3", "xml", "zip"}
	for _, name := range more {
		p.With = append(p.With, "php{series}-"+name)
	}
	return p
}

var (
	// priority is the first line of a module's settings in Debian's packages: its place in the order of loading.
	priority = pattern.New(`(?m)^;\s*priority=(\d{2})`)
	loads    = pattern.New(`(?m)^\s*(?:zend_)?extension\s*=\s*"?([\w.-]+)`)
)

// settingsOf returns the settings with which a PHP that is started by hand loads every module of its tree, in the order
// of their priorities, as phpenmod (php-common) would make them. The recommended settings for development come first.
func settingsOf(tree fs.FS, series string) (map[string][]byte, error) {
	all := map[string][]byte{}
	put := func(name string, text []byte) {
		for _, sapi := range []string{"cli", "fpm"} {
			all[path.Join("etc/php", series, sapi, "conf.d", name)] = text
		}
	}
	if text, err := fs.ReadFile(tree, "usr/lib/php/"+series+"/php.ini-development"); err == nil {
		put("00-development.ini", text)
	}
	places := []string{"usr/share/php" + series + "-*/*/*.ini", "etc/php/" + series + "/mods-available/*.ini"}
	for _, shape := range places {
		files, err := fs.Glob(tree, shape)
		if err != nil {
			return nil, err
		}
		for _, file := range files {
			text, err := fs.ReadFile(tree, file)
			if err != nil {
				return nil, err
			}
			if m := loads().FindSubmatch(text); m != nil {
				name := strings.TrimSuffix(string(m[1]), ".so") + ".so"
				if found, err := fs.Glob(tree, "usr/lib/php/20*/"+name); err != nil || len(found) == 0 {
					continue // a library was missing for it
				}
			}
			order := "20"
			if m := priority().FindSubmatch(text); m != nil {
				order = string(m[1])
			}
			put(fmt.Sprintf("%s-%s", order, path.Base(file)), text)
		}
	}
	return all, nil
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
