package survey

import (
	"bytes"
	"hash/fnv"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/pattern"
)

// Where a program was found:
const (
	System   = "system"   // a package of the system
	Local    = "local"    // put there by hand, for everybody
	User     = "user"     // in the user's own folders
	Versions = "versions" // one of several versions in a folder that holds them side by side
	Settings = "settings" // in a folder that Dravit's settings name
	Supply   = "supply"   // in a tree that Dravit fetched
	OnPath   = "path"     // elsewhere on PATH
)

// usual are the folders with programs other than those of PATH: servers are often elsewhere, and programs that keep
// several versions side by side have a folder for each. They are patterns of paths, with * for one name and ~ for the
// user's home. The first pattern that matches a folder decides about its origin.
var usual = []struct{ pattern, origin string }{
	{"/usr/local/sbin", Local}, {"/usr/local/bin", Local},
	{"/usr/sbin", System}, {"/usr/bin", System}, {"/sbin", System}, {"/bin", System},
	// database servers, a folder a version
	{"/usr/lib/*/[0-9]*/bin", System}, {"/usr/libexec/*/[0-9]*/bin", System}, {"/usr/*-[0-9]*/bin", System},
	{"/usr/libexec/*[0-9]", System}, {"/usr/lib/*[0-9]/bin", System}, {"/usr/lib64/*[0-9]/bin", System},
	{"/usr/libexec", System},
	// collections, each with a tree of its own
	{"/opt/*/*/usr/bin", System}, {"/opt/*/*/*/usr/bin", System}, {"/opt/*/*/*/usr/sbin", System},

	{"/opt/homebrew/sbin", System},
	{"/opt/homebrew/bin", System},
	{"/opt/homebrew/opt/*/sbin", System},
	{"/opt/homebrew/opt/*/bin", System},
	{"/opt/homebrew/Cellar/*/*/sbin", System}, {"/opt/homebrew/Cellar/*/*/bin", System},
	{"/usr/local/opt/*/sbin", System},
	{"/usr/local/opt/*/bin", System},
	{"/usr/local/Cellar/*/*/sbin", System},
	{"/usr/local/Cellar/*/*/bin", System},
	{"/opt/local/sbin", System}, {"/opt/local/bin", System}, {"/opt/local/lib/*/bin", System},
	{"/Library/Frameworks/*.framework/Versions/[0-9]*/bin", System},
	{"/System/Library/Frameworks/*.framework/Versions/[0-9]*/usr/bin", System},
	{"/Library/*/[0-9]*/bin", System},

	{"/usr/local/*/sbin", Local},
	{"/usr/local/*/bin", Local},
	{"/opt/*/sbin", Local},
	{"/opt/*/bin", Local},
	{"/opt/*/[0-9]*/sbin", Versions},
	{"/opt/*/[0-9]*/bin", Versions},

	{"~/bin", User}, {"~/.local/bin", User}, {"~/.local/sbin", User},
	// ~/.manager/versions/3.11.7/bin, ~/.manager/versions/node/v20.1.0/bin, ~/.manager/installs/ruby/3.3.0/bin and the
	// like
	{"~/.*/versions/*/bin", Versions},
	{"~/.*/versions/*/*/bin", Versions},
	{"~/.*/installs/*/*/bin", Versions},
	{"~/.*/*/versions/*/bin", Versions},
	{"~/.*/php/*/sbin", Versions},
	{"~/.*/php/*/bin", Versions},
	{"~/.*/rubies/*/bin", Versions},
	{"~/.rubies/*/bin", Versions},
	{"~/.*/candidates/*/*/bin", Versions},
	{"~/.*/node-versions/*/installation/bin", Versions},
	{"~/.local/share/*/node-versions/*/installation/bin", Versions},
	{"~/.*/tools/image/*/*/bin", Versions},
	{"~/.local/share/*/installs/*/*/bin", Versions},
	{"~/.local/share/*/versions/*/bin", Versions},
	{"~/.local/share/*/python/*/bin", Versions},
	{"~/Library/Application Support/*/node-versions/*/installation/bin", Versions},
	{"~/Library/*/installs/*/*/bin", Versions},
	{"~/.*/shims", Versions}, {"~/.local/share/*/shims", Versions},
}

// folder is one folder of the search path.
type folder struct {
	dir, origin string
	only        string // the one program that counts there; "": every one
}

// place is a program's file.
type place struct{ path, origin string }

// searchPath returns the folders of PATH, of the settings and of usual, each once, with the origin of their programs.
func (l *looker) searchPath() []folder {
	var out []folder
	seen := map[string]bool{}
	add := func(dir, origin string) {
		if dir = filepath.Clean(dir); filepath.IsAbs(dir) && !seen[dir] {
			seen[dir] = true
			out = append(out, folder{dir: dir, origin: origin})
		}
	}
	for _, dir := range filepath.SplitList(l.Path) {
		add(dir, "")
	}
	for _, dir := range l.Settings.Programs {
		add(dir, Settings)
	}
	for _, s := range l.Supplied {
		out = append(out, folder{filepath.Dir(s.Path), Supply, filepath.Base(s.Path)})
	}
	for _, u := range usual {
		for _, dir := range l.folders.expand(l.inHome(u.pattern)) {
			add(dir, u.origin)
		}
	}
	for i := range out {
		if out[i].origin == "" {
			out[i].origin = l.originOf(out[i].dir)
		}
	}
	return out
}

