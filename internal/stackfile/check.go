package stackfile

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/pattern"
	"dravit/internal/trouble"
)

// check finds faults between tables: names used twice, parts that no table defines, circles.
func (r *reader) check(f *File) {
	names := f.PartNames()
	defined := func(path, part string) {
		if part != "" && !slices.Contains(names, part) {
			hint := nearest(part, names)
			if hint == "" && len(names) > 0 {
				hint = "the parts are " + trouble.List(names)
			}
			r.fault(path, fmt.Sprintf("no part is named %q", part), hint)
		}
	}
	folded := map[string]string{}
	for _, name := range names {
		// Two parts whose variables have the same prefix would overwrite each other's.
		prefix := EnvPrefix(name)
		if other, ok := folded[prefix]; ok {
			r.fault("part."+name, fmt.Sprintf("parts %s and %s would both be %s_* in the environment", other, name,
				prefix), "rename one of them")
		}
		folded[prefix] = name
		for i, need := range f.Parts[name].Uses {
			defined(fmt.Sprintf("part.%s.uses.%d", name, i), need)
		}
	}
	for _, name := range names {
		part := f.Parts[name]
		r.seed("part."+name, part.Seed)
		r.writable("part."+name, part.Writable)
		r.worker("part."+name, part)
		r.outside("part."+name, part)
		for kind, own := range part.Of {
			r.seed("part."+name+"."+kind, own.Seed)
			r.writable("part."+name+"."+kind, own.Writable)
		}
		for _, kind := range slices.Sorted(maps.Keys(part.Of)) {
			r.extensions("part."+name+"."+kind, part.Of[kind].Extensions)
		}
		r.extensions("part."+name, part.Extensions)
	}
	r.circles(f)
	seen := map[string]bool{}
	for i, s := range f.Sites {
		at := fmt.Sprintf("site.%d", i)
		r.each(at, s)
		if name := s.Below(s.Name); seen[name] && name != "" {
			r.fault(at+".name", fmt.Sprintf("two sites have the name %q", name), "")
		}
		seen[s.Below(s.Name)] = true
		for j, alias := range s.Aliases {
			alias = s.Below(alias)
			if seen[alias] {
				r.fault(fmt.Sprintf("%s.aliases.%d", at, j), fmt.Sprintf("two sites have the name %q", alias), "")
			}
			seen[alias] = true
		}
		defined(at+".app", s.App)
		defined(at+".server", s.Server)
		for key, path := range map[string]string{"root": s.Root, "include": s.Include} {
			if path != "" && !filepath.IsLocal(path) {
				r.fault(at+"."+key, fmt.Sprintf("the %s %q is outside the project",
					map[string]string{"root": "document root", "include": "file"}[key], path),
					"use a path relative to the project")
			}
		}
	}
	if f.Dotenv != nil && f.Dotenv.File != "" && !filepath.IsLocal(f.Dotenv.File) {
		r.fault("dotenv", fmt.Sprintf("the file %q is outside the project", f.Dotenv.File),
			"use a path relative to the project")
	}
	for _, key := range slices.Sorted(maps.Keys(f.Env)) {
		r.variable(f, "env."+key, key, f.Env[key])
	}
	r.tasks(f, defined)
	for _, name := range names {
		r.command("part."+name+".command", f.Parts[name].Command)
	}
}

// worker checks the keys that a worker must not have, and those that only a worker has.
func (r *reader) worker(at string, p PartConfig) {
	if !p.Worker() {
		if p.Processes > 0 {
			r.fault(at+".processes", "only a worker has processes", "listens = false, or remove processes")
		}
		if p.Every != "" {
			r.fault(at+".every", "only a worker runs at intervals", "listens = false, or remove every")
		}
		if p.Proof != nil {
			r.fault(at+".proof", "only a worker has a proof", "listens = false, or remove proof")
		}
		return
	}
	if p.Port > 0 {
		r.fault(at+".port", "a worker has no port", "remove port, or listens = false")
	}
	if d := p.Interval(); p.Every != "" && d < time.Second {
		r.fault(at+".every", "a command runs at most once a second", "every = \"1s\"")
	}
	if p.Every != "" && (p.Processes > 1 || p.Proof != nil) {
		r.fault(at+".every", "a command that runs at intervals has one process, and its exit code is its proof",
			"remove processes and proof, or every")
	}
	if strings.Contains(p.Command, "{port}") {
		r.fault(at+".command", "a worker has no port", "remove {port}, or listens = false")
	}
}

