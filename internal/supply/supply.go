// Package supply gets versions of programs that the machine lacks: each into a folder of its own, its tree, which
// belongs to this user alone and is gone with the folder.
package supply

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"dravit/internal/debian"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/trouble"
	"dravit/internal/version"
)

// Offer is a version of a program that a source has.
type Offer struct {
	Kind    string `json:"kind"`
	Version string `json:"version"`    // of the program
	Package string `json:"package"`    // that carries it
	Release string `json:"release"`    // of the package
	Source  string `json:"source"`     // the hosts that have it
	Bytes   int64  `json:"size_bytes"` // to fetch; 0: unknown

	// Of a Debian-format repository:

	Suite      string           `json:"suite,omitempty"`
	Extensions []string         `json:"extensions,omitempty"` // that it has beside those of every tree of the kind
	Packages   []debian.Package `json:"packages,omitempty"`   // all that its tree consists of

	series    string
	carrier   kind.Carrier
	tarball   string
	integrity string
	with      []companion
	pinned    string // the integrity of the companions that a lock names
}

// Same reports whether two offers are of the same package.
func (o Offer) Same(other Offer) bool {
	return o.Package == other.Package && o.Release == other.Release && slices.Equal(o.Extensions, other.Extensions)
}

// ErrNotCarried says that no package carries programs of a kind for this system.
var ErrNotCarried = errors.New("no package carries it")

// Supplier gets programs for one user.
type Supplier struct {
	Home         *home.Home
	Address      string                      // of an npm-format registry, or of a folder; "": there is none
	LogIn        func(address string) string // see Credentials; nil: nobody logs in
	Repositories []Repository                // of the Debian format
	Known        bool                        // ask no source: what they said the last time counts
	Way          Way                         // to start programs of trees; "": the first that serves
	Self         string                      // the dravit program
	OS           string                      // as Go names it, such as linux
	Arch         string                      // as Go names it, such as amd64

	withheld bool // a folder has packages that nobody has signed, and the user did not agree to take them
}

// New returns a supplier for this machine that has no source yet.
func New(h *home.Home, self string) Supplier {
	return Supplier{Home: h, Self: self, OS: runtime.GOOS, Arch: runtime.GOARCH}
}

// ways returns the ways to start a tree's programs that are tried, in their order. By the loader, programs still see
// those of the machine; but also the machine's time zones, which it has to have then.
func (s Supplier) ways() []Way {
	switch {
	case s.Way != "":
		return []Way{s.Way}
	case !exists("/usr/share/zoneinfo/UTC"):
		return []Way{ByNamespace, ByLoader}
	}
	return []Way{ByLoader, ByNamespace}
}

// architectures are the names of architectures in packages, by Go's.
var architectures = map[string]string{"amd64": "x64", "arm64": "arm64"}

// carriedBy returns the name of the package that carries a kind's programs for this system, or "".
func (s Supplier) carriedBy(c kind.Carrier) string {
	arch := architectures[s.Arch]
	if c.Package == "" || arch == "" || s.OS != "linux" && s.OS != "darwin" {
		return ""
	}
	return strings.NewReplacer("{os}", s.OS, "{arch}", arch).Replace(c.Package)
}

// Wish is what a program has to be.
type Wish struct {
	Allowed    func(version string) bool
	Extensions []string // it has to have
	Also       []string // extensions that it has if its suite has them
	Exact      *Locked  // nil: any that is allowed
}

// allows reports whether a release of a package, with a program of that version, may be taken. A program may call
// itself otherwise than its package does, so of a locked one either word is enough: refuses compares all of it.
func (w Wish) allows(number, release string) bool {
	if w.Exact != nil {
		return number == w.Exact.Version || release == w.Exact.Release
	}
	return w.Allowed(number)
}

// refuses returns an error if an offer is not the exact one that is wished for.
func (w Wish) refuses(o Offer) error {
	if w.Exact == nil {
		return nil
	}
	if differs := w.Exact.Differs(o); differs != "" {
		return &trouble.Trouble{Code: trouble.NoProgram, What: "the source's " + o.Kind + " " + o.Version +
			" is not the one in " + LockFile, Because: differs,
			Next: "dravit supply lock, after a start with what the source has now"}
	}
	return nil
}

