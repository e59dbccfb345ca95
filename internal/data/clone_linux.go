package data

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// clone makes a new file share the blocks of another (ioctl_ficlone(2)). It fails where the file system cannot.
func clone(out, in *os.File) error { return unix.IoctlFileClone(int(out.Fd()), int(in.Fd())) }

// nextData returns where the next data of a file begin, from an offset on: the end of the file if only a hole follows
// (lseek(2), SEEK_DATA). It returns false if the file system does not tell.
func nextData(f *os.File, from int64) (int64, bool) {
	at, err := unix.Seek(int(f.Fd()), from, unix.SEEK_DATA)
	if errors.Is(err, unix.ENXIO) {
		info, err := f.Stat()
		return max(from, info.Size()), err == nil
	}
	return at, err == nil
}
