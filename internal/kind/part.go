package kind

import (
	"dravit/internal/stackfile"
	"io/fs"
	"net"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// Program is one installed program, or one built into Dravit (Path is empty then).
type Program struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`
	Path    string `json:"path,omitempty"`
	// system, local, user, versions, settings, path; built-in, project
	Origin string            `json:"origin"`
	Facts  map[string]string `json:"facts,omitempty"` // in the kind's own words; lists are separated by spaces
}

// Needs is what a part takes of the machine.
type Needs struct {
	Port     bool // a TCP port on 127.0.0.1, where people's tools connect
	PortBase int  // where the search for a free port begins
	Socket   bool // a socket in the run folder
	// SocketName is the socket's file name where the server chooses it; {port} stands for the port.
	SocketName string
	Data       bool // a data folder, kept until it is asked to go
	// Older is what a program does with the data of an older series.
	Older Older
	// Series is how many leading numbers of a version programs share that read each other's data. 0: two.
	Series int
}

// Older is what a program does with data that an older series of it wrote.
type Older int

const (
	ReadsOlder   Older = iota // it uses them as they are
	ChangesOlder              // it takes them over, and the older one cannot read them any more
	RefusesOlder              // it cannot read them
)

// Exports is how to reach a part, for other parts and commands.
type Exports struct {
	URL      string            // with credentials; "" where the kind has none
	Database string            // where it is not the part's Database: a file's path
	NoLogin  bool              // nobody logs in: there is neither user nor password
	Common   map[string]string // the names that frameworks read without a prefix
}

// File is one configuration file, its name relative to the part's configuration folder.
type File struct {
	Name string
	Text string
	Mode fs.FileMode
}

// Part is one part of a stack, decided and placed: all that a kind needs to write its configuration, start and ask it.
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
	// the port on which an editor waits for the part's debugger; 0: none
	Debug int `json:"debug,omitempty"`
	// UpgradeFrom is the version that wrote the data, where the user consented to have a newer one change it. "":
	// nothing to change.
	UpgradeFrom string `json:"upgrade_from,omitempty"`

	Port     int    `json:"port,omitempty"`   // on 127.0.0.1; 0: none
	Socket   string `json:"socket,omitempty"` // "": none
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"`
	Database string `json:"database,omitempty"` // a name

	Project string `json:"project"` // folders and files, absolute
	Conf    string `json:"conf"`
	Data    string `json:"data,omitempty"` // "" where nothing is kept
	Temp    string `json:"temp"`
	// a folder that outlives restarts; another version may read, or lose, what is in it
	Keep string `json:"keep,omitempty"`
	Log  string `json:"log"`
	Lock string `json:"lock"` // held by every process of the part
	Self string `json:"self"` // the dravit program, for built-in parts

	Env    []string      `json:"env"`
	Path   []string      `json:"path,omitempty"`   // folders that come first on its PATH
	Sites  []VirtualHost `json:"sites,omitempty"`  // of a web server: all it serves; of an app: those that it runs
	Stores []StoreRef    `json:"stores,omitempty"` // of a runtime: what it uses

	Hash string `json:"hash"` // of everything that makes a restart necessary when it changes
	// Config is the hash of what a Reloader takes while it runs. "" for other kinds.
	Config string `json:"config,omitempty"`
}

// Host is where parts with a port listen.
const Host = "127.0.0.1"

// Loopback returns the address (host:port) of a port of this machine.
func Loopback(port int) string { return net.JoinHostPort(Host, strconv.Itoa(port)) }

// Entrance returns where a web server takes requests: its socket, else its port.
func (p Part) Entrance() (network, address string) {
	if p.Socket != "" {
		return "unix", p.Socket
	}
	return "tcp", Loopback(p.Port)
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
	Include string   `json:"include,omitempty"` // a file with directives of the server's own
	// Included is the hash of that file: it tells that the file has changed.
	Included string `json:"included,omitempty"`
}

// StoreRef is a store that a runtime's probe reaches, with the names of its variables only: the values stand in the
// environment.
type StoreRef struct {
	Name   string `json:"name"`
	Kind   string `json:"kind"`
	Role   Role   `json:"role"`
	Prefix string `json:"prefix"`
}

// ProbePath is the address below which web servers pass a probe on to a runtime; everybody else gets 404 there.
const ProbePath = "/.dravit/probe"

// VisitedHeader carries the Host header of a visitor from another machine, who calls this one by an address: the
// request's own Host is then the site's name, by which the web server knows the site. Applications see what the visitor
// wrote. Only the gateway sets it.
const VisitedHeader = "Dravit-Visited"

// Command is how a part's process is started. The zero Command stands for a part without one.
type Command struct {
	Path string
	Args []string
	Dir  string
	Env  []string
	Stop syscall.Signal // ends it cleanly
	// Supervised is for a program that may start anything in any way: it runs below a supervisor (package supervise).
	Supervised bool
	// Finish ends it, too, once the requests in flight have their answers. 0: Stop does no better.
	Finish syscall.Signal
}

// ProbeHeader carries a probe's token.
const ProbeHeader = "Dravit-Probe"

// AloneHeader, with any value, asks a probe about the runtime alone: it does not ask the stores.
const AloneHeader = "Dravit-Alone"

// Getenv returns the value of a variable in an environment, "" if it has none.
func Getenv(env []string, name string) string {
	for _, v := range slices.Backward(env) {
		if value, ok := strings.CutPrefix(v, name+"="); ok {
			return value
		}
	}
	return ""
}
