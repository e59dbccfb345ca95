package registry

import (
	"context"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"

	"dravit/internal/kind"
	"dravit/internal/shell"
	"dravit/internal/supply"
	"dravit/internal/supply/fetch"
	"dravit/internal/version"
)

// companion is a release of a package that is put beside a program.
type companion struct {
	kind.Companion
	release, tarball, integrity string
	bytes                       int64
}

// engines returns the condition on an engine's version that a release of a package names, or "" (npm, "package.json:
// engines").
func engines(text json.RawMessage, engine string) string {
	var all map[string]string
	if json.Unmarshal(text, &all) != nil { // old packages have a list
		return ""
	}
	return all[engine]
}

// companions returns the packages beside a program: the releases that a lock names, and of others the newest that say
// that they run on its version. What the registry does not have is left out.
func (s *Source) companions(ctx context.Context, r kind.Recipe, runs string, pins map[string]supply.Pin) (
	found []companion) {
	for _, with := range r.Carrier.With {
		doc, err := s.document(ctx, with.Package)
		if err != nil {
			continue
		}
		var best *version.Version
		x := companion{Companion: with}
		pin, pinned := pins[with.Package]
		for release, p := range doc.Versions {
			v, err := version.Parse(release)
			condition, bad := version.Read(version.NPM, engines(p.Engines, r.Name))
			if err != nil || bad != nil || preview(release) || !condition.Allows(runs) ||
				pinned && pin != p.pin(release) || best != nil && v.Compare(*best) <= 0 {
				continue
			}
			best = &v
			x.release, x.tarball, x.integrity = release, p.Dist.Tarball, p.Dist.Integrity
		}
		if best == nil {
			continue
		}
		if x.bytes, err = s.size(ctx, with.Package, doc, x.tarball); err == nil {
			found = append(found, x)
		}
	}
	return found
}

// pin returns what a lock says of a release.
func (p published) pin(release string) supply.Pin {
	return supply.Pin{Version: release, Integrity: p.Dist.Integrity}
}

// add puts a companion beside the program of a tree, and the digests of its files into sums.
func (s *Source) add(ctx context.Context, x companion, program, files string, sums map[string]string) error {
	want, err := digest(x.integrity)
	if err != nil {
		return err
	}
	file := s.Path("cache", hex.EncodeToString(want[:16])+".tgz")
	if err := s.route().Get(ctx, x.tarball, file, sha512.New(), want, fetch.LongestFile, func(int64) {}); err != nil {
		return err
	}
	dir := filepath.Join(files, x.Into)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	more, err := unpack(ctx, file, dir)
	if err != nil {
		return fmt.Errorf("unpacking %s: %w", x.Package, err)
	}
	for name, sum := range more {
		sums[path.Join(x.Into, name)] = sum
	}
	for _, name := range slices.Sorted(maps.Keys(x.Runs)) {
		at := path.Join(path.Dir(program), name)
		code, err := filepath.Rel(path.Dir(program), path.Join(x.Into, x.Runs[name]))
		if err != nil {
			return err
		}
		text := "#!/bin/sh\nhere=$(dirname -- \"$0\")\n" +
			"exec \"$here\"/" + shell.Quote(path.Base(program)) + " \"$here\"/" + shell.Quote(code) + " \"$@\"\n"
		if err := os.WriteFile(filepath.Join(files, at), []byte(text), 0o755); err != nil {
			return err
		}
		if sums[at], err = fetch.SumOf(filepath.Join(files, at)); err != nil {
			return err
		}
	}
	return os.Remove(file)
}