func (l *looker) inHome(shape string) string {
	if rest, ok := strings.CutPrefix(shape, "~/"); ok {
		if l.Home == "" || l.Home == "/" {
			return ""
		}
		return filepath.Join(pattern.Literal(l.Home), rest)
	}
	return shape
}

// originOf returns the origin of the programs in a folder of PATH, by the shape of its path.
func (l *looker) originOf(dir string) string {
	for _, d := range l.Settings.Programs {
		if d == dir {
			return Settings
		}
	}
	for _, u := range usual {
		if ok, _ := path.Match(l.inHome(u.pattern), dir); ok {
			return u.origin
		}
	}
	if l.Home != "" && l.Home != "/" && strings.HasPrefix(dir, l.Home+"/") {
		return User
	}
	return OnPath
}

// listing is what a folder contained. It is valid until the folder is written to.
type listing struct {
	ModTime time.Time           `json:"mod_time"`
	Found   map[string][]string `json:"found"` // names, by the patterns that they matched
}

// finder finds files by name. It reads a folder again only if the folder was written to.
type finder struct {
	root         string
	known, fresh map[string]listing
	changed      bool
}

// expand returns the folders that match a pattern, sorted.
func (f *finder) expand(shape string) []string {
	if shape == "" {
		return nil
	}
	dirs := []string{"/"}
	for _, element := range strings.Split(strings.Trim(shape, "/"), "/") {
		var next []string
		for _, dir := range dirs {
			if !strings.ContainsAny(element, `*?[\`) {
				next = append(next, filepath.Join(dir, element))
				continue
			}
			for _, name := range f.names(dir, []string{element}) {
				next = append(next, filepath.Join(dir, name))
			}
		}
		dirs = next
	}
	return slices.DeleteFunc(dirs, func(dir string) bool {
		info, err := os.Stat(f.root + dir)
		return err != nil || !info.IsDir()
	})
}

// find returns the programs whose names match, each real file once, in the order of the search path.
func (l *looker) find(patterns []string) []place {
	var found []place
	seen := map[string]bool{}
	for _, in := range l.search {
		for _, name := range l.folders.names(in.dir, patterns) {
			if in.only != "" && in.only != name {
				continue
			}
			file := filepath.Join(in.dir, name)
			resolved := l.real(file)
			if seen[resolved] || !l.runnable(resolved) || l.ofProject(resolved) {
				continue
			}
			seen[resolved] = true
			origin := in.origin
			if resolved != file && origin != Settings { // keep the real file's origin rather than the link's
				if of := l.originOf(filepath.Dir(resolved)); of != OnPath {
					origin = of
				}
			}
			found = append(found, place{file, origin})
		}
	}
	return found
}

// runnable reports whether a file may be asked what it is: it is executable, and no stand-in.
func (l *looker) runnable(file string) bool {
	return executable(l.Root+file) && !l.standIn(file)
}

func executable(file string) bool {
	info, err := os.Stat(file)
	return err == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o111 != 0
}

// standIns are programs in macOS' /usr/bin that run another program once it is installed, and else open a dialog that
// asks to install it. They are known by the library that does so.
var standIns = []struct {
	library string
	serves  []string // folders, as patterns: if one is there, the program that it stands for is installed
}{
	{"libxcselect.dylib", []string{"/Library/Developer/CommandLineTools/usr/bin", "/var/db/xcode_select_link",
		"/Applications/Xcode*.app/Contents/Developer"}},
	{
		"JavaLaunching.framework",
		[]string{"/Library/Java/JavaVirtualMachines/*", "~/Library/Java/JavaVirtualMachines/*"},
	},
}

// standIn reports whether a program would only open a dialog.
func (l *looker) standIn(file string) bool {
	if !l.StandIns || filepath.Dir(file) != "/usr/bin" {
		return false
	}
	const largest = 1 << 20 // they are small
	if info, err := os.Stat(l.Root + file); err != nil || info.Size() > largest {
		return false
	}
	program, err := os.ReadFile(l.Root + file)
	if err != nil {
		return false
	}
	for _, s := range standIns {
		if bytes.Contains(program, []byte(s.library)) {
			return !slices.ContainsFunc(s.serves, func(dir string) bool {
				return len(l.folders.expand(l.inHome(dir))) > 0
			})
		}
	}
	return false
}

// names returns the names in a folder that match one of the patterns.
func (f *finder) names(dir string, patterns []string) []string {
	now, ok := f.fresh[dir] // a survey checks each folder once
	if !ok {
		info, err := os.Stat(f.root + dir)
		if err != nil || !info.IsDir() {
			return nil
		}
		now = listing{info.ModTime(), map[string][]string{}}
		f.fresh[dir] = now
	}
	key := strings.Join(patterns, " ")
	if names, ok := now.Found[key]; ok {
		return names
	}
	if was, ok := f.known[dir]; ok && was.ModTime.Equal(now.ModTime) {
		if names, ok := was.Found[key]; ok {
			now.Found[key] = names
			return names
		}
	}
	f.changed = true
	entries, err := os.ReadDir(f.root + dir)
	if err != nil {
		return nil
	}
	names := []string{}
	for _, e := range entries {
		// Only a dot matches a leading dot, as in a shell.
		if slices.ContainsFunc(patterns, func(p string) bool {
			ok, _ := path.Match(p, e.Name())
			return ok && (e.Name()[0] != '.' || p[0] == '.')
		}) {
			names = append(names, e.Name())
		}
	}
	now.Found[key] = names
	return names
}

func hash(text string) uint64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(text)) // never fails
	return h.Sum64()
}
