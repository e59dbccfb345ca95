// Package plan makes the decisions for a stack. It is pure: everything a decision rests on is in Input, and the same
// input gives the same plan on any machine.
package plan

import (
	"dravit/internal/kind"
	"dravit/internal/project"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
	"dravit/internal/trouble"
)

// Input is everything that the decisions for one stack rest on.
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
	Version string          `json:"version"` // Dravit's own: that of built-in kinds
}

// Ledger is what the ledger says, seen from one stack.
type Ledger struct {
	HTTPPort  int `json:"gateway,omitempty"`
	HTTPSPort int `json:"gateway_secure,omitempty"` // the gateway's port for HTTPS
	// DNSPort is the gateway's port for DNS.
	DNSPort int               `json:"gateway_resolver,omitempty"`
	Ports   map[string]int    `json:"ports,omitempty"`  // this stack's, by part
	Others  map[int]string    `json:"others,omitempty"` // ports of other stacks, with the stack's name
	Stacks  []string          `json:"stacks,omitempty"` // names of other stacks
	Hosts   map[string]string `json:"hosts,omitempty"`  // host names of other stacks, with the stack's name
	Name    string            `json:"name,omitempty"`   // the name that this stack got before
}

// History is what earlier starts left behind.
type History struct {
	Data map[string]Written `json:"data,omitempty"` // by part
	Good Good               `json:"good"`
}

// Good is the last start after which everything answered.
type Good struct {
	At    string            `json:"at,omitempty"` // RFC 3339
	Parts map[string]Chosen `json:"parts,omitempty"`
	File  map[string]string `json:"file,omitempty"` // what the stack file said then
}

// Chosen is what a part ran on.
type Chosen struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`
	Program string `json:"program,omitempty"` // "": built into Dravit
}

// Gateway is what the user wants of the gateway's ports. 0: 80 and 443 where that is allowed, else others.
type Gateway struct {
	HTTP  int `json:"http,omitempty"`
	HTTPS int `json:"https,omitempty"`
}

// Consent is what the user allowed for this plan.
type Consent struct {
	Upgrade  []string `json:"upgrade,omitempty"`  // parts whose data a newer program may change, after a copy
	Afresh   bool     `json:"afresh,omitempty"`   // earlier choices do not count
	Network  []string `json:"network,omitempty"`  // sites that other machines may see
	Loopback []string `json:"loopback,omitempty"` // sites that they may not, though the stack file wants it
	// that host names may end with, though they are not reserved for private use
	Suffixes []string `json:"suffixes,omitempty"`
}

// Written says what wrote a part's data folder last.
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
	// Changes are what became different since the last good start, which was at Since.
	Changes []Change `json:"changes"`
	Since   string   `json:"since,omitempty"`
	// Edits are what the stack file says otherwise since then.
	Edits []Change `json:"edits,omitempty"`
	// Notes are what was found and could not be used: a manifest that cannot be read.
	Notes []string `json:"notes"`
	// Warnings are what the user should know of what was decided.
	Warnings []string `json:"warnings"`

	HTTPPort  int `json:"gateway_port"`
	HTTPSPort int `json:"gateway_secure_port"` // for HTTPS
	// DNSPort is where the gateway answers DNS, 0 where every name ends with localhost.
	DNSPort int `json:"gateway_resolver_port,omitempty"`
}

// PartPlan is a part as decided. Program is "" for a part built into Dravit.
type PartPlan struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Version string `json:"version"`
	Program string `json:"program"`
	Origin  string `json:"origin"`
	Port    int    `json:"port,omitempty"`
	Socket  string `json:"socket,omitempty"`

	Role  kind.Role `json:"role"`
	Data  bool      `json:"data,omitempty"`       // it keeps a data folder
	Uses  []string  `json:"uses,omitempty"`       // the parts it needs
	Debug int       `json:"debug_port,omitempty"` // where an editor waits for the part's debugger
	// Modules are loaded in this order. Those of the project have paths relative to it.
	Modules []kind.Module `json:"modules,omitempty"`
	// Unfit are modules of the project that this runtime cannot load.
	Unfit []kind.Choice `json:"unfit,omitempty"`

	Facts       map[string]string    `json:"-"`
	Want        stackfile.PartConfig `json:"-"`
	UpgradeFrom string               `json:"-"` // the version whose data are to be changed
}

// Change is one thing that became different since the last good start.
type Change struct {
	Subject string `json:"subject"`
	Was     string `json:"was"`
	Now     string `json:"now"`
	Because string `json:"because"`
}

// SitePlan is a site as decided.
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
	Include  string   `json:"include,omitempty"` // directives of the web server's own, relative to the project
	// Network tells that other machines are to see the site; NetworkPort is where they do, 0 where nobody has agreed.
	Network     bool              `json:"network,omitempty"`
	NetworkPort int               `json:"network_port,omitempty"`
	Expect      *stackfile.Expect `json:"-"`
}

// Decision is one choice. Subject is its path: part.app.version, site.ferry.name.
type Decision struct {
	Subject  string   `json:"subject"`
	Choice   string   `json:"choice"`
	Because  []string `json:"because"`
	Rejected []Option `json:"rejected"`
	// State, of an extension, is what became of it: built-in, loaded or unfit. "": the decision is about something
	// else.
	State kind.EntryState `json:"state,omitempty"`
}

// Option is one that was turned down.
type Option = kind.Option

// Fault is a demand that nothing satisfies.
type Fault = trouble.Trouble
