// Package stackfile reads dravit.toml strictly: it reports every fault at once, each with its place.
package stackfile

import (
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"
)

// Name and LocalName are the files in a project's folder. The second one overrides any key of the first, and is kept
// out of the repository.
const (
	Name      = "dravit.toml"
	LocalName = "dravit.local.toml"
)

// File is a stack file.
type File struct {
	Name     string                `toml:"name" json:"name"`
	Requires map[string]Require    `toml:"requires" json:"requires,omitempty"`
	Parts    map[string]PartConfig `toml:"part" json:"part"`
	Sites    []SiteConfig          `toml:"site" json:"site,omitempty"`
	Tasks    []TaskConfig          `toml:"task" json:"task,omitempty"`
	Env      map[string]Text       `toml:"env" json:"env,omitempty"`
	Dotenv   *Dotenv               `toml:"dotenv" json:"dotenv,omitempty"`
}

// Dotenv is a file of NAME=value lines that start writes, relative to the project.
type Dotenv struct {
	File string `toml:"file" json:"file"`
	// Keys are the variables whose lines start keeps up to date in a file of the project's own. nil: the whole file is
	// Dravit's.
	Keys []string `toml:"keys" json:"keys,omitempty"`
}

// PartConfig is one part as written in the stack file.
type PartConfig struct {
	Kind       Texts           `toml:"kind" json:"kind"`
	Version    string          `toml:"version" json:"version,omitempty"`
	Port       int             `toml:"port" json:"port,omitempty"`
	Outside    string          `toml:"outside" json:"outside,omitempty"`
	Uses       []string        `toml:"uses" json:"uses"`
	Main       bool            `toml:"main" json:"main,omitempty"`
	Command    string          `toml:"command" json:"command,omitempty"`
	Database   string          `toml:"database" json:"database,omitempty"`
	User       string          `toml:"user" json:"user,omitempty"`
	Extensions []string        `toml:"extensions" json:"extensions"`
	Without    []string        `toml:"without" json:"without,omitempty"`
	Debugger   bool            `toml:"debugger" json:"debugger,omitempty"`
	Settings   map[string]Text `toml:"settings" json:"settings,omitempty"`
	Seed       string          `toml:"seed" json:"seed,omitempty"`
	Listens    *bool           `toml:"listens" json:"listens,omitempty"`
	Every      string          `toml:"every" json:"every,omitempty"`
	Patience   string          `toml:"patience" json:"patience,omitempty"`
	Processes  int             `toml:"processes" json:"processes,omitempty"`
	Proof      *Proof          `toml:"proof" json:"proof,omitempty"`
	Writable   []string        `toml:"writable" json:"writable,omitempty"`
	Writes     bool            `toml:"writes" json:"writes,omitempty"`

	Requires *Requirements `toml:"requires" json:"requires,omitempty"`

	// Also are extensions that the project's own files demand and no stack file names.
	Also []string `toml:"-" json:"also,omitempty"`

	// Of holds the keys that apply to one kind of the list only, written as [part.db.mariadb].
	Of map[string]PartConfig `toml:"-" json:"of,omitempty"`
}

// Worker reports whether the part's command is a worker: it runs in the background and has no port.
func (p PartConfig) Worker() bool { return p.Listens != nil && !*p.Listens }

// Interval returns how often the command of a worker runs; 0: once, and it is to keep running.
func (p PartConfig) Interval() time.Duration {
	d, _ := time.ParseDuration(p.Every) // Read has checked it; an empty one is 0
	return d
}

// DefaultPatience is how long a part may take to answer after its start, if the stack file does not say.
const DefaultPatience = time.Minute

// Patient returns how long the part, or the first page of its sites, may take to answer after its start, as long as it
// does something.
func (p PartConfig) Patient() time.Duration {
	if d, err := time.ParseDuration(p.Patience); err == nil && d > 0 {
		return d
	}
	return DefaultPatience
}

// Proof says how to tell that a worker works: a command that exits with 0, or a file that the worker writes to.
type Proof struct {
	Command string `toml:"command" json:"command,omitempty"`
	File    string `toml:"file" json:"file,omitempty"`
	Within  string `toml:"within" json:"within,omitempty"`
}

// DefaultProofWithin is how old a worker's file may be if the stack file does not say.
const DefaultProofWithin = time.Minute

