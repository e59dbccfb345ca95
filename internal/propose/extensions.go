package propose

import (
	"maps"
	"slices"
	"strings"

	"dravit/internal/pattern"
)

// demanded reports whether a manifest demands an extension of PHP.
func (d *draft) demanded(extension string) bool {
	return slices.ContainsFunc(d.programs, func(p program) bool {
		_, ok := find(p.packages, "composer:ext-"+strings.ReplaceAll(extension, "_", "-"))
		_, same := find(p.packages, "composer:ext-"+extension)
		return ok || same
	})
}

// writeExtensions writes the extensions that the manifest and the code name.
func (d *draft) writeExtensions(t *Table) {
	needs, wishes := d.code.extensions()
	for _, p := range d.programs {
		for _, x := range p.packages {
			name, ok := strings.CutPrefix(x.name, "composer:ext-")
			name = strings.ReplaceAll(name, "-", "_")
			if ok && !x.dev && !slices.Contains(always, name) && pattern.Of(`^[a-z0-9_]+$`).MatchString(name) {
				needs[name] = x.from
			}
		}
	}
	chosen := d.database.kind
	for name, e := range needs { // the clients of other databases that the code knows
		if kind := spoken[name]; slices.Contains(databases, kind) && kind != chosen {
			wishes[name] = e
			delete(needs, name)
		}
	}
	for name, cache := range cacheOf {
		if e, ok := needs[name]; ok && d.optional(d.all, cache) {
			wishes[name] = e
			delete(needs, name)
		}
	}
	driver := map[string]string{"mariadb": "pdo_mysql", "postgres": "pdo_pgsql", "sqlite": "pdo_sqlite"}
	if d.code.pdo.File != "" && chosen != "" {
		into := needs
		native := map[string]string{"mariadb": "mysqli", "postgres": "pgsql", "sqlite": "sqlite3"}
		if _, other := needs[native[chosen]]; other {
			into = wishes
		}
		if _, known := needs[driver[chosen]]; !known {
			into[driver[chosen]] = d.code.pdo
		}
	}
	for name, e := range needs {
		// one file of many calls it: that page may fail, but the others do not
		once := d.code.files[name] == 1 && d.code.php > 1
		if once && spoken[name] == "" && !slices.Contains(d.machine.Extensions, name) && !d.demanded(name) {
			wishes[name] = e
			delete(needs, name)
		}
	}
	names := slices.Sorted(maps.Keys(needs))
	var missing []string
	for _, name := range slices.Sorted(maps.Keys(wishes)) {
		switch {
		case slices.Contains(names, name):
		case slices.Contains(d.machine.Extensions, name):
			names = append(names, name)
			d.Wishes = append(d.Wishes, name)
		default:
			missing = append(missing, name)
		}
	}
	if len(missing) > 0 {
		t.Notes = append(t.Notes,
			"it would also use these extensions, which this machine lacks: "+strings.Join(missing, ", "))
	}
	if len(names) == 0 {
		return
	}
	slices.Sort(names)
	var from []Evidence
	for _, name := range names {
		e, needed := needs[name]
		if !needed {
			e = wishes[name]
			e.Says += ", if it is there"
		}
		e.Says = name + ": " + e.Says
		from = append(from, e)
	}
	t.add("extensions", names, Certain, from...)
}

// cacheOf is the kind of cache to which an extension speaks.
var cacheOf = map[string]string{"redis": "redis", "memcached": "memcached", "memcache": "memcached"}

// alternatives are extensions of which an application that knows several needs one.
var alternatives = [][]string{{"gd", "imagick"}, {"mysqli", "pdo_mysql"}, {"apcu", "memcached", "memcache"},
	{"gmp", "bcmath"}, {"pgsql", "pdo_pgsql"}, {"sqlite3", "pdo_sqlite"}}

// always are the extensions that every usual build of PHP has.
var always = []string{"ctype", "fileinfo", "iconv", "pdo", "phar", "posix", "tokenizer", "exif", "ftp", "gettext",
	"calendar", "pcntl", "readline", "sysvmsg", "sysvsem", "sysvshm", "shmop", "ffi"}

// extensions returns the extensions that the code needs, and those that it would use, with the reasons. Of
// alternatives it needs the first, and would use the others.
func (c *code) extensions() (needs, wishes map[string]Evidence) {
	needs, wishes = maps.Clone(c.needs), maps.Clone(c.wishes)
	for _, group := range alternatives {
		var known []string
		for _, name := range group {
			if _, ok := needs[name]; ok {
				known = append(known, name)
			}
		}
		for i, name := range known {
			if i > 0 {
				wishes[name] = needs[name]
				delete(needs, name)
			}
		}
	}
	for _, name := range always {
		delete(needs, name)
		delete(wishes, name)
	}
	return needs, wishes
}
