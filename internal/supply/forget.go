package supply

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"dravit/internal/home"
)

// sourceFolder returns where is kept what a source said: of a suite of a repository, or of a package of a registry.
func (s Supplier) sourceFolder(address, of string) string {
	sum := sha256.Sum256([]byte(address + "\n" + of))
	return s.path("sources", hex.EncodeToString(sum[:8]))
}

// Forget deletes what was kept of sources that the supplier does not have.
func (s Supplier) Forget() error {
	dirs, err := os.ReadDir(s.path("sources"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, d := range dirs {
		dir := s.path("sources", d.Name())
		if !d.IsDir() || s.has(dir) {
			continue
		}
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	return err
}

// has reports whether a folder keeps what one of the supplier's sources said.
func (s Supplier) has(dir string) bool {
	var of document
	if home.ReadDerived(filepath.Join(dir, documentFile), &of) == nil && of.Address != "" {
		return of.Address == s.Address
	}
	return slices.ContainsFunc(s.Repositories, func(r Repository) bool {
		return s.sourceFolder(r.Address, r.Suite) == dir
	})
}
