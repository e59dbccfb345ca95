package propose

import (
	"path"
	"regexp"
	"slices"
	"strings"
)

// writeWeb proposes the web server whose own directives a project with pages has.
func (d *draft) writeWeb() {
	pages := slices.ContainsFunc(d.programs, func(p program) bool { return d.signs.code(p.shape.Kind).Pages != "" })
	for _, k := range d.signs.all {
		x := k.Traits().Signs
		if !pages || x.Rules == "" {
			continue
		}
		for _, file := range d.files {
			if path.Base(file) != x.Rules || strings.Count(file, "/") > 2 {
				continue
			}
			if from, ok := d.only(file, x.Only()); ok {
				from.Says += ", which only " + k.Traits().Signs.Title + " knows"
				d.table("part.web").add("kind", k.Traits().Name, Likely, from)
				return
			}
		}
	}
}

// only returns the first directive of a file that one web server alone knows. A front controller is none: every web
// server of Dravit's passes what is no file to index.php.
func (d *draft) only(file string, re *regexp.Regexp) (Evidence, bool) {
	text := d.read(file)
	for _, m := range re.FindAllSubmatchIndex(text, -1) {
		if m[4] >= 0 && string(text[m[4]:m[5]]) == "index.php" {
			continue
		}
		line := 1 + strings.Count(string(text[:m[0]]), "\n")
		if text[m[0]] == '\n' {
			line++
		}
		return Evidence{file, line, "has " + strings.Fields(string(text[m[0]:m[1]]))[0]}, true
	}
	return Evidence{}, false
}
