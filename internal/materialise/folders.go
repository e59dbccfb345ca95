package materialise

import (
	"errors"
	"fmt"
	"os"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/plan"
	"dravit/internal/project"
	"dravit/internal/stackfile"
)

// made is what a Spec was made from.
type made struct {
	Input plan.Input `json:"input"`
	Host  Host       `json:"host"`
}

func madeFile(h *home.Home, id string) string { return h.Stack(id, "made.json") }

// Folders are the folders of a stack that are sites.
type Folders struct {
	facts project.Facts
	sites []stackfile.SiteConfig
}

// ReadFolders returns these folders as they were when the stack's Spec was made.
func ReadFolders(h *home.Home, id string) (Folders, error) {
	var m made
	err := home.ReadDerived(madeFile(h, id), &m)
	if err == nil && m.Input.File == nil {
		err = fmt.Errorf("%s is gone", madeFile(h, id))
	}
	if err != nil {
		return Folders{}, err
	}
	return Folders{m.Input.Project, m.Input.File.Sites}, nil
}

// Changed reads the folders again, and reports whether they have changed since they were read last.
func (f *Folders) Changed() bool { return f.facts.LookEach(f.sites) }

// Again makes the Spec of a stack again if the folders that are sites have changed since it was made; otherwise it
// returns ErrSame. Everything else stays as the last start decided it. The caller holds the ledger's lock.
func Again(h *home.Home, id string, book *ledger.Ledger, kinds kind.List) (Spec, error) {
	var m made
	err := home.ReadDerived(madeFile(h, id), &m)
	if err != nil {
		return Spec{}, err
	}
	if !m.Input.Project.LookEach(m.Input.File.Sites) {
		return Spec{}, ErrSame
	}
	own := book.Stacks[id]
	m.Input.Ledger.Name, m.Input.Ledger.Ports, m.Input.Ledger.Hosts = own.Name, own.Ports, map[string]string{}
	for other, s := range book.Stacks {
		for _, host := range s.Hosts {
			if other != id {
				m.Input.Ledger.Hosts[host] = s.Name
			}
		}
	}
	p := plan.Make(m.Input, kinds.ByName())
	if !p.OK {
		return Spec{}, fmt.Errorf("%s: %s", p.Faults[0].What, p.Faults[0].Because)
	}
	if _, err := os.Stat(m.Host.Self); err != nil { // an upgrade removed it
		m.Host.Self = m.Host.Link
	}
	spec, err := Write(h, m.Input, p, kinds, m.Host)
	if err == nil {
		Enter(book, id, m.Input.Project.Dir, book.Stacks[id].Mark, p)
	}
	return spec, err
}

// ErrSame says that nothing has changed.
var ErrSame = errors.New("nothing has changed")