func (r *reader) seed(at, path string) {
	if path != "" && !filepath.IsLocal(path) {
		r.fault(at+".seed", fmt.Sprintf("the dump %q is outside the project", path),
			"use a path relative to the project")
	}
}

func (r *reader) writable(at string, folders []string) {
	for i, path := range folders {
		if !filepath.IsLocal(path) {
			r.fault(fmt.Sprintf("%s.writable.%d", at, i), fmt.Sprintf("%q is outside the project", path),
				"use a path relative to the project")
		}
	}
}

// variable checks the name and the value of a variable for the environment.
func (r *reader) variable(f *File, path, name string, value Text) {
	if !envName().MatchString(name) {
		r.fault(path, fmt.Sprintf("%q cannot be a variable's name", name), "")
	}
	if strings.ContainsRune(string(value), 0) {
		r.fault(path, "a variable cannot hold a NUL byte", "")
	}
	for _, m := range placeholder().FindAllStringSubmatch(string(value), -1) {
		r.placeholder(f, path, m)
	}
}

// placeholder checks the text between braces in a value of [env].
func (r *reader) placeholder(f *File, path string, m []string) {
	words := strings.Split(m[2], ".")
	sites := func() (names []string) {
		for _, s := range f.Sites {
			names = append(names, s.Name)
		}
		return names
	}
	switch {
	case m[1] != "": // {{word}} is {word}, literally
	case len(words) == 3 && words[0] == sitePlaceholder:
		if !slices.Contains(sites(), words[1]) {
			r.fault(path, fmt.Sprintf("{%s}: no site is named %q", m[2], words[1]),
				"the sites are "+trouble.List(sites()))
		} else if !slices.Contains(SiteFields, words[2]) {
			r.fault(path, fmt.Sprintf("{%s}: a site has no %q", m[2], words[2]),
				"fields: "+strings.Join(SiteFields, ", "))
		}
	case len(words) == 2:
		names := slices.Sorted(maps.Keys(f.Parts))
		if !slices.Contains(names, words[0]) {
			r.fault(path, fmt.Sprintf("{%s}: no part is named %q", m[2], words[0]),
				"the parts are "+trouble.List(names))
			return
		}
		fields := slices.Clone(PlaceholderFields)
		for _, kind := range f.Parts[words[0]].Kind {
			fields = append(fields, r.words[kind].Fields...)
		}
		if !slices.Contains(fields, words[1]) {
			r.fault(path, fmt.Sprintf("{%s}: a part has no %q", m[2], words[1]), "fields: "+strings.Join(fields, ", "))
		}
	default:
		r.fault(path, fmt.Sprintf("{%s} is no placeholder", m[2]),
			"{part.field}, {site.NAME.field}, or {{"+m[2]+"}} for the text itself")
	}
}

// command checks the text between braces in a command, where a shell uses braces, too.
func (r *reader) command(path, text string) {
	for _, m := range commandWord().FindAllStringSubmatch(text, -1) {
		word := m[1]
		part, _, dotted := strings.Cut(word, ".")
		meant := dotted || slices.Contains(PlaceholderFields, word) ||
			nearest(strings.ToLower(word), CommandFields) != ""
		if meant && !slices.Contains(CommandFields, word) {
			hint := "a command has {" + strings.Join(CommandFields, "} and {") + "}"
			if dotted {
				hint += "; what part " + part + " exports is in its environment: $" + EnvPrefix(part) + "_PORT"
			}
			r.fault(path, fmt.Sprintf("{%s} is no placeholder in a command", word), hint)
		}
	}
}

