package php

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/confined"
	"dravit/internal/kind"
	"dravit/internal/objfile"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// standard are the extensions that PHP builds by default (php.net, "Extension list/categorization"). Some systems ship
// them as files, and a project may rely on them.
var standard = []string{"ctype", "dom", "fileinfo", "iconv", "json", "opcache", "pdo", "phar", "posix", "simplexml",
	"sqlite3", "pdo_sqlite", "tokenizer", "xml", "xmlreader", "xmlwriter"}

// debuggers slow every page down, so they are loaded only if the stack file asks for them.
var debuggers = []string{"xdebug", "pcov"}

// needs says which extensions must be loaded before another one, beside those whose symbols its file needs: PHP looks
// for them while it loads.
var needs = map[string][]string{
	"mysqli":       {"mysqlnd"},
	"pdo_mysql":    {"pdo", "mysqlnd"},
	"pdo_sqlite":   {"pdo"},
	"pdo_pgsql":    {"pdo"},
	"pdo_odbc":     {"pdo"},
	"pdo_dblib":    {"pdo"},
	"pdo_firebird": {"pdo"},
	"xmlreader":    {"dom"},
	"xsl":          {"dom"},
	"dom":          {"xml"},
	"wddx":         {"xml"},
	"simplexml":    {"xml"},
	"xmlwriter":    {"xml"},
	"redis":        {"igbinary", "msgpack"}, "memcached": {"igbinary", "msgpack"}, "phar": {"hash"}, "soap": {"xml"},
}

// canonical returns an extension's name in the form of its file's name: OPcache calls itself Zend OPcache, and others
// begin with a capital.
func canonical(name string) string {
	if name == "Zend OPcache" {
		return "opcache"
	}
	return strings.ToLower(name)
}

// named returns the extension that an entry of a list in the stack file means: a name, or the path of a file.
func named(entry string) string {
	if isPath(entry) {
		return canonical(strings.TrimPrefix(strings.TrimSuffix(filepath.Base(entry), ".so"), "php_"))
	}
	return canonical(entry)
}

func isPath(entry string) bool {
	return strings.Contains(entry, "/") || strings.HasSuffix(entry, ".so")
}

var (
	buildText  = pattern.New(`API[0-9]{8}(?:,(?:N?TS|debug))+`) // zend_modules.h: ZEND_MODULE_BUILD_ID
	engineText = pattern.New(`API[0-9]{9}(?:,(?:N?TS|debug))+`) // zend_extensions.h: ZEND_EXTENSION_BUILD_ID
)

// extensionLine matches a line of an ini file that loads an extension by its path.
var extensionLine = pattern.New(`^[ \t]*(?:zend_)?extension[ \t]*=[ \t]*"?(/[^"\s;]+\.so)`)

// readModule reads what an extension file was built for. Every module carries a text for that (zend_modules.h). One
// that hooks into the engine carries a second one (zend_extensions.h), whose number has one more digit before the date.
func readModule(file string) (kind.Module, objfile.File) {
	m := kind.Module{Kind: "php", Name: named(filepath.Base(file)), File: file}
	f, err := objfile.Open(file)
	if err != nil {
		m.Fault = err.Error()
		return m, f
	}
	m.Arch = f.Arch
	_, module := slices.BinarySearch(f.Defined, "get_module")
	_, engine := slices.BinarySearch(f.Defined, "zend_extension_entry")
	engineBuilt := f.Find(engineText())
	m.Engine = engine || !module && len(engineBuilt) > 0
	switch built := f.Find(buildText()); {
	case len(built) > 0:
		m.Built = built[0]
	case len(engineBuilt) > 0: // API420220829 and API20220829 are of the same day
		m.Built = "API" + engineBuilt[0][len("API4"):]
	default:
		m.Fault = "it does not say what it was built for, so it is no PHP extension"
	}
	return m, f
}

// ModuleFolders returns the extension folder of a PHP, those beside it, which belong to other builds, and those of the
// files that the system's ini files name by their paths.
func (php) ModuleFolders(p kind.Program) []string {
	own := p.Facts[factFolder]
	if !filepath.IsAbs(own) {
		return nil
	}
	folders := append([]string{own}, namedFolders(p)...)
	entries, _ := os.ReadDir(filepath.Dir(own))
	for _, e := range entries {
		if dir := filepath.Join(filepath.Dir(own), e.Name()); dir != own &&
			pattern.Of(`^(no-debug-(non-)?zts-|debug-(non-)?zts-)?\d{8}`).MatchString(e.Name()) {
			folders = append(folders, dir)
		}
	}
	return folders
}

// namedFolders returns the folders of extension files that the system's ini files name by their paths: some systems
// keep an extension in a folder of its own.
func namedFolders(p kind.Program) []string {
	var files, folders []string
	if ini := p.Facts[factIni]; filepath.IsAbs(ini) {
		files = append(files, ini)
	}
	if scan := p.Facts[factScan]; filepath.IsAbs(scan) {
		more, _ := filepath.Glob(filepath.Join(pattern.Literal(scan), "*.ini"))
		files = append(files, more...)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		for line := range bytes.Lines(text) {
			if !bytes.Contains(line, []byte("extension")) { // most lines of php.ini are not about any
				continue
			}
			m := extensionLine().FindSubmatch(line)
			if m == nil {
				continue
			}
			if dir := filepath.Dir(string(m[1])); dir != p.Facts[factFolder] && !slices.Contains(folders, dir) {
				folders = append(folders, dir)
			}
		}
	}
	return folders
}

