package stack

import (
	"context"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"dravit/internal/data"
	"dravit/internal/ledger"
	"dravit/internal/supply"
)

// Words are the names that a stack has, for a shell to complete. What cannot be read has none.
type Words struct {
	Parts, Runtimes, Stores, Databases []string // of parts
	Sites, Tasks                       []string
	Marks                              []string // of any part, and of the whole stack
	Others                             []string // databases of the servers besides the parts' own
}

// askedFor is how long servers are asked for names while somebody waits for a completion.
const askedFor = 300 * time.Millisecond

// Words returns the names that a stack has. If asking, it also asks servers that run.
func (s *Stack) Words(ctx context.Context, asking bool) Words {
	var w Words
	if file, err := s.file(); err == nil {
		w.Parts = file.PartNames()
		for _, x := range file.Sites {
			if x.Name != "" {
				w.Sites = append(w.Sites, x.Name)
			}
		}
		for _, t := range file.Tasks {
			w.Tasks = append(w.Tasks, t.Name)
		}
	}
	spec, err := s.spec()
	if err != nil || spec.ID == "" {
		return w
	}
	w.Sites = nil // also those of folders
	for _, x := range spec.Sites {
		w.Sites = append(w.Sites, x.Name)
	}
	marked := []string{data.All(s.Home.Stack(s.ID, "data"))}
	for _, p := range spec.Parts {
		if !slices.Contains(w.Parts, p.Name) {
			w.Parts = append(w.Parts, p.Name) // one that was added
		}
		traits := s.Kinds.TraitsOf(p.Kind)
		if traits.Databases {
			w.Databases = append(w.Databases, p.Name)
		}
		if p.Role.Store() {
			w.Stores = append(w.Stores, p.Name)
		}
		if traits.Extensions {
			w.Runtimes = append(w.Runtimes, p.Name)
		}
		if p.Data != "" {
			marked = append(marked, filepath.Clean(p.Data))
		}
	}
	for _, dir := range marked {
		marks, _ := data.Marks(dir) // without them there is nothing to complete
		for _, m := range marks {
			if !slices.Contains(w.Marks, m.Name) {
				w.Marks = append(w.Marks, m.Name)
			}
		}
	}
	if !asking {
		return w
	}
	ctx, cancel := context.WithTimeout(ctx, askedFor)
	defer cancel()
	w.Others = s.databases(spec).Others(ctx)
	return w
}

// StackNames returns the names of this machine's stacks, sorted.
func (m *Machine) StackNames() []string {
	book, err := ledger.Read(m.Home)
	if err != nil {
		return nil
	}
	var names []string
	for _, s := range book.Stacks {
		names = append(names, s.Name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Suppliable returns the names of the kinds and programs that can be supplied, sorted.
func (m *Machine) Suppliable() []string {
	all := m.suppliable()
	slices.Sort(all)
	return slices.Compact(all)
}

// SuppliedKinds returns the kinds of which a version was supplied, sorted.
func (m *Machine) SuppliedKinds() []string {
	trees, err := supply.Trees(m.Home)
	if err != nil {
		return nil
	}
	kinds := map[string]bool{}
	for _, t := range trees {
		kinds[t.Kind] = true
	}
	return slices.Sorted(maps.Keys(kinds))
}
