package kind

import (
	"context"
	"io/fs"
	"regexp"
	"strings"
)

// Recipe is what has to be known of a program to fetch it: of each format of sources, how it carries the program.
type Recipe struct {
	Name     string
	Carrier  Carrier
	Packages Packages
	// Inspect has the program say its version, as Kind's does.
	Inspect func(ctx context.Context, path string, run func(path string, args ...string) (string, error)) (
		version string, facts map[string]string, err error)
}

// RecipeOf returns the recipe of a kind's program.
func RecipeOf(k Kind) Recipe {
	t := k.Traits()
	return Recipe{Name: t.Name, Carrier: t.Carrier, Packages: t.Packages, Inspect: k.Inspect}
}

// Suppliable reports whether packages carry the program.
func (r Recipe) Suppliable() bool { return r.Carrier.Package != "" || len(r.Packages.Servers) > 0 }

// Carrier is a package of an npm-format registry that carries a kind's program whole: it runs as it is unpacked.
type Carrier struct {
	Package string // {os} stands for linux or darwin, {arch} for x64 or arm64
	Program string // the program's path in the package
	Links   string // a file in the package that lists links to make, as [{source, target}], or ""
	Marked  bool   // every release is marked as a preview, though the program is none
	With    []Companion
}

// Companion is a package of the same registry that is put beside the program, in the newest release that says that it
// runs on the program's version.
type Companion struct {
	Package string
	Into    string            // the folder
	Runs    map[string]string // the commands that it brings, with the files of their code in the package
}

// Packages is how Debian-format repositories have a kind's program. In every text, {series} stands for what the group
// of the server's name matched, such as 8.2, and {tree} for the tree's folder.
type Packages struct {
	// Servers are patterns of the names of packages that carry the program. Of a suite, the first counts that it has.
	// nil: no package carries it.
	Servers []string
	Program string   // the program's path
	With    []string // further packages that every tree has, where the suite has them
	// Extension returns the names of packages that may have an extension, the best first. nil: the server's have it.
	Extension func(name, series string) []string
	// Args come before all others of programs whose names begin with ArgsOf. A * stands for what is there.
	Args   []string
	ArgsOf string
	// Env are variables that tell the programs where to find each other, if the tree's loader starts them.
	Env []string
	// EnvUnset are variables for programs that are started without them, if the tree's loader starts them.
	EnvUnset []string
	// Made returns what scripts of the packages would write, by path, from what is in the tree. nil: nothing.
	Made func(tree fs.FS, series string) (map[string][]byte, error)
	// Interpreter is the command on PATH that runs the program, which is a script. "": it is none.
	Interpreter string
	// Folder is where the files of the program name each other by their paths in the system. "": they do not.
	Folder string
	// Left matches packages that the tree does without, as the interpreter has what they bring. nil: none.
	Left func() *regexp.Regexp
}

// InSeries returns a text of Packages for a series.
func InSeries(text, series string) string { return strings.ReplaceAll(text, "{series}", series) }
