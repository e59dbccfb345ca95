package registry

import (
	"context"
	"crypto/sha512"
	"errors"
	"maps"
	"os"
	"path/filepath"

	"dravit/internal/home"
	"dravit/internal/supply"
	"dravit/internal/supply/fetch"
)

// Export implements supply.Source: it writes packages in the form in which a registry answers.
func (s *Source) Export(ctx context.Context, trees []supply.Tree, dir string, out *supply.Exported,
	progress func(done int64)) error {
	if len(trees) == 0 {
		return nil
	}
	dir = filepath.Join(dir, exportKey)
	size := int64(0)
	documents := map[string]document{}
	for _, t := range trees {
		pins := map[string]supply.Pin{t.Package: {Version: t.Release, Integrity: t.Integrity}}
		maps.Copy(pins, t.With)
		for name, pin := range pins {
			from, err := s.document(ctx, name)
			if err != nil {
				return err
			}
			r, ok := from.Versions[pin.Version]
			if !ok || r.pin(pin.Version) != pin {
				return supply.NotWhole(name + " " + pin.Version)
			}
			file := "files/" + short(pin.Integrity) + ".tgz"
			if size, err = s.exportFile(ctx, r, filepath.Join(dir, file), size, progress); err != nil {
				return err
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
			return err
		}
	}
	out.Bytes, out.Unsigned = out.Bytes+size, true
	return out.Put(exportKey, exportKey)
}

// exportFile downloads a release's file. before are the bytes of earlier ones; it returns those and its own.
func (s *Source) exportFile(ctx context.Context, r published, file string, before int64, progress func(int64)) (
	int64, error) {
	want, err := digest(r.Dist.Integrity)
	if err != nil {
		return before, err
	}
	err = s.route().Get(ctx, r.Dist.Tarball, file, sha512.New(), want, fetch.LongestFile, func(done int64) {
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
