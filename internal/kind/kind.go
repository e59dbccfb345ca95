// Package kind says what a kind of part is: the pure half that a plan rests on (needs, fit, exports, configuration
// text) and the live half that fills data, starts and asks. Each kind has a package below this one.
package kind

import (
	"context"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"slices"
	"strings"
	"syscall"
	"time"

	"dravit/internal/setting"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// Role is what a part does for its stack.
type Role string

const (
	Web      Role = "web"      // serves sites
	Runtime  Role = "runtime"  // runs a site's code for a web server, over FastCGI
	App      Role = "app"      // a server of the project's own
	Database Role = "database" // a store
	Cache    Role = "cache"    // a store
	Mail     Role = "mail"
)

// Store tells whether parts of the role keep something for others: a runtime uses every store of its stack.
func (r Role) Store() bool { return r == Database || r == Cache || r == Mail }

// Program is one installed program, or one built into Dravit (Path is empty then).
type Program struct {
	Kind    string            `json:"kind"`
	Version string            `json:"version"`
	Path    string            `json:"path,omitempty"`
	Origin  string            `json:"origin"`          // system, local, user, versions, settings, path; built-in, project
	Facts   map[string]string `json:"facts,omitempty"` // in the kind's own words; lists are separated by spaces
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

// Kind is the pure half of a kind: it looks at nothing but its arguments.
type Kind interface {
	Name() string
	Role() Role
	// Keys are the keys of a part's table that the kind understands, apart from kind, version and uses.
	Keys() []string
	// Programs are the file names, as patterns of path.Match, that the kind's program goes by. None: built in.
	Programs() []string
	// Fit tells why a program does not serve what the part wants, apart from its version. Empty: it does.
	Fit(want stackfile.Part, p Program) string
	Needs(want stackfile.Part) Needs
	// Exports is what the part tells others of itself, once it has its place.
	Exports(p Part) Exports
	// Files are the configuration files of the part.
	Files(p Part) ([]File, error)
}

// Versioned is a kind without a program that has a version of its own: a library built into Dravit.
type Versioned interface{ Version() string }

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
	Stack   string            `json:"stack"`    // the stack's name
	StackID string            `json:"stack_id"` // its folder's id
	Name    string            `json:"name"`
	Kind    string            `json:"kind"`
	Role    Role              `json:"role"`
	Version string            `json:"version"`
	Program string            `json:"program"`
	Facts   map[string]string `json:"facts,omitempty"`
	Want    stackfile.Part    `json:"want"`
	Uses    []string          `json:"uses,omitempty"`
	Modules []Module          `json:"modules,omitempty"` // to load, in this order; files are absolute
	Debug   int               `json:"debug,omitempty"`   // the port on which an editor waits for the part's debugger; 0: none
	// UpgradeFrom is the version that wrote the data, where the user consented to have a newer one change it. "": nothing to change.
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
	Keep    string `json:"keep,omitempty"` // a folder that outlives restarts; another version may read, or lose, what is in it
	Log     string `json:"log"`
	Lock    string `json:"lock"` // held by every process of the part
	Self    string `json:"self"` // the dravit program, for built-in parts

	Env    []string `json:"env"`
	Path   []string `json:"path,omitempty"`   // folders that come first on its PATH
	Sites  []Site   `json:"sites,omitempty"`  // of a web server: all it serves; of an app: those that it runs
	Stores []Store  `json:"stores,omitempty"` // of a runtime: what it uses

	Hash string `json:"hash"` // of everything that makes a restart necessary when it changes
	// Config is the hash of what a Reloader takes while it runs. "" for other kinds.
	Config string `json:"config,omitempty"`
}

// Host is where parts with a port listen.
const Host = "127.0.0.1"

// Entrance returns where a web server takes requests: its socket, else its port.
func (p Part) Entrance() (network, address string) {
	if p.Socket != "" {
		return "unix", p.Socket
	}
	return "tcp", fmt.Sprintf("%s:%d", Host, p.Port)
}

// Site is a virtual host as its web server sees it.
type Site struct {
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

// HostKeys are the names under which a host may be found in a table with wildcards, the closest first: itself, then *. before each
// of its parents.
func HostKeys(host string) []string {
	keys := []string{host}
	for {
		_, rest, ok := strings.Cut(host, ".")
		if !ok {
			return keys
		}
		keys, host = append(keys, "*."+rest), rest
	}
}

// Store is a part that a runtime's probe reaches, with the names of its variables only: the values stand in the environment.
type Store struct {
	Name   string `json:"name"`
	Kind   string `json:"kind"`
	Role   Role   `json:"role"`
	Prefix string `json:"prefix"`
}

// ProbePath is the address below which web servers pass a probe on to a runtime; everybody else gets 404 there.
const ProbePath = "/.dravit/probe"

// VisitedHeader carries the Host header of a visitor from another machine, who calls this one by an address: the request's own Host is then the
// site's name, by which the web server knows the site. Applications see what the visitor wrote. Only the gateway sets it.
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

// Grace is how long requests in flight may take to finish, where a part ends to come back.
const Grace = 2 * time.Second

// Server is the live half: what is done with real processes. Further interfaces below are asked for where a kind has more.
type Server interface {
	Kind
	Command(p Part) Command
	Ladder(p Part) []Rung
}

// Prober reads a found program's version and build facts.
type Prober interface {
	// Probe runs the program through run, which has a deadline, no terminal and bounded output. A fact with an empty value says that
	// something was looked for and is missing.
	Probe(ctx context.Context, path string, run func(path string, args ...string) (string, error)) (version string, facts map[string]string, err error)
}

// Tester has the program test its own configuration without starting.
type Tester interface{ Test(p Part) Command }

// Reloader is a server that takes a new configuration while it runs: requests in flight finish with the one before.
type Reloader interface {
	// Reload is the signal to its leading process.
	Reload() syscall.Signal
}

// Includer is a web server with directives of its own, which a site's Include may hold.
type Includer interface {
	// Includes does nothing: it tells that Files writes the Includes of sites.
	Includes()
}

// Filler fills a new data folder.
type Filler interface {
	// Template names what a freshly filled folder without passwords depends on, apart from kind, version and architecture.
	Template(p Part) string
	// Fill fills the empty folder dir. It leaves no process behind.
	Fill(ctx context.Context, p Part, dir string) error
}

// Preparer makes what a part's clients need (users, databases) when the server greets for the first time. It may be repeated.
type Preparer interface {
	Prepare(ctx context.Context, p Part) error
}

// Cleaner is a server that leaves a note in its data folder which keeps it from starting again.
type Cleaner interface {
	// Clean removes it where no process stands behind it: runs reports whether a process id is one of a program whose name
	// contains a text.
	Clean(p Part, runs func(pid int, name string) bool) error
}

// Explainer finds a server's own last words of a failure, for what none of its Symptoms is behind. "": it said nothing.
type Explainer interface {
	LastWords(log string) string
}

// Probed is a runtime with a probe script, which a site's check reaches the whole way round.
type Probed interface {
	// ProbeToken returns what the probe of this start answers to, in the header ProbeHeader.
	ProbeToken(p Part) (string, error)
	// Fault returns the error that the runtime wrote into a page in place of what it should say, "" where there is none.
	Fault(page []byte) string
	// LoggedFault returns the error with which the runtime ended a page, as it writes it into a log; "" if there is none.
	LoggedFault(log string) string
	// Legs returns what the probe says of the way behind the web server: the runtime's own leg, then one to each store.
	Legs(p Part, body []byte) []Leg
	// Judge tells from the probe's answer whether the part runs code and reaches every store that it uses.
	Judge(p Part, status int, body []byte) error
}

// Leg is one part of the way of a request, from the name to the stores.
type Leg struct {
	Leg      string  `json:"leg"` // name, gateway, server, runtime, store
	Who      string  `json:"who"`
	Version  string  `json:"version,omitempty"` // that answered
	MS       float64 `json:"ms"`                // its own time, without that of the legs behind it
	Holds    *bool   `json:"holds"`             // null: not asked
	Advisory bool    `json:"advisory"`
	Got      string  `json:"got,omitempty"` // where it does not hold, or what it found
}

// ProbeHeader carries a probe's token.
const ProbeHeader = "Dravit-Probe"

// Builtin is a part that the dravit program itself runs.
type Builtin interface {
	// Serve reads its configuration file and serves until the context ends.
	Serve(ctx context.Context, config string) error
}

// RungName is one step of a ladder.
type RungName string

const (
	Alive    RungName = "alive"    // something of the part lives
	Open     RungName = "open"     // its socket accepts
	Ours     RungName = "ours"     // that socket belongs to it
	Greets   RungName = "greets"   // greeting and credentials accepted in its own protocol
	Works    RungName = "works"    // a round trip of real work
	Resolves RungName = "resolves" // the system's resolver gives loopback
	Reaches  RungName = "reaches"  // the gateway accepts
	Routed   RungName = "routed"   // the right stack took it
	Replies  RungName = "replies"  // status as expected
	Matches  RungName = "matches"  // the expected text came, from the runtime
)

// Rung is one step of a ladder and how to ask for it.
type Rung struct {
	Name     RungName
	Advisory bool // does not count for the ladder
	// Ask returns nil where the rung holds. A *Miss says what was expected and what came.
	Ask func(ctx context.Context) error
	// After, where there is one, is called once the ladder has been climbed, as far as it held.
	After func()
}

// Miss is a rung that does not hold.
type Miss struct{ Expected, Got string }

func (m *Miss) Error() string { return "expected " + m.Expected + ", got " + m.Got }

// State is what a part is doing.
type State string

const (
	Waiting  State = "waiting"
	Starting State = "starting"
	Answers  State = "answers"
	Unwell   State = "unwell"
	Pausing  State = "pausing"
	Failed   State = "failed"
	Stopping State = "stopping"
	Stopped  State = "stopped"
	Asleep   State = "asleep"
)

// worst orders the states; a stack's state is its worst part's.
var worst = map[State]int{Answers: 0, Asleep: 1, Stopped: 2, Stopping: 3, Starting: 4, Waiting: 5, Pausing: 6, Unwell: 7, Failed: 8}

// Worse returns the worse of two states.
func Worse(a, b State) State {
	if worst[a] >= worst[b] {
		return a
	}
	return b
}

// Phase is what a part does on its way to its first answer.
type Phase string

const (
	PhaseWaiting   Phase = "waiting"   // for another part
	PhasePreparing Phase = "preparing" // what must be there before its process: data, a tested configuration
	PhaseStarting  Phase = "starting"  // its process runs, and does not listen yet
	PhaseAnswering Phase = "answering" // its ladder is climbed
)

// Span is the time that a part spent in a phase.
type Span struct {
	Phase Phase     `json:"phase"`
	From  time.Time `json:"from"`
	To    time.Time `json:"to"`
	For   string    `json:"for,omitempty"` // the part that was waited for
}

// Exit is how a process of a part ended.
type Exit struct {
	At    time.Time `json:"at"`
	How   string    `json:"how"`    // it ended with code 1
	Code  int       `json:"code"`   // the process's exit code, -1 if a signal ended it or nobody saw it
	RanMS int64     `json:"ran_ms"` // since it was started, or taken over by this keeper
	Tail  []string  `json:"log_tail,omitempty"`
}

// Status is a part's state as the keeper sees it.
type Status struct {
	Name     string    `json:"name"`
	Kind     string    `json:"kind"`
	Version  string    `json:"version"`
	State    State     `json:"state"`
	PID      int       `json:"pid,omitempty"`
	Port     int       `json:"port,omitempty"`
	Socket   string    `json:"socket,omitempty"`
	Memory   int64     `json:"memory_bytes"`
	Since    time.Time `json:"since,omitzero"`     // when it took this state
	ProvedAt time.Time `json:"proved_at,omitzero"` // when its whole ladder held last
	Restarts int       `json:"restarts,omitempty"` // since the stack was started
	Because  string    `json:"because,omitempty"`  // what is wrong, or what it waits for
	Next     string    `json:"next,omitempty"`
	// LastExit is how its process ended last; nil: it did not since the stack was started.
	LastExit *Exit `json:"last_exit,omitempty"`
	// Code says what is wrong, as far as code has to know it; "": see Because.
	Code     trouble.Code `json:"code,omitempty"`
	LogTail  []string     `json:"log_tail,omitempty"`  // last words of a part that failed
	LogFrom  int64        `json:"log_from,omitempty"`  // where in its log, in bytes, what was written since it last answered begins
	LogStart int64        `json:"log_start,omitempty"` // where in its log, in bytes, its process began
}

// ServeHTTP serves, with TLS where the server has a configuration for it, until the context ends, then gives requests in flight Grace to finish.
func ServeHTTP(ctx context.Context, server *http.Server, listener net.Listener) error {
	ended := make(chan error, 1)
	go func() {
		if server.TLSConfig != nil {
			ended <- server.ServeTLS(listener, "", "")
			return
		}
		ended <- server.Serve(listener)
	}()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	late, cancel := context.WithTimeout(context.WithoutCancel(ctx), Grace)
	defer cancel()
	if err := server.Shutdown(late); err != nil {
		server.Close()
	}
	<-ended
	return nil
}

// Ruled is a kind with settings about which not the stack file alone decides.
type Ruled interface {
	// Rules are by the settings' names, in small letters with _ between words.
	Rules() map[string]setting.Rule
}

// Configured is a kind whose settings are known where the stack file does not say.
type Configured interface {
	Default(name string) (value string, known bool)
}

// Requirement is one thing that an application requires, as it was found.
type Requirement struct {
	Sort   string `json:"sort"` // setting, database, function, writable
	Name   string `json:"name"`
	Wanted string `json:"wanted"`
	Got    string `json:"got"`
	Holds  bool   `json:"holds"`
}

// Unmet returns the first requirement that does not hold. ok is false where all do.
func Unmet(all []Requirement) (first Requirement, ok bool) {
	if i := slices.IndexFunc(all, func(r Requirement) bool { return !r.Holds }); i >= 0 {
		return all[i], true
	}
	return Requirement{}, false
}

// Requirer asks the process that serves pages for what its application requires.
type Requirer interface {
	Requirements(ctx context.Context, p Part) ([]Requirement, error)
}
