// Package stackfile reads dravit.toml: strictly, with every fault at once and the place of each.
package stackfile

import (
	"maps"
	"reflect"
	"slices"
)

// Name and LocalName are the files in a project's folder. The second, kept out of the repository, overrides any key of
// the first.
const (
	Name      = "dravit.toml"
	LocalName = "dravit.local.toml"
)

// File is a stack file. Keys that a later version of Dravit will understand are left out: naming one is a fault.
type File struct {
	Name     string                `toml:"name" json:"name" doc:"The stack's name. Absent: the folder's name." pattern:"^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$" hint:"small letters, digits and -, as in a host name, at most 63"`
	Requires map[string]Require    `toml:"requires" json:"requires,omitempty" doc:"Command-line programs that must be there, each with a version or a table."`
	Parts    map[string]PartConfig `toml:"part" json:"part" doc:"The members of the stack, each under a name of yours: letters, digits, - and _."`
	Sites    []SiteConfig          `toml:"site" json:"site,omitempty" doc:"The sites of the stack, each with a host name."`
	Env      map[string]Text       `toml:"env" json:"env,omitempty" doc:"Variables for parts and commands; {db.port} stands for the port of the part db."`
	Dotenv   string                `toml:"dotenv" json:"dotenv,omitempty" doc:"A file in the project, a dot file, that start fills with the stack's variables, for tools that read one." pattern:"(^|/)\\.[A-Za-z0-9][A-Za-z0-9._-]*$" hint:"a dot file, which no web server gives away: .env.local"`
}

// PartConfig is one part as the stack file describes it.
type PartConfig struct {
	Kind       Texts           `toml:"kind" json:"kind" required:"true" doc:"What the part is; of a list, the first kind that this machine has and that meets every demand."`
	Version    string          `toml:"version" json:"version,omitempty" doc:"A version prefix (8.2) or comparisons (>= 8.1, < 8.4)." check:"version"`
	Port       int             `toml:"port" json:"port,omitempty" doc:"A pinned TCP port. Absent: any free port, kept from then on." minimum:"1" maximum:"65535"`
	Uses       []string        `toml:"uses" json:"uses" doc:"The parts that this one needs. Absent: a runtime or command uses every store and the mail catcher."`
	Main       bool            `toml:"main" json:"main,omitempty" doc:"Of several stores of one sort, the one that unprefixed variables (DATABASE_URL) point to."`
	Command    string          `toml:"command" json:"command,omitempty" doc:"The command of a part with its own server. It listens on {port}, which is also in PORT." pattern:"\\S" hint:"it must not be empty"`
	Database   string          `toml:"database" json:"database,omitempty" doc:"The name of the database. Absent: the stack's name." pattern:"^[A-Za-z][A-Za-z0-9_]{0,47}$" hint:"letters, digits and _"`
	User       string          `toml:"user" json:"user,omitempty" doc:"The application's database user. Absent: the database's name." pattern:"^[A-Za-z][A-Za-z0-9_]{0,31}$" hint:"letters, digits and _"`
	Extensions []string        `toml:"extensions" json:"extensions" doc:"The runtime's extensions: names, or paths to files in the project. Absent: every one that the machine has, debuggers aside." items:"^([A-Za-z0-9_]+|[^\\x00-\\x1f\"]*(/[^\\x00-\\x1f\"]*|\\.so))$" hint:"letters, digits and _"`
	Without    []string        `toml:"without" json:"without,omitempty" doc:"Extensions to leave out, of all that the machine has." items:"^[A-Za-z0-9_]+$" hint:"letters, digits and _"`
	Debugger   bool            `toml:"debugger" json:"debugger,omitempty" doc:"Load the runtime's debugger, which calls an editor on a port of the stack's own."`
	Settings   map[string]Text `toml:"settings" json:"settings,omitempty" doc:"Settings of the program itself, in its own names." keys:"^[A-Za-z0-9_.-]+$"`

	Requires *Requirements `toml:"requires" json:"requires,omitempty" doc:"What the application itself requires of its runtime and databases: settings, functions, writable folders."`

	// Also are extensions that the project's own files want, which no stack file names.
	Also []string `toml:"-" json:"also,omitempty"`

	// Of holds what is written for one kind of the list only, as [part.db.mariadb].
	Of map[string]PartConfig `toml:"-" json:"of,omitempty"`
}

// Requirements are what an application's own page of requirements would test, beyond the runtime's version and its
// extensions.
type Requirements struct {
	Settings  map[string]Text `toml:"settings" json:"settings,omitempty" doc:"Settings of the runtime with the values they need: memory_limit = \">= 128M\"." keys:"^[A-Za-z0-9_.-]+$" check:"demand"`
	Database  map[string]Text `toml:"database" json:"database,omitempty" doc:"Variables of the databases that the part uses: max_allowed_packet = \">= 16M\"." keys:"^[A-Za-z0-9_.]+$" check:"demand"`
	Functions []string        `toml:"functions" json:"functions,omitempty" doc:"Functions that must not be disabled." items:"^[A-Za-z_][A-Za-z0-9_\\\\]*$" hint:"letters, digits and _"`
	Writable  []string        `toml:"writable" json:"writable,omitempty" doc:"Folders and files of the project that the application writes to." items:"\\S" hint:"it must not be empty"`
}