// MaxAge returns how old the file may be.
func (p Proof) MaxAge() time.Duration {
	if d, err := time.ParseDuration(p.Within); err == nil && d > 0 {
		return d
	}
	return DefaultProofWithin
}

// Requirements are what an application demands of its runtime and databases, beyond version and extensions.
type Requirements struct {
	Settings  map[string]Text `toml:"settings" json:"settings,omitempty"`
	Database  map[string]Text `toml:"database" json:"database,omitempty"`
	Functions []string        `toml:"functions" json:"functions,omitempty"`
	Writable  []string        `toml:"writable" json:"writable,omitempty"`
}

// SiteConfig is one site or, with Each, one site for each folder.
type SiteConfig struct {
	Name    string   `toml:"name" json:"name,omitempty"`
	Each    string   `toml:"each" json:"each,omitempty"`
	Aliases []string `toml:"aliases" json:"aliases,omitempty"`
	Root    string   `toml:"root" json:"root,omitempty"`
	App     string   `toml:"app" json:"app,omitempty"`
	Server  string   `toml:"server" json:"server,omitempty"`
	Include string   `toml:"include" json:"include,omitempty"`
	Suffix  string   `toml:"suffix" json:"suffix,omitempty"`
	Listen  string   `toml:"listen" json:"listen,omitempty"`
	Expect  *Expect  `toml:"expect" json:"expect,omitempty"`
}

// DefaultSuffix is the suffix of host names if the stack file sets none (RFC 6761, section 6.3: it always means this
// machine).
const DefaultSuffix = "localhost"

// HostSuffix returns the suffix of the site's host names.
func (s SiteConfig) HostSuffix() string {
	if s.Suffix == "" {
		return DefaultSuffix
	}
	return s.Suffix
}

// Below returns a name of the site without the suffix, which people write, too: ferry for ferry.localhost.
func (s SiteConfig) Below(name string) string { return strings.TrimSuffix(name, "."+s.HostSuffix()) }

// Network reports whether other machines should reach the site.
func (s SiteConfig) Network() bool { return s.Listen == "network" }

// Expect is what a check asks a site for, and what must come back.
type Expect struct {
	Path   string `toml:"path" json:"path,omitempty"`
	Status int    `toml:"status" json:"status,omitempty"`
	Text   string `toml:"text" json:"text,omitempty"`
	// Also are further paths, which must answer with a status below 400.
	Also []string `toml:"also" json:"also,omitempty"`
}

// URLPath returns the path to ask for. e may be nil.
func (e *Expect) URLPath() string {
	if e == nil || e.Path == "" {
		return "/"
	}
	return e.Path
}

// Require is the demand for a command-line program. In the file it is a table, or a version.
type Require struct {
	Version string `toml:"version" json:"version,omitempty"`
	Ask     string `toml:"ask" json:"ask,omitempty"`
	Pattern string `toml:"pattern" json:"pattern,omitempty"`
}

// Texts is one text or a list of them.
type Texts []string

// Text is a text. A number or boolean becomes the text that is written in the file.
type Text string

// For returns the part for one kind of its list. Keys in the kind's own table override the part's; settings of both are
// merged.
func (p PartConfig) For(kind string) PartConfig {
	own, ok := p.Of[kind]
	p.Of = nil
	p.Kind = Texts{kind}
	if !ok {
		return p
	}
	into, from := reflect.ValueOf(&p).Elem(), reflect.ValueOf(own)
	for i := range into.NumField() {
		key := into.Type().Field(i).Tag.Get("toml")
		if key == "-" || key == "kind" || from.Field(i).IsZero() {
			continue
		}
		if both, isMap := into.Field(i).Interface().(map[string]Text); isMap && both != nil {
			both = maps.Clone(both)
			maps.Copy(both, from.Field(i).Interface().(map[string]Text))
			into.Field(i).Set(reflect.ValueOf(both))
			continue
		}
		into.Field(i).Set(from.Field(i))
	}
	return p
}

// Demanding reports whether the part's application requires anything, under any kind of its list.
func (p PartConfig) Demanding() bool {
	for _, own := range p.Of {
		if own.Requires != nil {
			return true
		}
	}
	return p.Requires != nil
}

// PartNames returns the parts' names in alphabetical order.
func (f *File) PartNames() []string { return slices.Sorted(maps.Keys(f.Parts)) }
