package supply

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/debian"
	"dravit/internal/home"
	"dravit/internal/trouble"
)

// exportFile is what describes an exported folder.
const exportFile = "supply.json"

// Exported describes a folder from which machines without a network are supplied.
type Exported struct {
	Format       int                  `json:"format"`
	Repositories []ExportedRepository `json:"repositories"`
	Registry     string               `json:"registry,omitempty"` // the folder below it with packages of a registry
	Trees        []Locked             `json:"trees"`              // that can be made from it
	Bytes        int64                `json:"size_bytes"`
}

// ExportedRepository is a suite of a repository, with some of its packages.
type ExportedRepository struct {
	Address    string   `json:"address"`
	Suite      string   `json:"suite"`
	Components []string `json:"components"`
	Folder     string   `json:"folder"` // below the exported one
}

// Export writes what trees consist of into a folder, with the signed lists of their sources, so that what another
// machine takes from it is checked as if it had asked the sources. It goes on where an earlier call broke off.
func (s Supplier) Export(ctx context.Context, trees []Tree, dir string, progress func(done int64)) (Exported, error) {
	out := Exported{Format: 1, Trees: []Locked{}}
	wanted := map[string]Item{}
	for _, t := range trees {
		out.Trees = append(out.Trees, t.Locked(s.OS+"/"+s.Arch))
		for _, p := range t.Packages {
			wanted[p.SHA256] = p
		}
		if len(t.Packages) == 0 {
			out.Registry = "registry"
		}
	}
	if out.Registry != "" {
		size, err := s.exportReleases(ctx, out.Trees, filepath.Join(dir, out.Registry), progress)
		if err != nil {
			return out, err
		}
		out.Bytes = size
	}
	if len(wanted) == 0 {
		return out, home.WriteJSON(filepath.Join(dir, exportFile), out)
	}
	if err := s.exportPackages(ctx, &out, dir, wanted, progress); err != nil {
		return out, err
	}
	return out, home.WriteJSON(filepath.Join(dir, exportFile), out)
}

// exportPackages writes the wanted packages of repositories, with the signed lists, and adds what it wrote to out.
func (s Supplier) exportPackages(ctx context.Context, out *Exported, dir string, wanted map[string]Item,
	progress func(done int64)) error {
	folders := map[string]string{}
	for _, r := range s.Repositories {
		if folders[r.Address] == "" {
			folders[r.Address] = fmt.Sprint("source-", len(folders)+1)
		}
		at := filepath.Join(dir, folders[r.Address])
		found, err := s.exportLists(ctx, r, at, wanted)
		if err != nil {
			return s.refuse(r, err)
		}
		lists, err := sizeOf(filepath.Join(at, "dists", r.Suite))
		if err != nil {
			return err
		}
		out.Bytes += lists
		for _, p := range found {
			before := out.Bytes
			counted := func(done int64) { progress(before + done) }
			if err := s.receive(ctx, p, filepath.Join(at, p.File), counted); err != nil {
				return err
			}
			out.Bytes += p.Bytes
			delete(wanted, p.SHA256)
		}
		out.Repositories = append(out.Repositories,
			ExportedRepository{r.Address, r.Suite, r.Components, folders[r.Address]})
	}
	for _, p := range wanted {
		return notWhole(p.Name + " " + p.Version)
	}
	return nil
}

func notWhole(without string) error {
	return &trouble.Trouble{Code: trouble.NoSource, What: "the export is not whole",
		Because: "no source has " + without + " any more",
		Next:    "dravit supply discard, supply the program again, and export that"}
}

// exportReleases writes the packages of a registry of which trees consist into a folder, in the form in which a
// registry answers, and returns their bytes.
func (s Supplier) exportReleases(ctx context.Context, trees []Locked, dir string, progress func(done int64)) (
	size int64, err error) {
	documents := map[string]document{}
	for _, t := range trees {
		if len(t.Packages) > 0 {
			continue
		}
		pins := map[string]Pin{t.Package: {Version: t.Release, Integrity: t.Integrity}}
		maps.Copy(pins, t.With)
		for name, pin := range pins {
			from, err := s.document(ctx, name)
			if err != nil {
				return size, err
			}
			r, ok := from.Versions[pin.Version]
			if !ok || r.pin(pin.Version) != pin {
				return size, notWhole(name + " " + pin.Version)
			}
			file := "files/" + short(pin.Integrity) + ".tgz"
			if size, err = s.exportFile(ctx, r, filepath.Join(dir, file), size, progress); err != nil {
				return size, err
			}
			if documents[name].Versions == nil {
				documents[name] = document{Versions: map[string]published{}}
			}
			r.Dist.Tarball = file
			documents[name].Versions[pin.Version] = r
		}
	}
	for name, d := range documents {
		file := filepath.Join(dir, filepath.FromSlash(name))
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), home.WriteCache(file, d)); err != nil {
			return size, err
		}
	}
	return size, nil
}

