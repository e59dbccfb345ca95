// Package plan makes the decisions for a stack. It is pure: everything that a decision depends on is in Input, and the
// same input gives the same plan on any machine.
package plan

import (
	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/project"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
	"dravit/internal/trouble"
)

// Input is everything that the decisions for one stack depend on.
type Input struct {
	Format  int             `json:"format"`
	StackID string          `json:"stack_id"`
	File    *stackfile.File `json:"file"`
	Project project.Facts   `json:"project"`
	Survey  survey.Survey   `json:"survey"`
	Ledger  Ledger          `json:"ledger"`
	History History         `json:"history"`
	Run     string          `json:"run"` // the run folder, for sockets
	Consent Consent         `json:"consent"`
	Gateway Gateway         `json:"gateway"`
	Version string          `json:"version"` // Dravit's version, which built-in kinds have
	// Offers are programs that sources are known to have, for parts that no program of this machine fits.
	Offers map[string]Supply `json:"offers,omitempty"`
	// Locked are the exact programs that the project's lock names, by part, or OfTool and the name of a requirement.
	Locked map[string]Locked `json:"locked,omitempty"`
}

// OfTool comes before the name of a program of [requires] where a map has programs of parts, too.
const OfTool = "requires."

// Locked is the exact program of a part or requirement.
type Locked struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`
	Program string `json:"program,omitempty"` // its path; "": this machine does not have it
	Because string `json:"because,omitempty"` // why it cannot have it, or ""
}

// Supply is a program that could be fetched.
type Supply struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`
	Source  string `json:"source"`
	Bytes   int64  `json:"size_bytes"` // to fetch; 0: what it consists of is here already; -1: unknown
}

// Ledger is the ledger as seen from one stack.
type Ledger struct {
	HTTPPort  int `json:"gateway,omitempty"`
	HTTPSPort int `json:"gateway_secure,omitempty"` // the gateway's port for HTTPS
	// DNSPort is the gateway's port for DNS, or 0.
	DNSPort int               `json:"gateway_resolver,omitempty"`
	Ports   map[string]int    `json:"ports,omitempty"`  // this stack's, by part
	Others  map[int]string    `json:"others,omitempty"` // ports of other stacks, with the stack's name
	Stacks  []string          `json:"stacks,omitempty"` // names of other stacks
	Hosts   map[string]string `json:"hosts,omitempty"`  // host names of other stacks, with the stack's name
	Name    string            `json:"name,omitempty"`   // the name that this stack got before
}

// History is what earlier starts recorded.
type History struct {
	Data map[string]Written `json:"data,omitempty"` // by part
	Good Good               `json:"good"`
}

// Good is the last start after which everything answered.
type Good struct {
	At    string            `json:"at,omitempty"` // RFC 3339
	Parts map[string]Chosen `json:"parts,omitempty"`
	Ports map[string]int    `json:"ports,omitempty"`
	File  map[string]string `json:"file,omitempty"` // what the stack file said then
}

// Chosen is the program that a part ran on.
type Chosen struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`
	Program string `json:"program,omitempty"` // "": built into Dravit
}

// Gateway is what the user wants for the gateway's ports. 0: 80 and 443 if this user may open them, else others.
type Gateway struct {
	HTTP  int `json:"http,omitempty"`
	HTTPS int `json:"https,omitempty"`
}

// Consent is what the user allowed for this plan.
type Consent struct {
	Upgrade  []string `json:"upgrade,omitempty"`  // parts whose data a newer program may convert, after a mark
	Afresh   bool     `json:"afresh,omitempty"`   // earlier choices do not count
	Locked   bool     `json:"locked,omitempty"`   // a part runs on the exact program of the lock, or not at all
	Network  []string `json:"network,omitempty"`  // sites that other machines may reach
	Loopback []string `json:"loopback,omitempty"` // sites that they may not reach, though the stack file asks for it
	// endings of host names that are allowed though they are not reserved for private use
	Suffixes []string `json:"suffixes,omitempty"`
	// settings of servers that a stack file may decide though nobody looked at what they can do: "mariadb.plugin_load"
	Settings []string `json:"settings,omitempty"`
}

// Written says which program last wrote a part's data folder.
type Written struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`
}