// SiteConfig is one virtual host, or, with Each, one for each folder.
type SiteConfig struct {
	Name    string   `toml:"name" json:"name,omitempty" doc:"The site's name; it is served as NAME.localhost." pattern:"^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?(\\.[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?){0,4}$" hint:"small letters, digits and -, as in a host name, at most 63"`
	Each    string   `toml:"each" json:"each,omitempty" doc:"Instead of a name: folders of the project, such as crew/*. Each is a site of its own name as soon as it is there." pattern:"^([^*?\\[\\]\\\\]+/)?[^/\\[\\]\\\\]*[*?][^/\\[\\]\\\\]*$" hint:"folders of one folder, with * or ? in their names: crew/*"`
	Aliases []string `toml:"aliases" json:"aliases,omitempty" doc:"Further names of the site, served as NAME.localhost; *.tides is every name below tides." items:"^(\\*\\.)?[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?(\\.[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?){0,4}$" hint:"small letters, digits and -, as in a host name, at most 63"`
	Root    string   `toml:"root" json:"root,omitempty" doc:"The document root, relative to the project (with each: to the folder). Absent: public, web, htdocs or the project itself, the first with an index." pattern:"\\S" hint:"it must not be empty"`
	App     string   `toml:"app" json:"app,omitempty" doc:"The part that runs the site: a runtime, or a part with its own server. Absent: files only."`
	Server  string   `toml:"server" json:"server,omitempty" doc:"The part that serves the site. Absent: the only web server of the stack, or an added dravit-web."`
	Include string   `toml:"include" json:"include,omitempty" doc:"A file of the project with directives of the web server's own, for this site. The server tests it before it is used." pattern:"\\S" hint:"it must not be empty"`
	Suffix  string   `toml:"suffix" json:"suffix,omitempty" doc:"What the site's names end with. Absent: localhost, which needs no set-up; test needs the hosts file or Dravit's resolver." pattern:"^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?(\\.[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?){0,4}$" check:"suffix" hint:"small letters, digits and -, as in a host name, at most 63"`
	Listen  string   `toml:"listen" json:"listen,omitempty" doc:"network: other machines may see the site, on a port of its own, once this machine's user has agreed. Absent: loopback only." pattern:"^(loopback|network)$" hint:"loopback or network"`
	Expect  *Expect  `toml:"expect" json:"expect,omitempty" doc:"What a healthy site answers."`
}

// DefaultSuffix is what names end with where the stack file does not say (RFC 6761, section 6.3: it always means this
// machine).
const DefaultSuffix = "localhost"

// HostSuffix is what the site's names end with.
func (s SiteConfig) HostSuffix() string {
	if s.Suffix == "" {
		return DefaultSuffix
	}
	return s.Suffix
}

// Network tells whether other machines are to see the site.
func (s SiteConfig) Network() bool { return s.Listen == "network" }

// Expect is what a check asks of a site and what must come back.
type Expect struct {
	Path   string `toml:"path" json:"path,omitempty" doc:"The address asked, / by default." pattern:"^/" hint:"it begins with /"`
	Status int    `toml:"status" json:"status,omitempty" doc:"The expected status; absent: any below 400." minimum:"100" maximum:"599"`
	Text   string `toml:"text" json:"text,omitempty" doc:"A text that the answer must contain."`
}

// URLPath is the address to ask, also of a site that expects nothing.
func (e *Expect) URLPath() string {
	if e == nil || e.Path == "" {
		return "/"
	}
	return e.Path
}

// Require is a command-line program that must be there. In the file it is a table, or a version alone.
type Require struct {
	Version string `toml:"version" json:"version,omitempty" doc:"A version prefix or comparisons. Absent: any version." check:"version"`
	Ask     string `toml:"ask" json:"ask,omitempty" check:"ask" doc:"The arguments with which the program tells its version: one of --version, -version, -V, -v, version. Absent: known for many programs, else --version. Others go into the settings of a machine."`
	Pattern string `toml:"pattern" json:"pattern,omitempty" doc:"A regular expression (RE2) whose first group is the version. Absent: the first number with a dot." check:"expression"`
}

// Texts is one text or a list of them.
type Texts []string

// Text is a text; numbers and booleans are taken as they are written.
type Text string

// notBuilt are keys of the design that this version does not understand yet, by table.
var notBuilt = map[string][]string{
	"":     {"task"},
	"part": {"seed"},
}

// For returns the part as it stands for one kind of its list: what the kind's own table says goes before what holds for
// all of them. Settings of both are put together.
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

// Demanding tells whether the part's application requires anything of it, whatever its kind will be.
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
