package kind

import (
	"context"
	"regexp"
	"syscall"

	"dravit/internal/setting"
)

// Role is what a part does for its stack. Every role but web, runtime and app is the sort of a store: what it keeps for
// others. Parts of one sort compete for the names of environment variables without a prefix.
type Role string

const (
	RoleWeb     Role = "web"     // serves sites
	RoleRuntime Role = "runtime" // runs a site's code for a web server, over FastCGI
	RoleApp     Role = "app"     // a server of the project's own

	RoleDatabase Role = "database"
	RoleCache    Role = "cache"
	RoleMail     Role = "mail"
)

// Store reports whether parts of the role keep something for others: a runtime uses every store of its stack.
func (r Role) Store() bool { return r != RoleWeb && r != RoleRuntime && r != RoleApp }

// Traits are the facts about a kind. What others must know about a part's program they ask of its traits, not of its
// name.
type Traits struct {
	Name string // as the stack file writes it
	Role Role
	// Keys are the keys of a part's table that the kind understands, apart from kind, version and uses.
	Keys []string
	// Programs are the file names, as patterns of path.Match, that the kind's program goes by. nil: built in.
	Programs []string
	// BuiltIn is the version of a library that is built into Dravit. "": Dravit's own version.
	BuiltIn string
	// Serve reads its configuration file and serves until the context ends. nil: another program is the server.
	Serve func(ctx context.Context, config string) error

	// Of stores.

	Databases bool // a part has a database and a user of its own, which the stack file may name
	Accounts  bool // users log in; Prepare makes them, and Sessions lists who is connected
	HeadStart bool // it is the last to answer in a start, so its process starts first
	Inbox     bool // it has pages for the developer alone, which the gateway serves under the part's name
	// Clients match what an application's client for the store writes. nil: nothing tells.
	Clients func() *regexp.Regexp

	// Of web servers.

	Includes bool // a site may include a file with directives of the server's own

	// Of runtimes.

	Extensions bool   // the stack file switches extensions on and off, and the processes tell which are loaded
	Debugger   string // the extension that `debugger = true` loads. "": there is none

	// Reload is the signal by which its leading process takes a new configuration; requests in flight finish with the
	// one before. 0: it has to be restarted.
	Reload syscall.Signal
	// Settings are the values that Dravit sets if the stack file says nothing. A - in a name may be written _.
	Settings map[string]string
	// Rules are of settings that the stack file alone does not decide, by names in small letters with _ between words.
	Rules map[string]setting.Rule
	// Symptoms are looked for in the part's log, the first match first.
	Symptoms []Symptom
}
