package kind

import "regexp"

// Code is how the files of a project tell that a runtime of the kind runs them, and what has to be done before. Package
// propose reads it.
type Code struct {
	Title string // of a program of which no framework is known: a server in ruby
	// Pages is the ending of files that a web server has the runtime run, each by its address. "": a program of the
	// kind is a server itself.
	Pages     string
	Ecosystem string // the registry of its packages, as package propose names it: npm
	Manifest  string // the file that names them
	// Entries are files with which a server without a framework begins, the likeliest first. They count beside the
	// Manifest only, unless Bare.
	Entries []string
	Bare    bool
	Run     string // the program that an entry is an argument of
	// Scripts are the names of the Manifest's own commands that serve, the best first, each with the command that runs
	// it.
	Scripts [][2]string
	// ReadsPort matches code that reads the port on which it is to listen. nil: such code is not recognised.
	ReadsPort func() *regexp.Regexp
	// Build is the name of a script, and the command that runs it, by which a program of another kind has its assets
	// made: its packages are no sign of a server then.
	Build [2]string
	// PackageOf returns the package that has a module, "" if none has it: it is the runtime's own, or the name is not
	// one of a module. nil: that is not known.
	PackageOf func(module string) string
	// Install are the commands that install its packages; the first one counts whose files are there.
	Install []Installation
}

// Installation is a command that installs packages.
type Installation struct {
	Lock    string // the file beside the manifest that it follows; "": the manifest alone
	There   string // the folder in which they are then
	Command string
	Add     string // adds the package that follows to the manifest, and installs it; "": there is no such command
}
