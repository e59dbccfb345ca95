package kind

import (
	"context"
	"regexp"
	"syscall"

	"dravit/internal/cause"
	"dravit/internal/setting"
)

// Role is what a part does for its stack. Every role but web, runtime, app and tool is a sort of store, named after
// what it keeps. Parts of one sort compete for the environment variables without a prefix.
type Role string

const (
	RoleWeb     Role = "web"     // serves sites
	RoleRuntime Role = "runtime" // runs a site's code for a web server, over FastCGI
	RoleApp     Role = "app"     // a server of the project's own
	RoleTool    Role = "tool"    // shows the developer other parts

	RoleDatabase Role = "database"
	RoleCache    Role = "cache"
	RoleMail     Role = "mail"
)

// Store reports whether parts of the role keep something for others. A runtime uses every store of its stack.
func (r Role) Store() bool { return r != RoleWeb && r != RoleRuntime && r != RoleApp && r != RoleTool }

// Traits are the facts about a kind. Other packages ask for a trait and never for a kind's name.
type Traits struct {
	Name string // as the stack file writes it
	Role Role
	// Way is how its parts run. "": a process of the kind's program. A server of somebody else's runs by WayOutside.
	Way Way
	// Keys are the keys of a part's table that the kind uses, apart from kind, version and uses.
	Keys []string
	// Fields are what its Exports say in Fields, by name: the stack file may write {part.NAME}.
	Fields []string
	// Programs are the names of the kind's program, as patterns of path.Match. nil: it is built into Dravit.
	Programs []string
	// BuiltIn is the version of a library that is built into Dravit. "": Dravit's own version counts.
	BuiltIn string
	// Carrier is how an npm-format registry has the kind's programs. Zero: it has none.
	Carrier Carrier
	// System are the names of packages with the kind's program, by the system's installer.
	System map[string]string
	// Packages is how Debian-format repositories have them. Zero: they do not.
	Packages Packages
	// Serve reads its configuration file, and serves until the context ends. nil: another program is the server.
	// kinds are all kinds.
	Serve func(ctx context.Context, config string, kinds List) error
	// Pages: it has pages for the developer. The gateway serves them under the part's name, to the user's own programs.
	Pages bool

	// Signs are how a project tells that it needs such a part.
	Signs Signs

	// Of stores.

	Databases bool // a part has a database and a user, which the stack file may name
	Replaces  bool // a database can take the place of another, as a whole
	Accounts  bool // clients log in; Prepare creates accounts, and Sessions lists who is connected
	HeadStart bool // it is the last to answer in a start, so its process starts first
	// Clients matches what an application's client for the store writes. nil: nothing is known.
	Clients func() *regexp.Regexp

	// Of web servers.

	// Includes is what a file with directives of this server may contain that a site includes. nil: it includes none.
	Includes *IncludeRules

	// Of runtimes.

	// Code is how a project's files tell that the kind runs them. nil: nothing does.
	Code *Code

	// Interpreter is the name of the command-line program that runs the project's code, as it is in the folders of
	// the part's PATH. "": the kind runs no code, or only that of a program.
	Interpreter string
	Extensions  bool // the stack file can switch extensions, and the processes say which ones are loaded
	// ExtensionOf returns the extension that has a class or function. nil: the kind has no extensions.
	ExtensionOf func(word string) string
	Debugger    string // the extension that "debugger = true" loads; "": there is none

	// Reload is the signal that makes its leading process take a new configuration; requests in flight finish with the
	// old one. 0: it has to be restarted.
	Reload syscall.Signal
	// Settings are the values that Dravit sets if the stack file sets none. A - in a name may be written _.
	Settings map[string]string
	// Rules are for settings that the stack file alone does not decide. Names are in lower case with _ between words.
	Rules map[string]setting.Rule
	// Raises are the settings that remove a cause, for a part whose code or clients it concerns. The first one counts
	// whose If the cause says.
	Raises map[cause.ID][]Raise
	// Symptoms are searched for in the part's log; the first match counts.
	Symptoms []Symptom
}
