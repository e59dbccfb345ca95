package propose

import (
	"maps"
	"slices"
	"strings"

	"dravit/internal/pattern"
)

// fields are the placeholders of a store that the endings of a variable's name mean.
var fields = map[string]string{"HOST": "host", "HOSTNAME": "host", "SERVER": "host", "PORT": "port", "USER": "user",
	"USERNAME": "user", "LOGIN": "user",
	"PASS": "password", "PASSWORD": "password", "PASSWD": "password", "PWD": "password",
	"NAME": "database", "DATABASE": "database", "DBNAME": "database", "URL": "url", "URI": "url", "DSN": "url",
	"SOCKET": "socket"}

// writeVariables maps the variables that the code reads to those of the stack, where they have other names.
func (d *draft) writeVariables() {
	exported := map[string]bool{}
	for _, s := range d.stores {
		for _, name := range d.machine.Exports[s.kind] {
			exported[name] = true
		}
		for _, field := range []string{"HOST", "PORT", "USER", "PASSWORD", "DATABASE", "URL", "SOCKET"} {
			exported[strings.ToUpper(s.name)+"_"+field] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.code.variables)) {
		if exported[name] {
			continue
		}
		if value, sure := d.means(name); value != "" {
			from := d.code.variables[name]
			if strings.HasSuffix(name, "DSN") && strings.HasSuffix(from.File, ".php") && value == "{db.url}" {
				value = d.dataSource()
			}
			d.table("env").add(name, value, sure, d.code.variables[name])
		}
	}
}

// means returns what a variable stands for, in placeholders, and how sure that is; "": nothing of the stack.
func (d *draft) means(name string) (string, Certainty) {
	words := strings.Split(
		pattern.Of(`(DB|MYSQL|PG)(HOST|PORT|USER|PASS|PASSWORD|NAME)$`).ReplaceAllString(name, "${1}_$2"),
		"_",
	)
	field := fields[words[len(words)-1]]
	if field == "" {
		return "", ""
	}
	for _, w := range words[:len(words)-1] {
		if part := d.signs.variables[w]; part != "" && d.hasStore(part) {
			return "{" + part + "." + field + "}", Likely
		}
	}
	if words[len(words)-1] == "DSN" && d.hasStore("db") {
		return "{db.url}", Unsure
	}
	return "", ""
}

// dataSource returns the value of a variable that PHP gives to PDO (php.net, "PDO_MYSQL DSN").
func (d *draft) dataSource() string {
	for _, s := range d.stores {
		if source := d.signs.all.TraitsOf(s.kind).Signs.DataSource; source != "" {
			return source
		}
	}
	return "{db.url}"
}

func (d *draft) hasStore(name string) bool {
	return slices.ContainsFunc(d.stores, func(s store) bool { return s.name == name })
}
