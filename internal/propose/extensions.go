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
		if of := d.signs.extensions[name]; d.signs.all.TraitsOf(of).Databases && of != chosen {
			wishes[name] = e
			delete(needs, name)
		}
	}
	for _, k := range d.signs.kinds {
		for _, name := range k.Signs.Extensions {
			if e, ok := needs[name]; ok && d.optional(k) {
				wishes[name] = e
				delete(needs, name)
			}
		}
	}
	if driver := d.signs.all.TraitsOf(chosen).Signs.Driver; d.code.pdo.File != "" && driver != "" {
		into := needs
		for _, other := range d.signs.all.TraitsOf(chosen).Signs.Extensions {
			if _, native := needs[other]; native && other != driver {
				into = wishes
			}
		}
		if _, known := needs[driver]; !known {
			into[driver] = d.code.pdo
		}
	}
	for name, e := range needs {
		// one file of many calls it: that page may fail, but the others do not
		once := d.code.files[name] == 1 && d.code.php > 1
		if once && d.signs.extensions[name] == "" && !slices.Contains(d.machine.Extensions, name) && !d.demanded(name) {
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