// ReadModules reads the extension files of a folder, and which of them needs symbols of which.
func (php) ReadModules(dir string) []kind.Module {
	files, _ := filepath.Glob(filepath.Join(pattern.Literal(dir), "*.so"))
	slices.Sort(files)
	modules, objects := make([]kind.Module, len(files)), make([]objfile.File, len(files))
	for i, file := range files {
		modules[i], objects[i] = readModule(file)
	}
	for i := range modules {
		for j := range modules {
			if i != j && objects[i].Wants(objects[j].Defined) {
				modules[i].Needs = append(modules[i].Needs, modules[j].Name)
			}
		}
	}
	return modules
}

// Scan reads the extension files that the part names by their paths.
func (php) Scan(project string, want stackfile.PartConfig) []kind.Module {
	var modules []kind.Module
	for _, entry := range want.Extensions {
		if isPath(entry) {
			m := kind.Module{Kind: "php", Name: strings.TrimSuffix(filepath.Base(entry), ".so")}
			if resolved, err := confined.Resolve(project, entry); err != nil && !errors.Is(err, fs.ErrNotExist) {
				m.Fault = err.Error()
			} else if err == nil {
				m, _ = readModule(resolved)
			} else {
				m, _ = readModule(filepath.Join(project, entry))
			}
			m.File = filepath.Clean(entry)
			modules = append(modules, m)
		}
	}
	return modules
}

// unfit returns why a file does not fit a PHP, or "" if it does.
func unfit(m kind.Module, p kind.Program) string {
	switch api := p.Facts[factAPI]; {
	case m.Fault != "":
		return m.Fault
	case m.Of != "" && m.Of != p.Path:
		return "it came with a supplied PHP, whose libraries it needs"
	case api != "" && m.Built != api:
		return fmt.Sprintf("it was built for %s, and PHP %s is %s", m.Built, p.Version, api)
	case p.Facts[kind.FactArch] != "" && !slices.Contains(m.Arch, p.Facts[kind.FactArch]):
		return fmt.Sprintf("it was built for %s, and this PHP is for %s",
			strings.Join(m.Arch, " and "), p.Facts[kind.FactArch])
	}
	return ""
}

// chooser picks for each extension the file that fits a PHP.
type chooser struct {
	program kind.Program
	library *kind.Library
	builtin []string
	done    map[string]kind.Choice
	load    []kind.Module
}

// Extend chooses the files of the wanted extensions and of those that they need, in the order of loading. If the list
// is nil, it chooses every one in the program's own folder except debuggers.
func (php) Extend(want stackfile.PartConfig, p kind.Program, l *kind.Library) kind.Extended {
	c := chooser{program: p, library: l, builtin: strings.Fields(p.Facts[factBuiltin]), done: map[string]kind.Choice{}}
	var out kind.Extended
	var left []string
	for _, name := range want.Without {
		left = append(left, named(name))
	}
	for _, name := range standard {
		if !slices.Contains(left, name) {
			c.add(name)
		}
	}
	if want.Extensions == nil {
		for _, m := range l.In("php", p.Facts[factFolder]) {
			if !slices.Contains(debuggers, m.Name) && !slices.Contains(left, m.Name) {
				c.add(m.Name)
			}
		}
	}
	wanted := slices.Concat(want.Extensions, want.Also)
	if want.Debugger && !slices.Contains(wanted, debugger) {
		wanted = append(wanted, debugger)
	}
	for _, entry := range wanted {
		name := named(entry)
		if slices.ContainsFunc(out.Chosen, func(c kind.Choice) bool { return c.Name == name }) {
			continue
		}
		choice, ok := c.add(name)
		// the entry means this file, not another one of its name
		if ok && isPath(entry) && choice.File != filepath.Clean(entry) {
			ok = false
			choice.Because = "the file does not fit"
			if slices.Contains(c.builtin, name) {
				choice.Because = "this PHP has it built in"
			}
		}
		choice.Rejected = c.rejected(name, choice.File)
		if ok {
			out.Chosen = append(out.Chosen, choice)
		} else {
			out.Missing = append(out.Missing, choice)
		}
	}
	out.Load = c.load
	return out
}