// each checks which keys a site with a name may have, and which one with each.
func (r *reader) each(at string, s SiteConfig) {
	switch {
	case s.Name == "" && s.Each == "":
		_, name := r.places[at+".name"]
		if _, each := r.places[at+".each"]; !name && !each { // else something is wrong with it, which is said already
			r.fault(at, "this site has neither \"name\" nor \"each\"",
				"name = \"ferry\", or each = \"crew/*\" for a site of each folder")
		}
	case s.Name != "" && s.Each != "":
		r.fault(at+".each", "a site has either a name, or a name for each folder", "take one of the two out")
	case s.Each != "" && s.Aliases != nil:
		r.fault(at+".aliases", "sites of folders have only the names of their folders",
			"remove the aliases, or write a site with a name")
	case s.Each != "" && s.Network():
		r.fault(at+".listen", "sites of folders are reachable from this machine only",
			"write a site with a name for other machines")
	}
	if s.Each != "" && !filepath.IsLocal(s.Each) {
		r.fault(at+".each", fmt.Sprintf("the folders %q are outside the project", s.Each),
			"use a path relative to the project")
	}
}

// WaysToAsk are the arguments that a stack file may choose for asking a program for its version. They do nothing else.
var WaysToAsk = []string{"--version", "-version", "-V", "-v", "version"}

var (
	envName     = pattern.New(`^[A-Za-z_][A-Za-z0-9_]*$`)
	placeholder = pattern.New(`(\{)?\{\s*([A-Za-z][\w-]*(?:\.[\w-]+)*)\s*\}\}?`)
	commandWord = pattern.New(`(?:^|[^$])\{([A-Za-z][\w-]*(?:\.[\w-]+)*)\}`)
)

// sitePlaceholder begins {site.NAME.FIELD}. No part can have this name if a stack has sites.
const sitePlaceholder = "site"

// SiteFields are the fields of {site.NAME.FIELD} in a value of [env].
var SiteFields = []string{"url", "host", "port"}

// CommandFields are the placeholders in a part's command.
var CommandFields = []string{"port", "dravit"}

// PlaceholderFields are the fields of {part.FIELD} in a value of [env] that parts of every kind have.
var PlaceholderFields = []string{"host", "port", "user", "password", "database", "url", "socket"}

// Expand replaces the placeholders in a value of [env]. It calls field with the text between braces, split at its dots.
// {{word}} becomes {word}.
func Expand(value string, field func(path []string) string) string {
	return placeholder().ReplaceAllStringFunc(value, func(m string) string {
		x := placeholder().FindStringSubmatch(m)
		switch {
		case x[1] != "" && strings.HasSuffix(m, "}}"):
			return m[1 : len(m)-1]
		case x[1] != "":
			return m // "{{word}" is no placeholder
		}
		rest := strings.TrimPrefix(m, m[:strings.IndexByte(m, '}')+1])
		return field(strings.Split(x[2], ".")) + rest
	})
}

// EnvPrefix returns the prefix of a part's variables: CREW_DB for crew-db.
func EnvPrefix(part string) string {
	return strings.ToUpper(strings.ReplaceAll(part, "-", "_"))
}

// extensions checks the entries that are paths of files.
func (r *reader) extensions(at string, entries []string) {
	for i, e := range entries {
		if strings.Contains(e, "/") && !filepath.IsLocal(e) {
			r.fault(fmt.Sprintf("%s.extensions.%d", at, i),
				fmt.Sprintf("the extension file %q is outside the project", e),
				"use a path relative to the project; a folder for every project is named in Dravit's settings")
		}
	}
}

// circles reports each circle of parts that use each other, once, at the part that comes first.
func (r *reader) circles(f *File) {
	const entered, left = 1, 2
	state := map[string]int{}
	var visit func(name string, path []string)
	visit = func(name string, path []string) {
		if state[name] == left {
			return
		}
		path = append(path, name)
		if state[name] == entered {
			circle := path[slices.Index(path, name):]
			r.fault("part."+circle[0]+".uses", "parts wait for each other: "+strings.Join(circle, " -> "),
				"remove one of them from a uses list")
			return
		}
		state[name] = entered
		for _, next := range f.Parts[name].Uses {
			visit(next, path)
		}
		state[name] = left
	}
	for _, name := range f.PartNames() {
		visit(name, nil)
	}
}
