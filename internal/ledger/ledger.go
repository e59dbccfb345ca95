// Package ledger records which port and which host name belongs to which stack on this machine.
package ledger

import (
	"context"
	"crypto/rand"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"dravit/internal/home"
	"dravit/internal/trouble"
)

// Ledger is everything that is recorded. One dravit process at a time reads and changes it, under its lock.
type Ledger struct {
	Format    int `json:"format"`
	HTTPPort  int `json:"gateway,omitempty"`        // the gateway's port
	HTTPSPort int `json:"gateway_secure,omitempty"` // the gateway's port for HTTPS
	// DNSPort is the gateway's port for DNS, or 0 if no stack has names that need it.
	DNSPort int              `json:"gateway_resolver,omitempty"`
	Stacks  map[string]Stack `json:"stacks"` // by id
}

// Stack is what belongs to one stack. A stack is a folder.
type Stack struct {
	Dir   string         `json:"dir"` // real path
	Name  string         `json:"name"`
	Ports map[string]int `json:"ports,omitempty"` // by part
	// Former is the port that a part had before the one in Ports, if it has moved. Files that the application wrote
	// itself may still contain it.
	Former map[string]int    `json:"former_ports,omitempty"`
	Hosts  map[string]string `json:"hosts,omitempty"` // by site
	// Suffixes are what its host names end with, other than localhost.
	Suffixes []string `json:"suffixes,omitempty"`
	Mark     Mark     `json:"mark,omitzero"` // of Dir
}

// Suffixes returns what the host names of all stacks end with, other than localhost.
func (l *Ledger) Suffixes() []string {
	var all []string
	for _, s := range l.Stacks {
		all = append(all, s.Suffixes...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// Read returns the ledger without taking its lock.
func Read(h *home.Home) (*Ledger, error) {
	l := &Ledger{Format: 1}
	err := home.ReadJSON(h.Path("ledger.json"), l)
	if errors.Is(err, trouble.Damaged) || err == nil && l.Stacks == nil {
		if again, ok := rebuild(h); ok {
			if home.Recovered != nil {
				home.Recovered(h.Path("ledger.json"), h.Path("stacks")+", what each stack keeps of it", err)
			}
			l, err = again, nil
			_ = home.WriteJSON(h.Path("ledger.json"), l) // else it is made again the next time
		}
	}
	if l.Stacks == nil {
		l.Stacks = map[string]Stack{}
	}
	return l, err
}

// Change reads the ledger under its lock, lets change edit it, and writes it. If change fails, Change writes nothing
// and returns the error; for ErrUnchanged it returns nil. While change runs, every other start on this machine waits:
// it asks no network.
func Change(ctx context.Context, h *home.Home, change func(l *Ledger) error) error {
	lock, err := home.Lock(ctx, h.Path("ledger.lock"), "another start, which decides its ports and names")
	if err != nil {
		return err
	}
	defer lock.Close()
	l, err := Read(h)
	if err != nil {
		return err
	}
	before := maps.Clone(l.Stacks)
	if err := change(l); err != nil {
		if errors.Is(err, ErrUnchanged) {
			return nil
		}
		return err
	}
	if err := home.WriteJSON(h.Path("ledger.json"), l); err != nil {
		return err
	}
	l.scatter(h, before)
	return nil
}

// entry is what a stack's own folder holds of the ledger.
type entry struct {
	Stack
	HTTPPort  int `json:"gateway_port,omitempty"`
	HTTPSPort int `json:"gateway_secure,omitempty"`
	DNSPort   int `json:"gateway_resolver,omitempty"`
}

func entryFile(h *home.Home, id string) string { return h.Stack(id, "ledger.json") }

// scatter writes what has changed to the stacks' own folders, from which a lost ledger is rebuilt.
func (l *Ledger) scatter(h *home.Home, before map[string]Stack) {
	for id, s := range l.Stacks {
		if was, ok := before[id]; ok && was.Equal(s) {
			continue
		}
		if _, err := os.Stat(h.Stack(id)); err == nil {
			// the ledger itself is written already
			_ = home.WriteCache(entryFile(h, id), entry{s, l.HTTPPort, l.HTTPSPort, l.DNSPort})
		}
	}
}

// rebuild creates the ledger from the stacks' own folders. ok is false if none holds anything.
func rebuild(h *home.Home) (l *Ledger, ok bool) {
	l = &Ledger{Format: 1, Stacks: map[string]Stack{}}
	folders, _ := os.ReadDir(h.Path("stacks"))
	for _, f := range folders {
		var e entry
		if err := home.ReadDerived(entryFile(h, f.Name()), &e); err != nil || e.Dir == "" {
			continue
		}
		l.Stacks[f.Name()] = e.Stack
		l.HTTPPort, l.HTTPSPort, l.DNSPort = max(l.HTTPPort, e.HTTPPort),
			max(l.HTTPSPort, e.HTTPSPort), max(l.DNSPort, e.DNSPort)
	}
	return l, len(l.Stacks) > 0
}

// ErrUnchanged is returned by a change that has nothing to write.
var ErrUnchanged = errors.New("unchanged")

// ByDir returns the id of a folder's stack, or "" if it has none, and the path under which the stack knows the folder,
// else dir. dir is a real path. A folder may have several: it is mounted twice (mount(8), --bind), or its disk takes
// two spellings for one name.
func (l *Ledger) ByDir(dir string) (id, path string) {
	for id, s := range l.Stacks {
		if s.Dir == dir {
			return id, dir
		}
	}
	here, err := os.Stat(dir)
	if err != nil {
		return "", dir
	}
	mark := inodeOf(dir)
	for id, s := range l.Stacks {
		if mark != s.Mark.Inode { // the other folder's disk may be slow, or gone
			continue
		}
		if there, err := os.Stat(s.Dir); err == nil && os.SameFile(here, there) {
			return id, s.Dir
		}
	}
	return "", dir
}

// ByName returns the id of the stack of that name, or "" if there is none.
func (l *Ledger) ByName(name string) string {
	for id, s := range l.Stacks {
		if s.Name == name {
			return id
		}
	}
	return ""
}

// NewID returns a short random id that no stack has yet.
func (l *Ledger) NewID() string {
	for {
		id := strings.ToLower(rand.Text()[:7])
		if _, taken := l.Stacks[id]; !taken {
			return id
		}
	}
}

// RealDir returns a folder's absolute path without links, so that a folder has one path. The error is a *fs.PathError,
// with syscall.ENOTDIR for a file.
func RealDir(dir string) (string, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	resolved, err := filepath.EvalSymlinks(abs)
	if err != nil {
		return "", err
	}
	if info, err := os.Stat(resolved); err != nil || !info.IsDir() {
		return "", &os.PathError{Op: "open", Path: dir, Err: syscall.ENOTDIR}
	}
	return resolved, nil
}

// Equal reports whether two entries say the same.
func (s Stack) Equal(other Stack) bool {
	return s.Dir == other.Dir && s.Name == other.Name && maps.Equal(s.Ports, other.Ports) &&
		maps.Equal(s.Former, other.Former) &&
		maps.Equal(s.Hosts, other.Hosts) && slices.Equal(s.Suffixes, other.Suffixes) && s.Mark == other.Mark
}