// exportFile downloads a release's file. before are the bytes of earlier ones; it returns those and its own.
func (s Supplier) exportFile(ctx context.Context, r published, file string, before int64, progress func(int64)) (
	int64, error) {
	want, err := digest(r.Dist.Integrity)
	if err != nil {
		return before, err
	}
	err = s.route().get(ctx, r.Dist.Tarball, file, sha512.New(), want, longestFile, func(done int64) {
		progress(before +
			done)
	})
	if err != nil {
		return before, err
	}
	info, err := os.Stat(file)
	if err != nil {
		return before, err
	}
	return before + info.Size(), nil
}

// exportLists writes the signed list of a repository, and its lists of packages, into a folder, and returns those of
// the wanted packages that it has.
func (s Supplier) exportLists(ctx context.Context, r Repository, dir string, wanted map[string]Item) (
	found []debian.Package, err error) {
	release, err := r.release(ctx)
	if err != nil {
		return nil, err
	}
	suite := filepath.Join(dir, "dists", r.Suite)
	if err := os.MkdirAll(suite, 0o755); err != nil {
		return nil, err
	}
	for _, name := range []string{"InRelease", "Release", "Release.gpg"} {
		text, err := r.small(ctx, name)
		var status statusError
		if errors.As(err, &status) {
			continue // it has the other form
		}
		if err != nil {
			return nil, err
		}
		if err := os.WriteFile(filepath.Join(suite, name), text, 0o644); err != nil {
			return nil, err
		}
	}
	for _, component := range r.Components {
		name, sum, ok := listOf(release, component, debianArch(s.Arch))
		if !ok {
			continue
		}
		want, err := hex.DecodeString(sum.SHA256)
		if err != nil || !fs.ValidPath(name) {
			return nil, fmt.Errorf("it describes %q wrongly", name)
		}
		file := filepath.Join(suite, name)
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) { // of an earlier export
			return nil, err
		}
		if err := r.route().get(ctx, r.at(name), file, sha256.New(), want, sum.Bytes, func(int64) {}); err != nil {
			return nil, err
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		plain, err := debian.Plain(bytes.NewReader(text), filepath.Ext(name))
		if err != nil {
			return nil, err
		}
		data, err := debian.Parse(plain)
		if err := errors.Join(err, plain.Close()); err != nil {
			return nil, err
		}
		x := debian.Open(data, strings.TrimSuffix(r.Address, "/"))
		for _, item := range wanted {
			packages, _ := x.Find(item.Name)
			i := slices.IndexFunc(packages, func(p debian.Package) bool { return p.SHA256 == item.SHA256 })
			if i >= 0 && fs.ValidPath(packages[i].File) {
				found = append(found, packages[i])
			}
		}
	}
	return found, nil
}

// From makes an exported folder the only source. What comes from it is checked with the keys that the supplier has.
// What nobody has signed is taken only if unsigned.
func (s Supplier) From(dir string, unsigned bool) (Supplier, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return s, err
	}
	var x Exported
	if _, err := os.Stat(filepath.Join(dir, exportFile)); err != nil {
		return s, &trouble.Trouble{Code: trouble.NoSource, What: dir + " is no exported folder",
			Because: "it has no " + exportFile, Next: "dravit supply export FOLDER writes one", Err: err}
	}
	if err := home.ReadJSON(filepath.Join(dir, exportFile), &x); err != nil {
		return s, err
	}
	var keys [][]byte
	for _, r := range s.Repositories {
		keys = append(keys, r.Keys...)
	}
	repositories := []Repository{}
	for _, e := range x.Repositories {
		r := Repository{Keys: keys}
		for _, own := range s.Repositories {
			if own.Address == e.Address && own.Suite == e.Suite {
				// What is taken without a signature from a folder of the user's own is not so from one that came along.
				r = Repository{Keys: own.Keys, Expired: own.Expired, Unsigned: own.Unsigned && unsigned}
			}
		}
		r.Suite, r.Components = e.Suite, e.Components
		r.Address = (&url.URL{Scheme: "file", Path: filepath.Join(dir, filepath.Base(e.Folder))}).String()
		repositories = append(repositories, r)
	}
	s.Repositories, s.Address, s.withheld = repositories, "", x.Registry != "" && !unsigned
	if x.Registry != "" && unsigned {
		s.Address = (&url.URL{Scheme: "file", Path: filepath.Join(dir, filepath.Base(x.Registry))}).String()
	}
	return s, nil
}
