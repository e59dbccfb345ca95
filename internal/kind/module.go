package kind

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/trouble"
)

// Module is a compiled extension of a runtime. Dravit reads from the file what it was built for, without loading it.
type Module struct {
	Kind   string   `json:"kind"` // the runtime's kind
	Name   string   `json:"name"`
	File   string   `json:"file"`             // absolute; if the project brings it, relative to the project
	Built  string   `json:"built,omitempty"`  // in the runtime's own words: API20220829,NTS; 115; cpython-311; 3.1.0
	Arch   []string `json:"arch,omitempty"`   // as Go names them: amd64, arm64; several in a universal file
	Engine bool     `json:"engine,omitempty"` // PHP: it hooks into the engine, and is loaded with zend_extension
	Needs  []string `json:"needs,omitempty"`  // modules whose symbols it uses
	Fault  string   `json:"fault,omitempty"`  // why no runtime can use the file
	Of     string   `json:"of,omitempty"`     // the supplied program that it came with, and that alone loads it
}

// Option is an option that was rejected.
type Option struct {
	Option  string       `json:"option"`
	Because string       `json:"because"`
	Code    trouble.Code `json:"code,omitempty"` // why it was not taken, for code
}

// Choice is the decision about one wanted module.
type Choice struct {
	Name     string   `json:"name"`
	File     string   `json:"file,omitempty"` // "": built in, or missing
	Because  string   `json:"because"`
	Rejected []Option `json:"rejected,omitempty"`
}

// Extended is the result of choosing modules for a runtime.
type Extended struct {
	Load    []Module // the modules to load, in this order
	Chosen  []Choice
	Missing []Choice // modules without which the runtime cannot serve the part
	Unfit   []Choice // modules of the project that were built for another runtime
}

// GoArch returns an architecture as Go names it, from the name that a runtime uses: x86_64-linux-gnu is amd64.
func GoArch(text string) string {
	for _, known := range [][2]string{
		{"x86_64", "amd64"},
		{"x64", "amd64"},
		{"amd64", "amd64"},
		{"aarch64", "arm64"},
		{"arm64", "arm64"},
		{"i686", "386"},
		{"ia32", "386"},
		{"x86", "386"},
	} {
		if strings.HasPrefix(text, known[0]) {
			return known[1]
		}
	}
	return text
}

// Facts that programs of several kinds have:
const (
	FactArch       = "arch"       // as Go names it
	FactExecutable = "executable" // the program behind a link or a script that chooses one
	FactLaunch     = "launch"     // how a supplied program is started: loader or namespace
	FactRefused    = "refused"    // why this machine does not let this user start the program
)

// Words returns the facts about a program as words. The arguments are pairs of a format and a fact; a fact that the
// program lacks is left out.
func (p Program) Words(pairs ...[2]string) []string {
	var words []string
	for _, x := range pairs {
		if value := p.Facts[x[1]]; value != "" {
			words = append(words, fmt.Sprintf(x[0], value))
		}
	}
	return words
}

// Entry is one module of a runtime in a list.
type Entry struct {
	Name    string     `json:"name"`
	State   EntryState `json:"state"`
	File    string     `json:"file,omitempty"`
	Because string     `json:"because,omitempty"`
}

// EntryState is the state of a module in a runtime.
type EntryState string

const (
	BuiltIn   EntryState = "built-in"
	Loads     EntryState = "loaded"    // by the part's own configuration
	Available EntryState = "available" // it fits, and is not wanted
	Misfit    EntryState = "unfit"     // built for another runtime
	Lacking   EntryState = "missing"   // wanted, and not there
)

// Proof is what the process that serves pages and the command-line program have loaded. nil: that one does not answer.
type Proof struct {
	Web, Command []string
}

// Library holds every module of the machine and the project, indexed: each of many programs looks up a few.
type Library struct {
	byKind   map[string][]Module
	byName   map[[2]string][]Module // kind and name
	byBuilt  map[[3]string][]Module // kind, name and what it was built for
	byFolder map[[2]string][]Module // kind and folder
}

// NewLibrary returns a library with the project's modules first, then by file name.
func NewLibrary(modules []Module) *Library {
	l := &Library{map[string][]Module{}, map[[2]string][]Module{}, map[[3]string][]Module{}, map[[2]string][]Module{}}
	all := slices.Clone(modules)
	slices.SortStableFunc(all, func(a, b Module) int {
		if x, y := filepath.IsAbs(a.File), filepath.IsAbs(b.File); x != y {
			if y {
				return -1
			}
			return 1
		}
		return strings.Compare(a.File, b.File)
	})
	for _, m := range all {
		l.byKind[m.Kind] = append(l.byKind[m.Kind], m)
		name, built, folder := [2]string{m.Kind, m.Name}, [3]string{m.Kind, m.Name, m.Built},
			[2]string{m.Kind, filepath.Dir(m.File)}
		l.byName[name] = append(l.byName[name], m)
		l.byBuilt[built] = append(l.byBuilt[built], m)
		l.byFolder[folder] = append(l.byFolder[folder], m)
	}
	return l
}

// Of returns the modules of a kind.
func (l *Library) Of(kind string) []Module { return l.byKind[kind] }

// Named returns the modules with a name.
func (l *Library) Named(kind, name string) []Module { return l.byName[[2]string{kind, name}] }

// Built returns those modules with a name that were built for something.
func (l *Library) Built(kind, name, built string) []Module {
	return l.byBuilt[[3]string{kind, name, built}]
}

// In returns the modules of a folder.
func (l *Library) In(kind, folder string) []Module { return l.byFolder[[2]string{kind, folder}] }
