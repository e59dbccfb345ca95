// Package kind defines what Dravit knows about one program, such as nginx or PostgreSQL: facts, and behaviour in at
// most four groups. Each kind has a package below this one, and package all lists them.
package kind

import (
	"context"

	"dravit/internal/leg"
	"dravit/internal/stackfile"
)

// Kind is what every kind does. Traits, Fit, Needs, Exports and Files start nothing and ask nothing: a plan rests on
// them. Defaults has answers for a kind that has nothing to add.
type Kind interface {
	Traits() *Traits
	// Fit says why a program cannot serve what the part wants, apart from its version, or "".
	Fit(want stackfile.PartConfig, p Program) string
	Needs(want stackfile.PartConfig) Needs
	// Exports is what the part tells others about itself, once it has its place.
	Exports(p Part) Exports
	// Files are the configuration files of the part.
	Files(p Part) ([]File, error)
	// Folders come first on the PATH of the part and of the stack's commands.
	Folders(p Part) []string

	// Inspect reads the version of a found program, and facts about how it was built. It runs the program through run,
	// which has a deadline, no terminal and bounded output. An empty fact was looked for and not found; the survey asks
	// again after a minute. It is called for the programs of Traits only.
	Inspect(ctx context.Context, path string, run func(path string, args ...string) (string, error)) (
		version string, facts map[string]string, err error)

	// Command starts the part's process. The zero Command: the part has none, it is only files.
	Command(p Part) Command
	// Test is a command by which the program tests its configuration without starting. The zero Command: it cannot.
	Test(p Part) Command
	// Ladder is asked from the ground up.
	Ladder(p Part) []Rung
	DeepChecks(p Part) []DeepCheck
	// LastWords finds the server's own message about a failure at the end of its log, for failures that none of its
	// Symptoms explains. "": it said nothing.
	LastWords(log string) string
}

// Store is a kind whose parts keep something for others. StoreDefaults has answers for one that needs no preparation.
type Store interface {
	Kind
	// Template names what a freshly filled data folder without passwords depends on, apart from kind, version and
	// architecture. "": a data folder starts empty, and Fill is not called.
	Template(p Part) string
	// Fill fills the empty folder dir. It leaves no process behind.
	Fill(ctx context.Context, p Part, dir string) error
	// Clean removes a note in the data folder that keeps the server from starting again, if no process stands behind
	// it. runs reports whether a process id is that of a program whose name contains a text.
	Clean(p Part, runs func(pid int, name string) bool) error
	// Prepare makes the users and databases that clients need, when the server greets for the first time. It may be
	// repeated. It is called if Traits.Accounts.
	Prepare(ctx context.Context, p Part) error
	// Sessions returns the connections of the application's users, the limit, and the setting that raises it. It is
	// called if Traits.Accounts.
	Sessions(ctx context.Context, p Part) (sessions []Session, limit int, setting string, err error)
}

// Runtime is a kind that runs a project's code, and loads modules for it. RuntimeDefaults has answers for one whose
// modules are the project's own business.
type Runtime interface {
	Kind
	// Extend chooses the modules for a part among those of the machine and the project.
	Extend(want stackfile.PartConfig, p Program, l *Library) Extended
	// Scan finds the modules that the part names by their files, or that the project brings. It follows no link out of
	// the project.
	Scan(project string, want stackfile.PartConfig) []Module
	// List describes every module that a program has, wants or could have. nil: it cannot tell.
	List(p Program, e Extended, l *Library) []Entry

	// Build says for people what a program was built for, in a few words each. modules are all that the machine has.
	Build(p Program, modules []Module) []string
	// ModuleFolders are where modules for a found program may be. nil: the machine has none for it.
	ModuleFolders(p Program) []string
	// ReadModules reads every module in a folder, in the order of their names.
	ReadModules(dir string) []Module
	// Clients are the modules of which any one reaches a store of that kind. nil: none is needed.
	Clients(store string) []string
	// ExtensionName is the extension that an entry of the part's list means, in the form in which the runtime names
	// what it has loaded.
	ExtensionName(entry string) string
	// OfOneProcess reports whether only one of the web process and the command-line program can have an extension.
	OfOneProcess(name string) bool
	// LoadedModules asks the part's own processes what they have loaded. It is called if Traits.Extensions.
	LoadedModules(ctx context.Context, p Part) (Proof, error)
	// Debug proves that the part's debugger is live: it listens in the editor's place, has the part run a little code,
	// and waits for the call. It returns what the debugger said of itself. It is called if Traits.Debugger is set.
	Debug(ctx context.Context, p Part) (string, error)
}

// PageMaker is a kind whose process makes pages and answers a check's questions itself, by a probe script that is
// reached like a page.
type PageMaker interface {
	Kind
	// ProbeToken returns what the probe of this start answers to, in the header ProbeHeader.
	ProbeToken(p Part) (string, error)
	// Judge returns nil if the probe's answer shows that the part runs code and reaches every store that it uses, was
	// asked for (see AloneHeader) and has a client for.
	Judge(p Part, status int, body []byte) error
	// Legs returns what the probe says of the way behind the web server: the runtime's own leg, then one to each store.
	// A store that the probe has no client for was not asked.
	Legs(p Part, body []byte) []leg.Leg
	// Fault returns the error that the runtime wrote into a page in place of what it should say, or "".
	Fault(page []byte) string
	// LoggedFault returns the error with which the runtime ended a page, as it writes it into a log, or "".
	LoggedFault(log string) string
	// Requirements asks the process for what its application requires.
	Requirements(ctx context.Context, p Part) ([]Requirement, error)
}
