package data

import (
	"context"
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// clone makes a new file share the blocks of another (ioctl_ficlone(2)). It fails where the file system cannot.
func clone(out, in *os.File) error { return unix.IoctlFileClone(int(out.Fd()), int(in.Fd())) }

// seekData is SEEK_DATA of lseek(2).
const seekData = unix.SEEK_DATA

// copyLarge copies the data of a large file and leaves out its holes (copy_file_range(2)).
func copyLarge(ctx context.Context, out, in *os.File, size int64) error {
	const most = 64 << 20 // between two looks at the context
	for at := int64(0); at < size; {
		if err := ctx.Err(); err != nil {
			return err
		}
		data, ok := nextData(in, at)
		if !ok {
			data = at
		}
		if data >= size {
			break
		}
		end, err := unix.Seek(int(in.Fd()), data, unix.SEEK_HOLE)
		if err != nil {
			end = size
		}
		from, to := data, data
		n, err := unix.CopyFileRange(int(in.Fd()), &from, int(out.Fd()), &to, int(min(end-data, most)), 0)
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EXDEV), errors.Is(err, unix.EINVAL),
			errors.Is(err, unix.EOPNOTSUPP): // old kernels, and some file systems
			return copySparse(ctx, out, in)
		case err != nil:
			return &os.PathError{Op: "copy", Path: in.Name(), Err: err}
		case n == 0: // the file has become shorter
			return out.Truncate(data)
		}
		at = data + int64(n)
	}
	return out.Truncate(size)
}
