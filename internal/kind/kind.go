// Package kind defines what Dravit knows about one program, such as nginx or PostgreSQL: facts about it, and behaviour
// in at most four groups. Each kind has a package below this one, and package all lists them.
package kind

import (
	"context"

	"dravit/internal/leg"
	"dravit/internal/stackfile"
)

// Kind is what every kind does. Traits, Fit, Needs, Exports and Files start nothing and ask nothing, as a plan calls
// them. A kind embeds Defaults for what it lacks.
type Kind interface {
	Traits() *Traits
	// Fit returns why a program cannot serve what the part wants, apart from its version, or "".
	Fit(want stackfile.PartConfig, p Program) string
	Needs(want stackfile.PartConfig) Needs
	// Exports returns how other parts reach the part, once its port and passwords are set.
	Exports(p Part) Exports
	// Files returns the configuration files of the part.
	Files(p Part) ([]File, error)
	// Folders returns folders that come first on the PATH of the part and of the stack's commands.
	Folders(p Part) []string

	// Inspect reads the version of a found program, and facts about how it was built. It runs the program through run,
	// which has a deadline, no terminal and bounded output. An empty fact was looked for and not found; the survey asks
	// again after a minute. Inspect is called only for the programs that Traits names.
	Inspect(ctx context.Context, path string, run func(path string, args ...string) (string, error)) (
		version string, facts map[string]string, err error)

	// Command returns how to start the part's process. It is called only if the part's way starts one (package run).
	Command(p Part) Command
	// Test returns a command by which the program tests its configuration without starting, or the zero Command.
	Test(p Part) Command
	// Ladder returns the rungs of the part, the lowest first.
	Ladder(p Part) []Rung
	DeepChecks(p Part) []DeepCheck
	// LastWords returns the server's own message about a failure from the end of its log, for failures that none of its
	// Symptoms explains, or "".
	LastWords(log string) string
}

// Store is a kind whose parts keep something for others. A store that needs no preparation embeds StoreDefaults.
type Store interface {
	Kind
	// Template returns what the content of a new data folder depends on, apart from kind, version and architecture,
	// without passwords. If "", a data folder starts empty and Fill is not called.
	Template(p Part) string
	// Fill fills the empty folder dir. No process of it is left when it returns.
	Fill(ctx context.Context, p Part, dir string) error
	// Upgrade fills the empty folder dir with the part's data, which p.UpgradeFrom wrote and which no process uses. It
	// leaves the data as they are, and no process when it returns. It is called only if Needs say ReloadsOlder.
	Upgrade(ctx context.Context, p Part, dir string) error
	// Clean removes notes in the data folder that would keep the server from starting, if no process stands behind
	// them. runs reports whether a process id belongs to a program whose name contains a text.
	Clean(p Part, runs func(pid int, name string) bool) error
	// Prepare creates the users and databases that clients need, when the server answers for the first time. It may be
	// called again. It is called only if Traits.Accounts.
	Prepare(ctx context.Context, p Part) error

	// AddUser creates an account with rights in the part's database, which outlive a load of it; DropUser deletes one,
	// and what it owns goes to the application's user. Users returns the names of the accounts apart from that one and
	// the administrators, sorted. They are called only if Traits.Accounts.
	AddUser(ctx context.Context, p Part, a Account) error
	DropUser(ctx context.Context, p Part, name string) error
	Users(ctx context.Context, p Part) ([]string, error)

	// Sessions returns the connections of the application's users, the limit of connections, and the name of the
	// setting that raises it. It is called only if Traits.Accounts.
	Sessions(ctx context.Context, p Part) (sessions []Session, limit int, setting string, err error)
}

// Runtime is a kind that runs a project's code and loads modules for it. A runtime whose modules belong to the
// project's packages embeds RuntimeDefaults.
type Runtime interface {
	Kind
	// Extend chooses the modules for a part among those of the machine and the project.
	Extend(want stackfile.PartConfig, p Program, l *Library) Extended
	// Scan returns the modules that the part names by their files, or that the project brings. It follows no link out
	// of the project.
	Scan(project string, want stackfile.PartConfig) []Module
	// List describes every module that a program has, wants or could have. It returns nil if it cannot tell.
	List(p Program, e Extended, l *Library) []Entry

	// Build describes for a user what a program was built for, in a few words each. modules are all modules of the
	// machine.
	Build(p Program, modules []Module) []string
	// ModuleFolders returns where modules for a program may be, or nil.
	ModuleFolders(p Program) []string
	// ReadModules reads every module in a folder, in the order of their names.
	ReadModules(dir string) []Module
	// Clients returns the modules of which any one can reach a store of that kind. nil: none is needed.
	Clients(store string) []string
	// ExtensionName returns the name that the runtime gives to the extension that an entry of the part's list means.
	ExtensionName(entry string) string
	// OfOneProcess reports whether only one of the web process and the command-line program can have an extension.
	OfOneProcess(name string) bool
	// LoadedModules asks the part's own processes what they have loaded. It is called only if Traits.Extensions.
	LoadedModules(ctx context.Context, p Part) (Proof, error)
	// Debug proves that the part's debugger works: it listens in place of an editor, makes the part run a little code,
	// and waits for the debugger to connect. It returns what the debugger said about itself. It is called only if
	// Traits.Debugger is set.
	Debug(ctx context.Context, p Part) (string, error)
}

// PageMaker is a kind whose process makes pages and answers a check's questions itself, by a probe: a script that is
// requested like a page.
type PageMaker interface {
	Kind
	// ProbeToken returns the secret that the probe of this start expects in the header ProbeHeader.
	ProbeToken(p Part) (string, error)
	// Judge returns nil if the probe's answer shows that the part runs code and reaches every store that it uses, that
	// it was asked for (see AloneHeader) and that it has a client for.
	Judge(p Part, status int, body []byte) error
	// Legs returns the legs behind the web server as the probe reports them: the runtime's own, then one to each store.
	// It leaves out stores that the probe has no client for.
	Legs(p Part, body []byte) []leg.Leg
	// Fault returns the error that the runtime wrote into a page, or "".
	Fault(page []byte) string
	// LoggedFault returns the error that ended a page, as the runtime writes it to a log, or "".
	LoggedFault(log string) string
	// Requirements asks the process about what its application requires.
	Requirements(ctx context.Context, p Part) ([]Requirement, error)
}
