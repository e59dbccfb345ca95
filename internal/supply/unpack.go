package supply

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// The limits of a package: what it may hold, in bytes, and in files and folders.
const (
	largestTree = 4 << 30
	mostEntries = 100_000
)

// EachEntry calls write for each entry of a package, which is within the limits.
func EachEntry(ctx context.Context, in *tar.Reader, write func(h *tar.Header) error) error {
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

// WriteEntry writes the file of an entry, with a mode and the right to run it if the entry has that.
func WriteEntry(root *os.Root, in io.Reader, h *tar.Header, name string, mode fs.FileMode,
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
