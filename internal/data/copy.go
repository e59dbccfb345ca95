package data

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// copyTree copies the folders and files below from into the folder to. Where the file system can, the copies share
// their blocks with the originals until one of them is written to.
func copyTree(ctx context.Context, from, to string) error {
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
			return copyFile(ctx, path, target, info.Mode().Perm())
		}
		return nil // sockets and the like hold nothing
	})
}

// copyFile copies a file: its blocks are shared (clone), or it is copied with holes where it is zero. Most of a new
// database's files is zero, and a hole reads the same.
func copyFile(ctx context.Context, from, to string, mode fs.FileMode) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	if clone(out, in) == nil {
		return out.Close()
	}
	return errors.Join(copySparse(ctx, out, in), out.Close())
}

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
