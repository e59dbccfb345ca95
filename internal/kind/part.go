package kind

import (
	"cmp"
	"io/fs"
	"net"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"dravit/internal/stackfile"
)

// Program is an installed program, or one that is built into Dravit (then Path is "").
type Program struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`
	Path    string `json:"path,omitempty"`
	// one of system, local, user, versions, settings, supply, path, built-in, project
	Origin string            `json:"origin"`
	Facts  map[string]string `json:"facts,omitempty"` // in the kind's own words; lists are separated by spaces
}

// Needs is what a part needs from the machine.
type Needs struct {
	Port     bool // a TCP port on 127.0.0.1, for users' own tools
	PortBase int  // the search for a free port begins here
	More     []NamedPort
	Socket   bool // a Unix socket in the run folder
	// SocketName is the socket's file name, if the server chooses it; {port} stands for the port.
	SocketName string
	Data       bool // a data folder, kept until the user deletes it
	// Older is what a program does with the data of an older series.
	Older Older
	// Releases that agree in this many numbers read each other's data (PostgreSQL: 1). 0 means 2.
	Series int
}

// NamedPort is a further TCP port of a part, on 127.0.0.1: that of its management, say.
type NamedPort struct {
	Name string // in lower case, of letters and _
	Base int    // the search for a free port begins here
}

// Field is what the stack file calls the port: {part.management_port}.
func (p NamedPort) Field() string { return p.Name + "_port" }

// SeriesOf returns the leading numbers of a version that must agree for programs to read each other's data.
func (n Needs) SeriesOf(version string) string {
	count := n.Series
	if count == 0 {
		count = 2
	}
	numbers := strings.Split(version, ".")
	return strings.Join(numbers[:min(count, len(numbers))], ".")
}

// Older is what a program does with data that an older series of it wrote.
type Older int

const (
	ReadsOlder   Older = iota // it uses them unchanged
	ChangesOlder              // it converts them, and the older program cannot read them afterwards
	ReloadsOlder              // it cannot read them: Store.Upgrade takes them over by the older program
)

// Exports is how other parts and commands reach a part.
type Exports struct {
	URL      string            // with user and password; "" if the kind has no URL
	Database string            // if it is not the part's Database: the path of a file
	NoLogin  bool              // there is no user and no password
	Common   map[string]string // variables that frameworks read without a prefix
	Fields   map[string]string // further ones, as Traits.Fields names them, which others may write: a bucket, a realm
}

// File is one configuration file, its name relative to the part's configuration folder.
type File struct {
	Name string
	Text string
	Mode fs.FileMode
}

// Part is one part of a stack with its port and folders: all that a kind needs to write its configuration, start it and
// ask it.
type Part struct {
	Stack   string               `json:"stack"`    // the stack's name
	StackID string               `json:"stack_id"` // its folder's id
	Name    string               `json:"name"`
	Kind    string               `json:"kind"`
	Role    Role                 `json:"role"`
	Version string               `json:"version"`
	Program string               `json:"program"`
	Facts   map[string]string    `json:"facts,omitempty"`
	Want    stackfile.PartConfig `json:"want"`
	Uses    []string             `json:"uses,omitempty"`
	Modules []Module             `json:"modules,omitempty"` // to load, in this order; files are absolute
	// the port on which an editor waits for the part's debugger, or 0
	Debug int `json:"debug,omitempty"`
	// UpgradeFrom is the version that wrote the data, if the user agreed that a newer one converts it, else "".
	UpgradeFrom string `json:"upgrade_from,omitempty"`
	UpgradeWith string `json:"upgrade_with,omitempty"` // a program of that release, if the kind ReloadsOlder

	Port int `json:"port,omitempty"` // on Host; 0: none
	// Ports are further ones, by the names in Needs.More.
	Ports  map[string]int `json:"ports,omitempty"`
	Socket string         `json:"socket,omitempty"` // "": none
	// Way is how the part runs; "": a process.
	Way Way `json:"way,omitempty"`
	// Outside is the host of a server that somebody else runs. "": Dravit runs the part, on 127.0.0.1.
	Outside string `json:"outside,omitempty"`
	// Network is whether other machines may reach the part itself: the user of this machine agreed.
	Network  bool   `json:"network,omitempty"`
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"`
	Database string `json:"database,omitempty"` // a name

	Project string `json:"project"` // folders and files, absolute
	Conf    string `json:"conf"`
	Data    string `json:"data,omitempty"` // "" if nothing is kept
	Temp    string `json:"temp"`
	// a folder that survives restarts; another version may read it, or lose what is in it
	Keep string `json:"keep,omitempty"`
	Log  string `json:"log"`
	Lock string `json:"lock"` // held by every process of the part
	Self string `json:"self"` // the dravit program, for built-in parts

	Env    []string      `json:"env"`
	Path   []string      `json:"path,omitempty"`   // folders that come first on its PATH
	Sites  []VirtualHost `json:"sites,omitempty"`  // of a web server: all that it serves; of an app: those that it runs
	Stores []StoreRef    `json:"stores,omitempty"` // of a runtime: what it uses
	// Databases are the SQL databases that a tool shows. They are set while its files are written.
	Databases []Part `json:"-"`

	Hash string `json:"hash"` // changes whenever a restart is necessary
	// Config is the hash of the configuration that the part can take while it runs, if Traits.Reload, else "".
	Config string `json:"config,omitempty"`
}

