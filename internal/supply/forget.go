package supply

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"slices"
)

// Said returns where is kept what a source said: by its address, and what of it was asked for.
func (h Here) Said(address, of string) string {
	sum := sha256.Sum256([]byte(address + "\n" + of))
	return h.Path("sources", hex.EncodeToString(sum[:8]))
}

// Forget deletes what was kept of sources that the supplier does not have.
func (s Supplier) Forget() error {
	dirs, err := os.ReadDir(s.Path("sources"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, d := range dirs {
		dir := s.Path("sources", d.Name())
		if !d.IsDir() || slices.ContainsFunc(s.Sources, func(x Source) bool { return x.Keeps(dir) }) {
			continue
		}
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	return err
}
