package propose

import (
	"path"
	"slices"
	"strings"

	"dravit/internal/pattern"
)

// apacheOnly are directives that another web server cannot replace. A front controller is none: every web server of
// Dravit's passes what is no file to index.php.
var apacheOnly = pattern.New(`(?im)^\s*(AuthType|AuthUserFile|Require|Deny|Allow|Order|SetEnv(?:If)?|Header|` +
	`php_(?:admin_)?(?:value|flag)|Redirect(?:Match)?|ErrorDocument|AddType|AddHandler|RewriteMap)\b|` +
	`^\s*RewriteRule\s+\S+\s+(?:[^-\s]\S*/)?([\w-]+\.(?:php|html?))`)

// writeWeb proposes Apache if rules in the project mean something to it alone.
func (d *draft) writeWeb() {
	if !slices.ContainsFunc(d.programs, func(p program) bool { return p.shape.Kind == "php" }) {
		return
	}
	for _, file := range d.files {
		if path.Base(file) != ".htaccess" || strings.Count(file, "/") > 2 {
			continue
		}
		text := d.read(file)
		for _, m := range apacheOnly().FindAllSubmatchIndex(text, -1) {
			if m[4] >= 0 && string(text[m[4]:m[5]]) == "index.php" {
				continue
			}
			line := 1 + strings.Count(string(text[:m[0]]), "\n")
			if text[m[0]] == '\n' {
				line++
			}
			words := strings.Fields(string(text[m[0]:m[1]]))
			d.table("part.web").
				add("kind", "apache", Likely, Evidence{file, line, "has " + words[0] + ", which only Apache knows"})
			return
		}
	}
}
