package data

import (
	"context"
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// clone makes a new file share the blocks of another (clonefile(2)), which makes the file itself. It fails where the
// file system cannot.
func clone(out, in *os.File) error {
	aside := out.Name() + ".clone"
	if err := unix.Clonefile(in.Name(), aside, unix.CLONE_NOFOLLOW); err != nil {
		return err
	}
	return os.Rename(aside, out.Name())
}

// nextData returns where the next data of a file begin, from an offset on: the end of the file if only a hole follows
// (lseek(2), SEEK_DATA). It returns false if the file system does not tell.
func nextData(f *os.File, from int64) (int64, bool) {
	const seekData = 4 // SEEK_DATA of sys/unistd.h
	at, err := unix.Seek(int(f.Fd()), from, seekData)
	if errors.Is(err, unix.ENXIO) {
		info, err := f.Stat()
		return max(from, info.Size()), err == nil
	}
	return at, err == nil
}

// copyLarge is copySparse: macOS' file systems share blocks, and others are rare there.
func copyLarge(ctx context.Context, out, in *os.File, _ int64) error { return copySparse(ctx, out, in) }