// Find returns the newest version of a kind's program that meets a wish, and its size. If there is none, the error says
// which there are.
func (s Supplier) Find(ctx context.Context, k kind.Kind, w Wish) (Offer, error) {
	if w.Exact != nil {
		w.Extensions, w.Also = w.Exact.Extensions, nil
	}
	o, err := s.find(ctx, k, w)
	if err == nil {
		err = w.refuses(o)
	}
	return o, err
}

func (s Supplier) find(ctx context.Context, k kind.Kind, w Wish) (Offer, error) {
	t := k.Traits()
	byRegistry := s.Address != "" && s.carriedBy(t.Carrier) != ""
	if w.Exact != nil && len(w.Exact.Packages) > 0 {
		byRegistry = false
	}
	byRepository := len(s.Repositories) > 0 && len(t.Packages.Servers) > 0 && s.OS == "linux"
	if !byRegistry && !byRepository {
		if s.withheld && s.carriedBy(t.Carrier) != "" {
			return Offer{}, &trouble.Trouble{Code: trouble.NoSource, What: "the folder's " + t.Name + " is not taken",
				Because: "nobody has signed it: whoever could write there decides what runs as you",
				Next:    "--unsigned, if you trust the folder"}
		}
		return Offer{}, ErrNotCarried
	}
	if !byRepository {
		return s.findRelease(ctx, k, w)
	}
	packaged, err := s.findPackages(ctx, k, w)
	if !byRegistry {
		return packaged, err
	}
	whole, registryErr := s.findRelease(ctx, k, w)
	switch {
	case registryErr != nil:
		return packaged, err
	case err != nil || version.Compare(whole.Version, packaged.Version) >= 0:
		return whole, nil
	}
	return packaged, nil
}

// findRelease returns the newest release of the package of a registry that carries a kind's program.
func (s Supplier) findRelease(ctx context.Context, k kind.Kind, w Wish) (Offer, error) {
	c := k.Traits().Carrier
	doc, all, err := s.releases(ctx, c)
	if err != nil {
		return Offer{}, err
	}
	i := slices.IndexFunc(all, func(r release) bool {
		return w.allows(r.program, r.name)
	})
	if i < 0 {
		series := map[string]bool{}
		for _, r := range all {
			series[fmt.Sprint(r.number.Major())] = true
		}
		return Offer{}, &trouble.Trouble{Code: trouble.NoProgram, What: "no release of " + k.Traits().Name + " fits",
			Because: hostOf(s.Address) + " has releases of " + strings.Join(inOrder(series), ", "),
			Next:    "ask for another version"}
	}
	found := all[i]
	offer := Offer{
		Kind:      k.Traits().Name,
		Version:   found.program,
		Package:   s.carriedBy(c),
		Release:   found.name,
		Source:    hostOf(s.Address),
		carrier:   c,
		tarball:   found.Dist.Tarball,
		integrity: found.Dist.Integrity,
	}
	if offer.Bytes, err = s.size(ctx, offer.Package, doc, offer.tarball); err != nil {
		return offer, err
	}
	var pins map[string]Pin
	if w.Exact != nil {
		pins = w.Exact.With
	}
	offer.with = s.companions(ctx, c, k.Traits().Name, offer.Version, pins)
	for _, x := range offer.with {
		offer.Bytes += x.bytes
		if _, pinned := pins[x.Package]; pinned {
			offer.pinned += x.integrity
		}
	}
	return offer, nil
}

func inOrder(series map[string]bool) []string {
	var all []string
	for s := range series {
		all = append(all, s)
	}
	slices.SortFunc(all, version.Compare)
	return all
}

func (s Supplier) path(parts ...string) string {
	return s.Home.Path(append([]string{"supply"}, parts...)...)
}

// folder returns where an offer's tree is, or will be.
func (s Supplier) folder(o Offer) string {
	name := short(o.integrity)
	switch {
	case o.Packages != nil:
		name = o.id()[:12]
	case o.pinned != "": // the tree may be there with others
		sum := sha256.Sum256([]byte(o.pinned))
		name += "-" + hex.EncodeToString(sum[:4])
	}
	return s.path("trees", filepath.Base(o.Kind)+"-"+o.Version+"-"+name)
}
