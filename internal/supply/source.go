package supply

import (
	"context"
	"path/filepath"

	"dravit/internal/debian"
	"dravit/internal/home"
	"dravit/internal/kind"
)

// Source is where versions of programs come from. There is a package for each format, which alone knows how the format
// says what there is, and what a program consists of; a Supplier does the rest.
type Source interface {
	// Format is the name of the source's format. A tree keeps the one that it came from.
	Format() string
	// Carries reports whether a program can come from the source on this system. It asks nobody.
	Carries(r kind.Recipe) bool
	// Find returns the newest version of a program that meets a wish. Of a locked one it returns that, if it has it, or
	// else what is nearest to it. If there is none, the error says which there are.
	Find(ctx context.Context, r kind.Recipe, w Wish) (Offer, error)
	// Available returns what there is of programs, without what would have to be fetched. A source that does not answer
	// has nothing.
	Available(ctx context.Context, all []kind.Recipe) []Offer
	// Lay fetches what an offer of this source consists of, and lays it in a tree. progress is called with the bytes
	// that were fetched. An error may leave the tree half made: it is deleted.
	Lay(ctx context.Context, o Offer, r kind.Recipe, t *Laid, progress func(done int64)) error
	// Export writes what trees of this format consist of into a folder, and says in out what From needs. progress is
	// called with the bytes that were written.
	Export(ctx context.Context, trees []Tree, dir string, out *Exported, progress func(done int64)) error
	// From returns the source that takes programs from an exported folder, or nil if the folder has none of this
	// format. What nobody has signed is taken only if unsigned.
	From(dir string, x Exported, unsigned bool) (Source, error)
	// Keeps reports whether a folder of Here.Said keeps what this source said.
	Keeps(folder string) bool
}

// Here is what a source has to know of the place that it supplies.
type Here struct {
	Home  *home.Home
	Known bool   // ask no source: what they said the last time counts
	Way   Way    // to start programs of trees; "": the first that serves
	Self  string // the dravit program
	OS    string // as Go names it, such as linux
	Arch  string // as Go names it, such as amd64
}

// Path returns a path below the folder in which everything is that was supplied.
func (h Here) Path(parts ...string) string {
	return h.Home.Path(append([]string{"supply"}, parts...)...)
}

// Way is how the programs of a tree are started.
type Way string

// The ways to start a program that was built for other folders than those of its tree.
const (
	ByLoader    Way = "loader"    // the tree's own loader starts it, with the tree's libraries
	ByNamespace Way = "namespace" // it sees the tree in place of the system's folders
)

// Offer is a version of a program that a source has.
type Offer struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`    // of the program
	Package string `json:"package"`    // that carries it
	Release string `json:"release"`    // of the package
	Source  string `json:"source"`     // the hosts that have it
	Bytes   int64  `json:"size_bytes"` // to fetch; 0: unknown, or nothing

	Suite      string           `json:"suite,omitempty"`      // of the source; "": it has none
	Extensions []string         `json:"extensions,omitempty"` // that it has beside those of every tree of the kind
	Packages   []debian.Package `json:"packages,omitempty"`   // all that its tree consists of, if the format says so

	Integrity string         `json:"-"` // a text that only this package has, or these packages
	Name      string         `json:"-"` // the end of its tree's name: two trees have the same only if they are the same
	With      map[string]Pin `json:"-"` // what is beside the program, by name
	Of        any            `json:"-"` // what the source needs to lay it

	from Source
}

// Laid is a tree while its source lays it. The Supplier has put into it what the offer says.
type Laid struct {
	*Tree
	// Fresh is the folder that becomes the tree's Dir when Lay has returned. Its files are in Fresh/files, which is
	// there and empty; what describes them may be beside.
	Fresh string
	// Sums are the SHA-256 of the files, in hexadecimal, by their paths below Files. What is not in it is no part of
	// the tree: Verify finds it.
	Sums map[string]string
	// Settle is called when the folder is Dir, to do what needs its final path. It makes Program say its version. nil:
	// the program runs as it was laid.
	Settle func(ctx context.Context) error
}

// Files returns the folder with the tree's files while it is laid.
func (l *Laid) Files() string { return filepath.Join(l.Fresh, filesFolder) }
