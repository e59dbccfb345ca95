package supply

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"dravit/internal/kind"
)

// The limits of a package: what it may hold, in bytes, and in files and folders.
const (
	largestTree = 4 << 30
	mostEntries = 100_000
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
	return sums, eachEntry(ctx, in, func(h *tar.Header) error { return unpackEntry(root, in, h, sums) })
}

// eachEntry calls write for each entry of a package, which is within the limits.
func eachEntry(ctx context.Context, in *tar.Reader, write func(h *tar.Header) error) error {
	left := int64(largestTree)
	for entries := 0; ; entries++ {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		if left -= h.Size; left < 0 || entries > mostEntries {
			return errors.New("the package holds more than a program can")
		}
		if err := write(h); err != nil {
			return fmt.Errorf("%q: %w", h.Name, err)
		}
	}
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
	return writeEntry(root, in, h, name, 0o644, sums)
}

// writeEntry writes the file of an entry, with a mode and the right to run it if the entry has that.
func writeEntry(root *os.Root, in io.Reader, h *tar.Header, name string, mode fs.FileMode,
	sums map[string]string) error {
	if h.Mode&0o111 != 0 {
		mode |= 0o111
	}
	out, err := root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(out, sum), in)
	sums[name] = hex.EncodeToString(sum.Sum(nil))
	return errors.Join(err, out.Close())
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
