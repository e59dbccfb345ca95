// Package survey finds out what this machine offers: programs with their versions and what they were built for, ports
// with their holders, and what the user may do.
package survey

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"dravit/internal/account"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/launch"
	"dravit/internal/proc"
	"dravit/internal/settings"
	"dravit/internal/stackfile"
	"dravit/internal/version"
)

// Format is the number of the JSON form of Survey.
const Format = 1

// Survey is what this machine offers.
type Survey struct {
	Format   int            `json:"format"`
	Host     Host           `json:"host"`
	Programs []kind.Program `json:"programs"`
	Modules  []kind.Module  `json:"modules"` // compiled extensions of the runtimes
	Tools    []Tool         `json:"tools"`   // command-line programs
	Ports    []Port         `json:"ports"`
	// Names and Allowed take longer, and no plan needs them: only Whole fills them.
	Names   []Named  `json:"names,omitempty"`
	Allowed *Allowed `json:"allowed,omitempty"`
	// Supply is what sources had when they were asked last, by kind, the newest first. No plan needs it either.
	Supply []Suppliable `json:"supply,omitempty"`
}

// Suppliable is a program that a source has.
type Suppliable struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`
	Suite   string `json:"suite"`
	Source  string `json:"source"`
}

// Host is the machine and its user.
type Host struct {
	OS   string `json:"os"`
	Arch string `json:"arch"`
	User string `json:"user"`
	// EphemeralLow and EphemeralHigh are the first and the last port of the range for outgoing connections.
	EphemeralLow  int `json:"ephemeral_low"`
	EphemeralHigh int `json:"ephemeral_high"`
	// LowestPort is the lowest TCP port that this user may open. 0: unknown.
	LowestPort int `json:"lowest_port,omitempty"`
	// Installer is the program that installs the system's own packages, as kind.Installers names it. "": none is known.
	Installer string `json:"installer,omitempty"`
}

// Machine says where to search and for what.
type Machine struct {
	Kinds    []kind.Kind
	Settings settings.Settings
	Cache    string // the file with the answers of programs
	Root     string // the root of the file system: "" for the machine's own, or a recorded tree
	Home     string // the user's home, below Root
	Path     string // PATH
	Project  string // the project's folder, as a real path: its programs are not run; "": none
	Supplied []Supplied
	StandIns bool // the system has programs that only ask to install something (macOS)
}

// Supplied is a program that Dravit fetched.
type Supplied struct {
	Path   string
	Launch string // how it is started: loader or namespace; "": as it is
}

// Here returns this machine as this user sees it.
func Here(kinds []kind.Kind, set settings.Settings, cache string) Machine {
	base, _ := os.UserHomeDir() // without a home, its folders are not searched
	return Machine{Kinds: kinds, Settings: set, Cache: cache, Home: base, Path: os.Getenv("PATH"),
		StandIns: runtime.GOOS == "darwin"}
}

// HostNow describes this machine and its user.
func HostNow() Host {
	low, high := proc.EphemeralPorts()
	return Host{
		OS:            runtime.GOOS,
		Arch:          runtime.GOARCH,
		User:          account.Current().Username,
		EphemeralLow:  low,
		EphemeralHigh: high,
		LowestPort:    lowestPort(),
		Installer:     installer(),
	}
}

func installer() string {
	for _, i := range kind.Installers {
		if _, err := exec.LookPath(i.Program); err == nil {
			return i.Program
		}
	}
	return ""
}

// entry is the remembered answer of one program. It is valid as long as the file is the same.
type entry struct {
	Size    int64         `json:"size"`
	ModTime time.Time     `json:"mod_time"`
	Program *kind.Program `json:"program"` // nil: the file is no such program, or could not run
	// Until is when the program is asked again even if its file is the same: it did not answer as its kind does (a
	// library may have been missing), or something beside it was missing.
	Until time.Time `json:"until,omitzero"`
}

// patience is how long such a program is not asked again.
const patience = time.Minute

// memory is what is kept between two surveys.
type memory struct {
	Programs map[string]entry   `json:"programs"` // by kind and path
	Folders  map[string]listing `json:"folders"`  // by path
	Modules  map[string]shelf   `json:"modules"`  // by kind and folder
	Tools    map[string]told    `json:"tools"`    // by path and how it was asked
}

// shelf holds the modules of a folder. It is valid as long as the folder's files are the same.
type shelf struct {
	Stamp   string        `json:"stamp"`
	Modules []kind.Module `json:"modules"`
}

// looker is one survey under way.
type looker struct {
	Machine
	known, fresh memory
	folders      finder
	search       []folder
	realDirs     map[string]string
	childPath    string     // the PATH of the programs that are asked
	mu           sync.Mutex // guards fresh and changed
	changed      bool
	refusal      string // why programs that need a namespace cannot be started, or ""
	limit        chan struct{}
}

// Look surveys the machine. It asks programs side by side, each with a deadline, and remembers the answers under path,
// size and time. It asks those command-line programs that are in requires, and only programs of the machine's Kinds.
func (m Machine) Look(ctx context.Context, requires map[string]stackfile.Require) (Survey, error) {
	s := Survey{Format: Format, Host: HostNow()}
	l := m.look()
	var wg sync.WaitGroup
	for _, k := range m.Kinds {
		for _, found := range l.find(k.Traits().Programs) {
			l.ask(ctx, &wg, k, found)
		}
	}
	s.Tools = l.tools(ctx, &wg, requires)
	wg.Wait()
	if err := ctx.Err(); err != nil {
		return s, err
	}
	l.refusal = namespaceRefusal(ctx, m.Supplied)
	s.Programs = l.programs()
	s.Modules = l.modules(s.Programs)
	slices.SortFunc(s.Tools, func(a, b Tool) int { return strings.Compare(a.Name, b.Name) })
	l.remember()
	return s, nil
}

func (m Machine) look() *looker {
	l := &looker{Machine: m, limit: make(chan struct{}, 8)}
	if err := home.ReadJSON(m.Cache, &l.known); err != nil {
		l.known = memory{} // treat a broken cache as empty
	}
	l.fresh = memory{map[string]entry{}, map[string]listing{}, map[string]shelf{}, map[string]told{}}
	l.realDirs = map[string]string{}
	l.folders = finder{root: m.Root, known: l.known.Folders, fresh: l.fresh.Folders}
	l.search = l.searchPath()
	dirs := slices.DeleteFunc(filepath.SplitList(l.Path), func(dir string) bool {
		return !filepath.IsAbs(dir) || l.ofProject(l.real(dir))
	})
	l.childPath = strings.Join(append(dirs, "/usr/local/bin", "/usr/bin", "/bin"), ":")
	return l
}

// remember writes the answers to the cache if they have changed. If the disk is full, the next survey asks again.
func (l *looker) remember() {
	l.keepOthers()
	if !l.changed && !l.folders.changed && len(l.fresh.Programs) == len(l.known.Programs) &&
		len(l.fresh.Modules) == len(l.known.Modules) && len(l.fresh.Tools) == len(l.known.Tools) {
		return
	}
	_ = home.WriteCache(l.Cache, l.fresh)
}

// keepOthers keeps what is known of kinds and programs that were not asked for this time.
func (l *looker) keepOthers() {
	asked := map[string]bool{}
	for _, k := range l.Kinds {
		asked[k.Traits().Name] = true
	}
	keepOthers(l.fresh.Programs, l.known.Programs, asked)
	keepOthers(l.fresh.Modules, l.known.Modules, asked)
	keepOthers(l.fresh.Tools, l.known.Tools, nil)
	for dir, now := range l.fresh.Folders {
		if was := l.known.Folders[dir]; was.ModTime.Equal(now.ModTime) {
			keepOthers(now.Found, was.Found, nil)
		}
	}
}

// keepOthers adds to fresh what it lacks of known, other than keys that begin with the name of a kind that was asked.
func keepOthers[T any](fresh, known map[string]T, asked map[string]bool) {
	for key, was := range known {
		name, _, _ := strings.Cut(key, " ")
		if _, ok := fresh[key]; !ok && !asked[name] {
			fresh[key] = was
		}
	}
}

// ask asks a program what it is, unless an answer for the same file is known.
func (l *looker) ask(ctx context.Context, wg *sync.WaitGroup, k kind.Kind, found place) {
	info, err := os.Stat(l.Root + found.path)
	if err != nil {
		return
	}
	kindName := k.Traits().Name
	key := kindName + " " + found.path
	if e, ok := l.known.Programs[key]; ok && e.Size == info.Size() && e.ModTime.Equal(info.ModTime()) &&
		(e.Until.IsZero() || time.Now().Before(e.Until)) {
		l.mu.Lock()
		defer l.mu.Unlock()
		if e.Program != nil {
			e.Program.Origin = found.origin
		}
		l.fresh.Programs[key] = e
		return
	}
	wg.Go(func() {
		l.limit <- struct{}{}
		defer func() { <-l.limit }()
		e := entry{Size: info.Size(), ModTime: info.ModTime()}
		run := func(path string, args ...string) (string, error) {
			out, err := l.run(ctx, path, args...)
			if errors.Is(err, errUnheard) {
				e.Until = time.Now().Add(patience)
			}
			return out, err
		}
		if v, facts, err := k.Inspect(ctx, l.Root+found.path, run); err == nil {
			if _, err := version.Parse(v); err == nil {
				e.Program = &kind.Program{
					Kind:    kindName,
					Version: v,
					Path:    found.path,
					Origin:  found.origin,
					Facts:   facts,
				}
				for _, fact := range facts {
					if fact == "" { // what was looked for beside it may be installed any moment
						e.Until = time.Now().Add(patience)
					}
				}
			}
		}
		if e.Program == nil {
			e.Until = time.Now().Add(patience)
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		l.changed = true
		l.fresh.Programs[key] = e
	})
}

// programs returns the programs that were found, the newest of each kind first. It leaves out scripts that run another
// program of the list.
func (l *looker) programs() []kind.Program {
	all := []kind.Program{}
	behind := false
	for _, key := range slices.Sorted(maps.Keys(l.fresh.Programs)) {
		if p := l.fresh.Programs[key].Program; p != nil {
			all = append(all, l.launched(*p))
			behind = behind || p.Facts[kind.FactExecutable] != ""
		}
	}
	if behind {
		all = l.withoutScripts(all)
	}
	rank := map[string]int{}
	for i, f := range l.search {
		rank[f.dir] = i
	}
	versions := map[string]version.Version{}
	for _, p := range all {
		versions[p.Version], _ = version.Parse(p.Version) // programs whose version does not parse were left out
	}
	slices.SortStableFunc(all, func(a, b kind.Program) int {
		return cmp.Or(strings.Compare(a.Kind, b.Kind), versions[b.Version].Compare(versions[a.Version]),
			rank[filepath.Dir(a.Path)]-rank[filepath.Dir(b.Path)], strings.Compare(a.Path, b.Path))
	})
	return all
}

// launched adds to the facts about a supplied program how it is started.
func (l *looker) launched(p kind.Program) kind.Program {
	i := slices.IndexFunc(l.Supplied, func(s Supplied) bool { return s.Path == p.Path && s.Launch != "" })
	if i >= 0 {
		facts := map[string]string{kind.FactLaunch: l.Supplied[i].Launch}
		if l.refusal != "" && l.Supplied[i].Launch == byNamespace {
			facts[kind.FactRefused] = l.refusal
		}
		maps.Copy(facts, p.Facts)
		p.Facts = facts
	}
	return p
}

// byNamespace is the way to start a supplied program that some machines refuse ordinary users.
const byNamespace = "namespace"

// namespaceRefusal says why programs that need a namespace cannot be started by this user, or returns "": they can, or
// none of the supplied ones needs it.
func namespaceRefusal(ctx context.Context, supplied []Supplied) string {
	needed := slices.ContainsFunc(supplied, func(s Supplied) bool { return s.Launch == byNamespace })
	if !needed || userNamespaces(ctx) || ctx.Err() != nil {
		return ""
	}
	why := "it starts only in a namespace, which this machine refuses you"
	if permit := launch.Permit(); permit != "" {
		why += " (" + permit + " allows it)"
	}
	return why
}

// withoutScripts leaves out scripts and links that lead to another program of the list.
func (l *looker) withoutScripts(all []kind.Program) []kind.Program {
	listed := map[string]string{} // by kind and real file: the path in the list
	for _, p := range all {
		listed[p.Kind+" "+l.real(p.Path)] = p.Path
	}
	return slices.DeleteFunc(all, func(p kind.Program) bool {
		behind := p.Facts[kind.FactExecutable]
		if behind == "" {
			return false
		}
		at, ok := listed[p.Kind+" "+l.real(behind)]
		return ok && at != p.Path && l.real(behind) != l.real(p.Path)
	})
}

// real returns the file that a path points to, through links. It resolves each folder once: most files are no links.
func (l *looker) real(path string) string {
	dir := filepath.Dir(path)
	folder, ok := l.realDirs[dir]
	if !ok {
		folder = dir
		if r, err := filepath.EvalSymlinks(l.Root + dir); err == nil {
			folder = strings.TrimPrefix(r, l.Root)
		}
		l.realDirs[dir] = folder
	}
	file := filepath.Join(folder, filepath.Base(path))
	if info, err := os.Lstat(l.Root + file); err == nil && info.Mode()&os.ModeSymlink != 0 {
		if r, err := filepath.EvalSymlinks(l.Root + file); err == nil {
			return strings.TrimPrefix(r, l.Root)
		}
	}
	return file
}

// modules returns the modules in the folders of the programs and of the settings, each folder once.
func (l *looker) modules(programs []kind.Program) []kind.Module {
	all := []kind.Module{}
	for _, k := range l.Kinds {
		loads, ok := k.(kind.Runtime)
		if !ok || !k.Traits().Extensions {
			continue
		}
		name := k.Traits().Name
		dirs, owners := slices.Clone(l.Settings.Extensions), map[string]string{}
		for _, p := range programs {
			if p.Kind != name {
				continue
			}
			for _, dir := range loads.ModuleFolders(p) {
				dirs = append(dirs, dir)
				tree, _, _ := strings.Cut(p.Path, "/files/")
				if p.Origin == Supply && strings.HasPrefix(dir, tree+"/") {
					owners[dir] = p.Path
				}
			}
		}
		slices.Sort(dirs)
		for _, dir := range slices.Compact(dirs) {
			stamp, key := stampOf(dir), name+" "+dir
			if stamp == "" {
				continue
			}
			now, ok := l.known.Modules[key]
			if !ok || now.Stamp != stamp {
				l.changed = true
				now = shelf{stamp, loads.ReadModules(dir)}
			}
			l.fresh.Modules[key] = now
			for _, m := range now.Modules {
				m.Of = owners[dir]
				all = append(all, m)
			}
		}
	}
	return all
}

// stampOf returns a text that changes whenever a file of a folder does, or "" if there is no such folder.
func stampOf(dir string) string {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return ""
	}
	var size int64
	var newest time.Time
	var names strings.Builder
	for _, e := range entries {
		info, err := os.Stat(filepath.Join(dir, e.Name()))
		if err != nil {
			continue
		}
		size += info.Size()
		names.WriteString(e.Name())
		if info.ModTime().After(newest) {
			newest = info.ModTime()
		}
	}
	return fmt.Sprintf("%d files %d bytes %d %x", len(entries), size, newest.UnixNano(), hash(names.String()))
}
