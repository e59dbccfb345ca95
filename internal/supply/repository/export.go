package repository

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/debian"
	"dravit/internal/supply"
	"dravit/internal/supply/fetch"
)

// Export implements supply.Source: it writes packages, with the signed lists of their suites.
func (s *Source) Export(ctx context.Context, trees []supply.Tree, dir string, out *supply.Exported,
	progress func(done int64)) error {
	wanted := map[string]supply.Item{}
	for _, t := range trees {
		for _, p := range t.Packages {
			wanted[p.SHA256] = p
		}
	}
	suites := []exportedSuite{}
	if len(wanted) == 0 {
		return out.Put(exportKey, suites)
	}
	first := out.Bytes
	folders := map[string]string{}
	for _, r := range s.Suites {
		if folders[r.Address] == "" {
			folders[r.Address] = fmt.Sprint("source-", len(folders)+1)
		}
		at := filepath.Join(dir, folders[r.Address])
		found, err := s.exportLists(ctx, r, at, wanted)
		if err != nil {
			return s.refuse(r, err)
		}
		lists, err := supply.SizeOf(filepath.Join(at, "dists", r.Name))
		if err != nil {
			return err
		}
		out.Bytes += lists
		for _, p := range found {
			before := out.Bytes - first
			counted := func(done int64) { progress(before + done) }
			if err := s.receive(ctx, p, filepath.Join(at, p.File), counted); err != nil {
				return err
			}
			out.Bytes += p.Bytes
			delete(wanted, p.SHA256)
		}
		suites = append(suites, exportedSuite{r.Address, r.Name, r.Components, folders[r.Address]})
	}
	for _, p := range wanted {
		return supply.NotWhole(p.Name + " " + p.Version)
	}
	return out.Put(exportKey, suites)
}

// exportLists writes the signed list of a repository, and its lists of packages, into a folder, and returns those of
// the wanted packages that it has.
func (s *Source) exportLists(ctx context.Context, r Suite, dir string, wanted map[string]supply.Item) (
	found []debian.Package, err error) {
	release, err := r.release(ctx)
	if err != nil {
		return nil, err
	}
	suite := filepath.Join(dir, "dists", r.Name)
	if err := os.MkdirAll(suite, 0o755); err != nil {
		return nil, err
	}
	for _, name := range []string{"InRelease", "Release", "Release.gpg"} {
		text, err := r.small(ctx, name)
		var status fetch.StatusError
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
		if err := r.route().Get(ctx, r.at(name), file, sha256.New(), want, sum.Bytes, func(int64) {}); err != nil {
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
