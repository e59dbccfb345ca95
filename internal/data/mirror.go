package data

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// openFolder opens a folder of the project. No link in it leads out of the project.
func openFolder(project, name string) (*os.Root, error) {
	root, err := os.OpenRoot(project)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.OpenRoot(name)
}

// MakeFolder creates a folder of the project that is missing, for this account alone.
func MakeFolder(project, name string) error {
	root, err := os.OpenRoot(project)
	if err != nil {
		return err
	}
	return errors.Join(root.MkdirAll(name, 0o700), root.Close())
}

// InProject returns an error if a name is no folder below the project's own, or a link leads out of the project.
func InProject(project, name string) error {
	folder, err := openFolder(project, name)
	if err != nil {
		return err
	}
	defer folder.Close()
	own, err := os.Stat(project)
	if err != nil {
		return err
	}
	info, err := folder.Stat(".")
	if err == nil && os.SameFile(own, info) {
		err = errors.New("it is the project's own folder")
	}
	return err
}

// save copies what is in a folder into the empty folder to: folders, files and links, with the times of files. Sockets
// and the like hold nothing.
func save(ctx context.Context, from *os.Root, to string) error {
	return fs.WalkDir(from.FS(), ".", func(path string, e fs.DirEntry, err error) error {
		if err = errors.Join(err, ctx.Err()); err != nil || path == "." {
			return err
		}
		target := filepath.Join(to, path)
		info, err := e.Info()
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil // it was deleted meanwhile
		case err != nil:
			return err
		case e.IsDir():
			return os.Mkdir(target, info.Mode().Perm()|0o700)
		case e.Type() == fs.ModeSymlink:
			link, err := from.Readlink(path)
			if err != nil {
				return err
			}
			return os.Symlink(link, target)
		case !e.Type().IsRegular():
			return nil
		}
		in, err := from.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := copyFile(ctx, in, target, info.Mode().Perm()); err != nil {
			return err
		}
		return os.Chtimes(target, info.ModTime(), info.ModTime())
	})
}

// mirror makes a folder equal to what save copied. It may be called again if it died.
func mirror(ctx context.Context, from string, to *os.Root) error {
	err := filepath.WalkDir(from, func(path string, e fs.DirEntry, err error) error {
		if err = errors.Join(err, ctx.Err()); err != nil || path == from {
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
		old, err := to.Lstat(rel)
		if err == nil && old.Mode().Type() != info.Mode().Type() {
			old, err = nil, to.RemoveAll(rel)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		switch {
		case e.IsDir() && old != nil:
			return nil
		case e.IsDir():
			return to.Mkdir(rel, info.Mode().Perm())
		case e.Type() == fs.ModeSymlink:
			return putLink(path, to, rel)
		}
		return putFile(ctx, path, info, to, rel)
	})
	if err != nil {
		return err
	}
	return removeOthers(from, to)
}

func putLink(from string, to *os.Root, rel string) error {
	link, err := os.Readlink(from)
	if err != nil {
		return err
	}
	if old, err := to.Readlink(rel); err == nil && old == link {
		return nil
	}
	if err := to.Remove(rel); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return to.Symlink(link, rel)
}

// rewindPrefix begins the names of files that are not whole yet.
const rewindPrefix = ".dravit-rewind-"

// putFile replaces a file atomically, unless it is equal.
func putFile(ctx context.Context, from string, info fs.FileInfo, to *os.Root, rel string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	if old, err := to.OpenFile(rel, os.O_RDONLY|syscall.O_NONBLOCK, 0); err == nil {
		same, err := equal(in, old, info)
		if err = errors.Join(err, old.Close()); err != nil || same {
			return err
		}
	}
	if _, err := in.Seek(0, io.SeekStart); err != nil {
		return err
	}
	fresh := filepath.Join(filepath.Dir(rel), rewindPrefix+rand.Text())
	out, err := to.OpenFile(fresh, os.O_CREATE|os.O_EXCL|os.O_WRONLY, info.Mode().Perm())
	if err != nil {
		return err
	}
	err = copyContent(ctx, out, in)
	if err == nil {
		err = out.Sync()
	}
	if err = errors.Join(err, out.Close()); err == nil {
		err = to.Chtimes(fresh, info.ModTime(), info.ModTime())
	}
	if err == nil {
		err = to.Rename(fresh, rel)
	}
	if err != nil {
		return errors.Join(err, to.Remove(fresh))
	}
	return nil
}

// equal reports whether a file has the content, mode and time of another, which info describes.
func equal(want, have *os.File, info fs.FileInfo) (bool, error) {
	now, err := have.Stat()
	if err != nil || now.Size() != info.Size() || now.Mode() != info.Mode() || !now.ModTime().Equal(info.ModTime()) {
		return false, err
	}
	var a, b [64 << 10]byte
	for {
		n, err := io.ReadFull(want, a[:])
		m, err2 := io.ReadFull(have, b[:])
		if n != m || !bytes.Equal(a[:n], b[:m]) {
			return false, nil
		}
		if err != nil || err2 != nil { // the end of both, or of what can be read
			return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF), nil
		}
	}
}

// removeOthers removes what is in a folder and not in the one that it mirrors.
func removeOthers(from string, to *os.Root) error {
	return fs.WalkDir(to.FS(), ".", func(path string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil // removed with its folder, or by somebody else
		}
		if err != nil || path == "." {
			return err
		}
		_, err = os.Lstat(filepath.Join(from, path))
		leftOver := strings.HasPrefix(e.Name(), rewindPrefix)
		if err == nil && !leftOver || !e.IsDir() && !e.Type().IsRegular() && e.Type() != fs.ModeSymlink {
			return nil
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := to.RemoveAll(path); err != nil {
			return err
		}
		if e.IsDir() {
			return fs.SkipDir
		}
		return nil
	})
}