// candidates returns the files for an extension that were built for this PHP: the project's own first, then the
// program's.
func (c *chooser) candidates(name string) []kind.Module {
	all := slices.Clone(c.library.Built("php", name, c.program.Facts[factAPI]))
	if c.program.Facts[factAPI] == "" { // a PHP that does not tell: any may fit
		all = slices.Clone(c.library.Named("php", name))
	}
	rank := func(m kind.Module) int {
		switch {
		case !filepath.IsAbs(m.File):
			return 0
		case filepath.Dir(m.File) == c.program.Facts[factFolder]:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(all, func(a, b kind.Module) int { return rank(a) - rank(b) })
	return all
}

// add chooses one extension after those that it needs, and reports whether the PHP has it.
func (c *chooser) add(name string) (kind.Choice, bool) {
	if slices.Contains(c.builtin, name) {
		return kind.Choice{Name: name, Because: "it is built in"}, true
	}
	if was, ok := c.done[name]; ok {
		return was, was.File != ""
	}
	choice := kind.Choice{Name: name, Because: "no extension folder has it"}
	if len(c.library.Named("php", name)) > 0 {
		choice.Because = "no file fits"
	}
	c.done[name] = choice // a circle ends here
	for _, m := range c.candidates(name) {
		if c.refuse(m) != "" {
			continue
		}
		for _, first := range needs[name] {
			c.add(first)
		}
		choice.File, choice.Because = m.File, "built for "+m.Built+", as this PHP is"
		c.load = append(c.load, m)
		break
	}
	c.done[name] = choice
	return choice, choice.File != ""
}

// refuse returns why a file cannot be used, or "" if it can: it does not load without an extension whose symbols it
// needs.
func (c *chooser) refuse(m kind.Module) string {
	why := unfit(m, c.program)
	for _, first := range m.Needs {
		if why != "" {
			break
		}
		if _, ok := c.add(first); !ok {
			why = "it needs the extension " + first + ", which this PHP lacks"
		}
	}
	return why
}

// mostRejected bounds how many files of one name are explained.
const mostRejected = 5

// rejected returns the files of a name with the reason why each was not taken.
func (c *chooser) rejected(name, chosen string) []kind.Option {
	var out []kind.Option
	all := c.library.Named("php", name)
	for _, m := range all {
		if why := c.refuse(m); why != "" && m.File != chosen {
			if len(out) == mostRejected {
				out = append(out,
					kind.Option{Option: fmt.Sprintf("%d files of this name", len(all)), Because: "none fits better"})
				break
			}
			out = append(out, kind.Option{Option: m.File, Because: why})
		}
	}
	return out
}

// ExtensionName returns an entry's name in the form of its file's name.
func (php) ExtensionName(entry string) string { return named(entry) }

// OfOneProcess: terminals and processes make no sense in a web server, and FPM has an extension that only it has.
func (php) OfOneProcess(name string) bool {
	return slices.Contains([]string{"cgi-fcgi", "readline", "pcntl"}, name)
}

// Clients returns the extensions that reach a database. Applications bring their own clients for caches.
func (php) Clients(store string) []string {
	return map[string][]string{
		"mariadb":  {"mysqli", "pdo_mysql"},
		"postgres": {"pgsql", "pdo_pgsql"},
		"sqlite":   {"sqlite3", "pdo_sqlite"},
	}[store]
}

// List returns what is built in, what the part loads, and of the other files those that fit and those that do not. Of
// several files with one name, the one that fits counts.
func (php) List(p kind.Program, e kind.Extended, l *kind.Library) []kind.Entry {
	entries := map[string]kind.Entry{}
	for _, m := range l.Of("php") {
		was, seen := entries[m.Name]
		switch why := unfit(m, p); {
		case why == "" && (!seen || was.State == kind.Misfit):
			entries[m.Name] = kind.Entry{Name: m.Name, State: kind.Available, File: m.File}
		case !seen:
			entries[m.Name] = kind.Entry{Name: m.Name, State: kind.Misfit, File: m.File, Because: why}
		}
	}
	for _, name := range strings.Fields(p.Facts[factBuiltin]) {
		entries[name] = kind.Entry{Name: name, State: kind.BuiltIn}
	}
	for _, m := range e.Load {
		entries[m.Name] = kind.Entry{Name: m.Name, State: kind.Loads, File: m.File}
	}
	for _, c := range e.Missing {
		entry := kind.Entry{Name: c.Name, State: kind.Lacking, Because: c.Because}
		for _, r := range c.Rejected {
			entry.State, entry.File, entry.Because = kind.Misfit, r.Option, r.Because
		}
		entries[c.Name] = entry
	}
	var all []kind.Entry
	for _, name := range slices.Sorted(maps.Keys(entries)) {
		all = append(all, entries[name])
	}
	return all
}

// Build counts the extension files in the program's own folder.
func (php) Build(p kind.Program, modules []kind.Module) []string {
	words := p.Words([2]string{"%s", factAPI}, [2]string{"%s", kind.FactArch})
	files, builtin := 0, len(strings.Fields(p.Facts[factBuiltin]))
	for _, m := range modules {
		if m.Kind == "php" && filepath.Dir(m.File) == p.Facts[factFolder] {
			files++
		}
	}
	plural := "s"
	if files == 1 {
		plural = ""
	}
	words = append(words,
		fmt.Sprintf("%d built in, %d extension file%s in %s", builtin, files, plural, p.Facts[factFolder]))
	if p.Facts[factCLI] == "" {
		words = append(words, "no command-line program of this version")
	}
	return words
}
