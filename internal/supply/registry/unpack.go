package registry

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/supply"
)

// unpack writes what a package holds into an empty folder, and returns the SHA-256 of each file, by its path. It takes
// files and folders only: no package may write outside its folder, or bring links, devices or set-user bits.
func unpack(ctx context.Context, file, dir string) (map[string]string, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	sums := map[string]string{}
	in := tar.NewReader(z)
	return sums, supply.EachEntry(ctx, in, func(h *tar.Header) error { return unpackEntry(root, in, h, sums) })
}

// unpackEntry writes one entry, without the folder that packages of this format are in.
func unpackEntry(root *os.Root, in io.Reader, h *tar.Header, sums map[string]string) error {
	_, name, _ := strings.Cut(strings.TrimPrefix(h.Name, "./"), "/")
	if h.Typeflag == tar.TypeXGlobalHeader || name == "" {
		return nil
	}
	if !fs.ValidPath(strings.TrimSuffix(name, "/")) {
		return errors.New("the path leaves the package's folder")
	}
	switch h.Typeflag {
	case tar.TypeDir:
		return root.MkdirAll(name, 0o755)
	case tar.TypeReg:
	default:
		return errors.New("it is neither a file nor a folder")
	}
	if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return supply.WriteEntry(root, in, h, name, 0o644, sums)
}

// link makes the links that a package lists in a file, as its own installer would: pairs of a file and a name.
func link(dir string, c kind.Carrier) error {
	if c.Links == "" {
		return nil
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	text, err := root.ReadFile(c.Links)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var links []struct{ Source, Target string }
	if err := json.Unmarshal(text, &links); err != nil {
		return err
	}
	for _, l := range links {
		if !fs.ValidPath(l.Source) || !fs.ValidPath(l.Target) {
			return fmt.Errorf("the link %q leaves the package's folder", l.Target)
		}
		source, err := filepath.Rel(filepath.Dir(l.Target), l.Source)
		if err != nil {
			return err
		}
		if err := root.Symlink(source, l.Target); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}
