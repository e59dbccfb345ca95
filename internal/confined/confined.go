// Package confined reads files of a folder that is not trusted, such as a project that was just cloned. It opens
// regular files only, so that it never waits for a pipe, and follows no link out of the folder.
package confined

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// OutsideError says that a path leads out of the folder.
type OutsideError struct {
	Name string // relative to the folder
	Real string // the real path that it resolves to
}

func (e *OutsideError) Error() string { return e.Name + " leads out of the project, to " + e.Real }

// ErrNotRegular says that a path names a pipe, a device, a socket or a folder.
var ErrNotRegular = errors.New("it is not a regular file")

// Resolve returns the real path of name, which is relative to dir. The error is an *OutsideError if links lead out of
// dir and of the folders in allowed, and a *fs.PathError if nothing exists there.
func Resolve(dir, name string, allowed ...string) (string, error) {
	base, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return "", err
	}
	resolved, err := filepath.EvalSymlinks(filepath.Join(base, name))
	if err != nil {
		return "", err
	}
	for _, folder := range append([]string{base}, allowed...) {
		if Inside(folder, resolved) {
			return resolved, nil
		}
	}
	return "", &OutsideError{name, resolved}
}

// Inside reports whether path is dir or below it. Both are absolute and contain no links.
func Inside(dir, path string) bool {
	rel, err := filepath.Rel(dir, path)
	return err == nil && filepath.IsLocal(rel)
}

// Outside returns the real path of name, which need not exist, if that is out of dir and of the folders in allowed,
// else "". It follows links as far as they exist, also those that lead to nothing.
func Outside(dir, name string, allowed ...string) string {
	base, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return ""
	}
	resolved := wouldBe(filepath.Join(base, name))
	for _, folder := range append([]string{base}, allowed...) {
		if Inside(folder, resolved) {
			return ""
		}
	}
	return resolved
}

// maxLinks is how many links are followed: as many as the kernel follows (path_resolution(7)).
const maxLinks = 40

// wouldBe returns the real path that a path has, or would have once it is created.
func wouldBe(path string) string {
	for range maxLinks {
		if resolved, err := filepath.EvalSymlinks(path); err == nil {
			return resolved
		}
		target, err := os.Readlink(path)
		if err != nil { // it does not exist, but its folder may
			if parent := filepath.Dir(path); parent != path {
				return filepath.Join(wouldBe(parent), filepath.Base(path))
			}
			return path
		}
		if !filepath.IsAbs(target) {
			target = filepath.Join(filepath.Dir(path), target)
		}
		path = target
	}
	return path
}

// Open opens a regular file of the folder for reading.
func Open(dir, name string, allowed ...string) (*os.File, error) {
	resolved, err := Resolve(dir, name, allowed...)
	if err != nil {
		return nil, err
	}
	// Without O_NONBLOCK, opening a pipe waits until another process writes to it.
	f, err := os.OpenFile(resolved, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: name, Err: ErrNotRegular}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// ReadFile reads a regular file of the folder. If the file has more than limit bytes, it returns an error.
func ReadFile(dir, name string, limit int64, allowed ...string) ([]byte, error) {
	f, err := Open(dir, name, allowed...)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(text)) > limit {
		err = fmt.Errorf("%s is larger than %d kB", name, limit>>10)
	}
	return text, err
}

// Stat describes what is at a path inside the folder. It follows links.
func Stat(dir, name string, allowed ...string) (fs.FileInfo, error) {
	resolved, err := Resolve(dir, name, allowed...)
	if err != nil {
		return nil, err
	}
	return os.Stat(resolved)
}

// ReadDir lists a folder inside the folder. It returns at most limit entries.
func ReadDir(dir, name string, limit int, allowed ...string) ([]fs.DirEntry, error) {
	resolved, err := Resolve(dir, name, allowed...)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(resolved); err != nil || !info.IsDir() {
		return nil, errors.Join(err, &fs.PathError{Op: "open", Path: name, Err: errors.New("it is not a folder")})
	}
	f, err := os.Open(resolved)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	entries, err := f.ReadDir(limit)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return entries, err
}

// Printable reports whether a path has no control character. Configuration files cannot hold one, and a terminal must
// not get one.
func Printable(path string) bool {
	return !strings.ContainsFunc(path, func(r rune) bool { return r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 })
}