// Host is where parts with a port listen.
const Host = "127.0.0.1"

// Loopback returns 127.0.0.1 with a port (host:port).
func Loopback(port int) string { return net.JoinHostPort(Host, strconv.Itoa(port)) }

// HostName returns where the part listens: a name or an address, without brackets.
func (p Part) HostName() string { return cmp.Or(p.Outside, Host) }

// Address returns where the part listens on its port, as host:port.
func (p Part) Address() string { return net.JoinHostPort(p.HostName(), strconv.Itoa(p.Port)) }

// Entrance returns where a web server accepts requests: its socket, else its port.
func (p Part) Entrance() (network, address string) {
	if p.Socket != "" {
		return "unix", p.Socket
	}
	return "tcp", p.Address()
}

// VirtualHost is a site as its web server sees it.
type VirtualHost struct {
	Name    string   `json:"name"`
	Host    string   `json:"host"`              // without port
	Aliases []string `json:"aliases,omitempty"` // further hosts; *.NAME stands for every name below NAME
	Root    string   `json:"root"`              // absolute
	App     string   `json:"app,omitempty"`     // the part
	FPM     string   `json:"fpm,omitempty"`     // the runtime's FastCGI socket
	Proxy   string   `json:"proxy,omitempty"`   // the app's host:port
	Probe   string   `json:"probe,omitempty"`   // the runtime's probe script
	Include string   `json:"include,omitempty"` // a file with directives for the web server
	// Included is the hash of that file: it shows that the file has changed.
	Included string `json:"included,omitempty"`
}

// StoreRef names a store that a runtime's probe asks. It holds the names of variables only: their values are in the
// environment.
type StoreRef struct {
	Name   string `json:"name"`
	Kind   string `json:"kind"`
	Role   Role   `json:"role"`
	Prefix string `json:"prefix"`
}

// ProbePath is the path below which web servers pass a request with the token to the runtime's probe. Every other
// request gets 404 there.
const ProbePath = "/.dravit/probe"

// VisitedHeader carries the Host header of a client from another machine, which may use an address. The request's own
// Host is then the site's name, by which the web server finds the site. Applications see what the client wrote. Only
// the gateway sets this header.
const VisitedHeader = "Dravit-Visited"

// RunsFile is where the supervisor of a command that runs at intervals notes its runs (supervise.Runs).
func (p Part) RunsFile() string { return strings.TrimSuffix(p.Lock, ".lock") + ".runs" }

// Command says how to start a part's process. The zero Command stands for a part without one.
type Command struct {
	Path string
	Args []string
	Dir  string
	Env  []string
	Stop syscall.Signal // the signal that stops it cleanly
	// Processes is how many processes of a supervised command run; 0 means 1.
	Processes int
	// Every is how often a supervised command runs; 0: once, and it is to keep running.
	Every time.Duration
	// Finish is a signal that also stops it, after the requests in flight have their answers. 0: Stop does that.
	Finish syscall.Signal
}

// ProbeHeader carries the probe's token.
const ProbeHeader = "Dravit-Probe"

// AloneHeader, with any value, asks the probe about the runtime only, not about the stores.
const AloneHeader = "Dravit-Alone"

// Getenv returns the value of a variable in an environment, or "".
func Getenv(env []string, name string) string {
	for _, v := range slices.Backward(env) {
		if value, ok := strings.CutPrefix(v, name+"="); ok {
			return value
		}
	}
	return ""
}
