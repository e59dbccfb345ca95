package data

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"
)

// Copy copies the folders and files below from into the folder to. Where the file system can, the copies share their
// blocks with the originals until one of them is written to.
func Copy(ctx context.Context, from, to string) error {
	return filepath.WalkDir(from, func(path string, e fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		switch {
		case e.IsDir():
			return os.MkdirAll(target, info.Mode().Perm())
		case info.Mode().IsRegular():
			in, err := os.Open(path)
			if err != nil {
				return err
			}
			return copyFile(ctx, in, target, info.Mode().Perm())
		}
		return nil // sockets and the like hold nothing
	})
}

// copyFile copies a file to a new one, and closes it.
func copyFile(ctx context.Context, in *os.File, to string, mode fs.FileMode) error {
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	return errors.Join(copyContent(ctx, out, in), out.Close())
}

// copyContent copies a file into an empty one: the blocks are shared (clone), or copied with holes where they are zero.
// Most of a new database's files is zero, and a hole reads the same.
func copyContent(ctx context.Context, out, in *os.File) error {
	if clone(out, in) == nil {
		return nil
	}
	info, err := in.Stat()
	if err != nil {
		return err
	}
	if info.Size() >= large {
		return copyLarge(ctx, out, in, info.Size())
	}
	return copySparse(ctx, out, in)
}

// large files are copied without looking for zeros: the kernel does it faster than any program.
const large = 64 << 20

const block = 256 << 10

var zeros [block]byte

// copySparse skips the holes of a file, and makes holes of blocks that are zero.
func copySparse(ctx context.Context, out, in *os.File) error {
	buf := make([]byte, block)
	for at := int64(0); ; {
		if err := ctx.Err(); err != nil {
			return err
		}
		if data, ok := nextData(in, at); ok && data > at {
			at = data
		}
		n, err := in.ReadAt(buf, at)
		if n > 0 && !bytes.Equal(buf[:n], zeros[:n]) {
			if _, err := out.WriteAt(buf[:n], at); err != nil {
				return err
			}
		}
		at += int64(n)
		if errors.Is(err, io.EOF) {
			info, err := in.Stat()
			if err != nil {
				return err
			}
			return out.Truncate(info.Size()) // a hole at the end was skipped, or nothing was written there
		}
		if err != nil {
			return err
		}
	}
}

// nextData returns where the next data of a file begin, from an offset on: the end of the file if only a hole follows
// (lseek(2), SEEK_DATA). It returns false if the file system does not tell.
func nextData(f *os.File, from int64) (int64, bool) {
	at, err := unix.Seek(int(f.Fd()), from, seekData)
	if errors.Is(err, unix.ENXIO) {
		info, err := f.Stat()
		return max(from, info.Size()), err == nil
	}
	return at, err == nil
}

// spare is how much space a copy leaves: a database server that finds less when it starts may not start, in bytes.
const spare = 96 << 20

// Room returns an error, which is syscall.ENOSPC, if copies of folders would leave too little space on the disk of dir.
func Room(dir string, folders ...string) error {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return &os.PathError{Op: "statfs", Path: dir, Err: err}
	}
	free, takes := int64(st.Bavail)*int64(st.Bsize), int64(0)
	if !clones(dir) {
		for _, folder := range folders {
			takes += used(folder)
		}
	}
	if free-takes < spare {
		return fmt.Errorf("a copy of the data takes %d MB, and %d MB are free, of which %d MB have to stay so: %w",
			takes>>20, free>>20, spare>>20, syscall.ENOSPC)
	}
	return nil
}

// clones reports whether files of a folder can share blocks, by trying.
func clones(dir string) bool {
	var files [2]*os.File
	for i := range files {
		f, err := os.CreateTemp(dir, "clone-*")
		if err != nil {
			return false
		}
		defer f.Close()
		defer os.Remove(f.Name())
		files[i] = f
	}
	_, err := files[0].Write(zeros[:4096])
	return err == nil && clone(files[1], files[0]) == nil
}

// used returns the space that the files of a folder take on the disk, in bytes.
func used(dir string) int64 {
	var sum int64
	_ = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if info, err := e.Info(); err == nil {
			if stat, ok := info.Sys().(*syscall.Stat_t); ok {
				sum += int64(stat.Blocks) * 512
			}
		}
		return nil
	})
	return sum
}