// Plan is every decision for a stack, with its reasons.
type Plan struct {
	Format    int        `json:"format"`
	Stack     string     `json:"stack"`
	OK        bool       `json:"ok"`
	Parts     []PartPlan `json:"parts"`
	Sites     []SitePlan `json:"sites"`
	Decisions []Decision `json:"decisions"`
	Faults    []Fault    `json:"faults"`
	// Changes are what is different since the last good start, which was at Since.
	Changes []Change `json:"changes"`
	Since   string   `json:"since,omitempty"`
	// Edits are what the stack file says differently since then.
	Edits []Change `json:"edits,omitempty"`
	// Notes are what was found and could not be used, such as a manifest that cannot be read.
	Notes []string `json:"notes"`
	// Warnings are what the user should know about the decisions.
	Warnings []string `json:"warnings"`
	// Supply are the programs that start would fetch, after a yes, for parts that no program of this machine fits.
	Supply map[string]Supply `json:"supply,omitempty"`
	// Lacks are the programs that this machine does not have, each with a fault that says so, sorted by subject.
	Lacks []Lack `json:"-"`
	// Contested are ports that somebody else listens on and that the plan says so of: it names their holders in
	// Input.Survey.Ports.
	Contested map[int]bool `json:"-"`
	// Tools are required command-line programs that Dravit fetched. They come first on the PATH of this stack.
	Tools []Tool `json:"tools,omitempty"`
	// Install is the command by which the system's own package manager would install programs of all kinds that this
	// machine lacks. "": it is not known.
	Install string `json:"install,omitempty"`

	HTTPPort  int `json:"gateway_port"`
	HTTPSPort int `json:"gateway_secure_port"` // for HTTPS
	// DNSPort is where the gateway answers DNS, or 0 if every name ends with localhost.
	DNSPort int `json:"gateway_resolver_port,omitempty"`
}

// Lack is a program that no version on this machine can be, for a part or a requirement. Accepts and AcceptsTool say
// which versions would serve.
type Lack struct {
	// Key names it in Input.Locked, Input.Offers and Supply: the part, or OfTool and the requirement.
	Key   string
	Part  string   // "": it is a requirement
	Tool  string   // the program of a requirement, or ""
	Kinds []string // of a part: any of them would serve, the first before the others
}

// Tool is a command-line program.
type Tool struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Program string `json:"program"` // its path
}

// PartPlan is the decision about a part. Program is "" for a part that is built into Dravit.
type PartPlan struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Version string `json:"version"`
	Program string `json:"program"`
	Origin  string `json:"origin"`
	Port    int    `json:"port,omitempty"`
	Socket  string `json:"socket,omitempty"`
	// Ports are further ports of the part, by their names.
	Ports map[string]int `json:"ports,omitempty"`
	Way   kind.Way       `json:"way"` // how the part runs
	// Outside is the host of a server that somebody else runs. "": Dravit runs the part, on 127.0.0.1.
	Outside string `json:"outside,omitempty"`

	Role  kind.Role `json:"role"`
	Data  bool      `json:"data,omitempty"`       // it keeps a data folder
	Uses  []string  `json:"uses,omitempty"`       // the parts it needs
	Debug int       `json:"debug_port,omitempty"` // where an editor waits for the part's debugger
	// Modules are loaded in this order. The project's modules have paths relative to it.
	Modules []kind.Module `json:"modules,omitempty"`
	// Unfit are modules of the project that this runtime cannot load.
	Unfit []kind.Choice `json:"unfit,omitempty"`

	Facts       map[string]string    `json:"-"`
	Want        stackfile.PartConfig `json:"-"`
	UpgradeFrom string               `json:"-"` // the version that wrote the data which a newer one converts
	UpgradeWith string               `json:"-"` // a program of that release, if the kind ReloadsOlder
}

// Change is one difference since the last good start.
type Change struct {
	Subject about.Subject `json:"subject"`
	Was     string        `json:"was"`
	Now     string        `json:"now"`
	Because string        `json:"because"`
}

// SitePlan is the decision about a site.
type SitePlan struct {
	Name     string   `json:"name"`
	URL      string   `json:"url"`
	HTTPSURL string   `json:"secure_url"` // over HTTPS
	Aliases  []string `json:"aliases"`
	Server   string   `json:"server"`
	App      string   `json:"app,omitempty"`
	Host     string   `json:"host"`
	Suffix   string   `json:"suffix"`            // what Host ends with
	Root     string   `json:"root,omitempty"`    // relative to the project
	Include  string   `json:"include,omitempty"` // a file with directives for the web server, relative to the project
	// Network: other machines should reach the site. NetworkPort is the port for them, or 0 if the user has not agreed.
	Network     bool              `json:"network,omitempty"`
	NetworkPort int               `json:"network_port,omitempty"`
	Expect      *stackfile.Expect `json:"-"`
}

// Decision is one choice.
type Decision struct {
	Subject  about.Subject `json:"subject"`
	Choice   string        `json:"choice"`
	Because  []string      `json:"because"`
	Rejected []Option      `json:"rejected"`
	// State is the state of an extension: built-in, loaded or unfit. "": the decision is not about an extension.
	State kind.EntryState `json:"state,omitempty"`
}

// Option is an option that was rejected.
type Option = kind.Option

// Fault is a demand that no option meets.
type Fault = trouble.Trouble
