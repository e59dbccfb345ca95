package propose

import (
	"context"
	"maps"
	"path"
	"slices"
	"strings"

	"dravit/internal/pattern"
	"dravit/internal/phpcode"
)

// code is what the project's own code says.
type code struct {
	claims []claim
	// needs are PHP's extensions that the code calls, and wishes those that it checks for first.
	needs, wishes map[string]Evidence
	// files counts the files that use an extension.
	files map[string]int
	// variables are the environment's variables that the code reads.
	variables map[string]Evidence
	// pdo is where the code uses the class PDO; its File is "" if nowhere.
	pdo   Evidence
	php   int // how many files of PHP there are
	signs *signs
	cut   bool // there is more code than was read
}

// readers find the variables that code of other languages reads, by the ending of a file.
var readers = map[string]string{
	".py":  `os\.(?:environ(?:\.get)?|getenv)\s*[\[(]\s*["'](\w+)["']`,
	".rb":  `ENV(?:\.fetch)?\s*[\[(]\s*["'](\w+)["']`,
	".go":  `os\.(?:Getenv|LookupEnv)\("(\w+)"`,
	".js":  `process\.env(?:\.(\w+)|\[["'](\w+)["']\])`,
	".mjs": `process\.env(?:\.(\w+)|\[["'](\w+)["']\])`,
	".cjs": `process\.env(?:\.(\w+)|\[["'](\w+)["']\])`,
	".ts":  `process\.env(?:\.(\w+)|\[["'](\w+)["']\])`,
}

// tested are folders with code that does not serve the application.
var tested = []string{"test", "tests", "Test", "Tests", "spec", "specs", "e2e", "docs", "doc", "tools"}

// readAllCode reads the code of the folder, within limits.
func (t *tree) readAllCode(ctx context.Context) (*code, error) {
	c := &code{signs: t.signs, needs: map[string]Evidence{}, wishes: map[string]Evidence{},
		variables: map[string]Evidence{}, files: map[string]int{}}
	defined, checked := map[string]bool{}, map[string]bool{}
	var uses []use
	read, size := 0, 0
	for _, file := range t.files {
		ending := path.Ext(file)
		isPHP := ending == ".php" || ending == ".inc" || ending == ".phtml"
		if !isPHP && readers[ending] == "" {
			continue
		}
		if isPHP {
			c.php++
		}
		if inTests(file) {
			continue
		}
		if read >= maxCodes || size >= maxAllCode {
			c.cut = true
			break
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		text, err := t.readCode(file)
		if err != nil {
			continue
		}
		read, size = read+1, size+len(text)
		if !isPHP {
			c.readOther(file, readers[ending], text)
			continue
		}
		source := phpcode.Scan(text)
		for _, name := range source.Defined {
			defined[name] = true
		}
		for _, name := range source.Checked {
			for _, x := range []string{name, phpcode.OfFunction(name), phpcode.OfClass(name),
				phpcode.OfConstant(strings.ToUpper(name))} {
				checked[x] = true
			}
		}
		uses = append(uses, c.readPHP(file, source)...)
	}
	files := map[string]string{} // the last one that used an extension
	for _, u := range uses {
		if u.from.File != files[u.extension] {
			files[u.extension] = u.from.File
			c.files[u.extension]++
		}
		// an application that checks for an extension can do without, unless that is how it speaks to its database
		u.guarded = u.guarded || checked[u.extension] &&
			!c.signs.all.TraitsOf(c.signs.extensions[u.extension]).Databases
		c.take(u, defined)
	}
	maps.DeleteFunc(c.wishes, func(name string, _ Evidence) bool { _, needed := c.needs[name]; return needed })
	return c, nil
}

// inTests reports whether a file is in a folder with code that does not serve the application.
func inTests(file string) bool {
	return slices.ContainsFunc(strings.Split(path.Dir(file), "/"), func(f string) bool {
		return slices.Contains(tested, f)
	})
}

// use is a name of an extension in a file of PHP.
type use struct {
	extension, name string
	guarded         bool
	from            Evidence
}

// readPHP returns which names of extensions a file uses, and notes what it says about stores and variables.
func (c *code) readPHP(file string, source phpcode.Source) []use {
	var all []use
	note := func(extension string, s phpcode.Symbol, says string) {
		if extension != "" {
			all = append(all, use{extension, strings.ToLower(s.Name), false, Evidence{file, s.Line, says}})
		}
	}
	for _, s := range source.Functions {
		note(phpcode.OfFunction(s.Name), s, "calls "+s.Name+"()")
		if of := c.signs.calls[s.Name]; of != "" {
			c.claims = append(c.claims, claim{of, ofCode, Evidence{file, s.Line, "calls " + s.Name + "()"}})
		}
	}
	for _, s := range source.Classes {
		note(phpcode.OfClass(s.Name), s, "uses the class "+s.Name)
		if s.Name == "pdo" && c.pdo.File == "" {
			c.pdo = Evidence{file, s.Line, "uses the class PDO"}
		}
	}
	for _, s := range source.Constants { // a constant alone proves no use
		if extension := phpcode.OfConstant(s.Name); extension != "" {
			all = append(all, use{extension, s.Name, true, Evidence{file, s.Line, "uses " + s.Name}})
		}
	}
	for _, s := range source.Databases {
		from := Evidence{file, s.Line, "connects to " + s.Name}
		all = append(all, use{"pdo_" + s.Name, "", false, from})
	}
	for _, s := range source.Variables {
		c.variable(s.Name, Evidence{file, s.Line, "reads it"})
	}
	return all
}

// take counts a use, unless the project defines the name itself.
func (c *code) take(u use, defined map[string]bool) {
	if u.name != "" && defined[u.name] {
		return
	}
	into, weight := c.needs, ofCode
	if u.guarded {
		into, weight = c.wishes, ofShape
	}
	if _, known := into[u.extension]; !known {
		into[u.extension] = u.from
		if of := c.signs.extensions[u.extension]; of != "" {
			c.claims = append(c.claims, claim{of, weight, u.from})
		}
	}
}

func (c *code) readOther(file, expression string, text []byte) {
	for _, m := range pattern.Of(expression).FindAllSubmatchIndex(text, -1) {
		for i := 2; i < len(m); i += 2 {
			if m[i] >= 0 {
				line := 1 + strings.Count(string(text[:m[i]]), "\n")
				c.variable(string(text[m[i]:m[i+1]]), Evidence{file, line, "reads it"})
			}
		}
	}
}

func (c *code) variable(name string, from Evidence) {
	if _, known := c.variables[name]; !known && pattern.Of(`^[A-Z][A-Z0-9_]{1,63}$`).MatchString(name) {
		c.variables[name] = from
	}
}
