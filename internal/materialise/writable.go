package materialise

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"

	"dravit/internal/about"
	"dravit/internal/account"
	"dravit/internal/kind"
	"dravit/internal/shell"
	"dravit/internal/trouble"
)

// maxEntries is how many entries of a writable folder are looked at.
const maxEntries = 5000

// makeWritable creates the folders that the stack file calls writable, for this account alone. From those that are
// there it takes the right to write from other accounts. The error names the first one that this account cannot write
// to.
func makeWritable(dir string, parts []kind.Part) error {
	for _, p := range parts {
		for _, name := range p.Want.Writable {
			if err := openFolder(p.Name, name, filepath.Join(dir, name)); err != nil {
				return err
			}
		}
	}
	return nil
}

func openFolder(part, name, path string) error {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		err = os.MkdirAll(path, 0o700)
		if errors.Is(err, fs.ErrPermission) {
			return notWritable(part, name, "the folder above it belongs to another account", shell.Quote(name))
		}
		return err
	case err != nil:
		return err
	case !info.IsDir():
		return &trouble.Trouble{Code: trouble.NotThere, Subject: about.Part(part).At("writable"),
			What: fmt.Sprintf("part %s cannot write to the folder %s", part, name), Because: "it is a file",
			Next: "move it away, or name its folder"}
	}
	if owner(info) == os.Geteuid() {
		if mode := info.Mode().Perm(); mode&0o700 != 0o700 || mode&0o002 != 0 {
			if err := os.Chmod(path, (mode|0o700)&^0o002); err != nil {
				return err
			}
		}
	}
	left := maxEntries
	resolved, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	return filepath.WalkDir(resolved, func(at string, e fs.DirEntry, err error) error {
		left--
		switch {
		case left < 0:
			return filepath.SkipAll
		case errors.Is(err, fs.ErrNotExist):
			return nil // it was deleted meanwhile
		case err != nil && !errors.Is(err, fs.ErrPermission):
			return err
		case !e.IsDir() && !e.Type().IsRegular():
			return nil
		}
		info, statErr := e.Info()
		if statErr != nil || owner(info) == os.Geteuid() || unix.Access(at, unix.W_OK) == nil {
			return nil
		}
		within, relErr := filepath.Rel(resolved, at)
		if relErr != nil {
			return relErr
		}
		return notWritable(part, filepath.Join(name, within), fmt.Sprintf("it belongs to %s, with mode %#o",
			account.NameOf(owner(info)), info.Mode().Perm()), shell.Quote(name))
	})
}

func notWritable(part, name, because, folder string) error {
	return &trouble.Trouble{
		Code:    trouble.Forbidden,
		Subject: about.Part(part).At("writable"),
		What:    fmt.Sprintf("part %s cannot write to %s", part, name),
		Because: because + "; the part runs as " + account.NameOf(os.Geteuid()),
		Next:    fmt.Sprintf("sudo chown -R %s %s", account.NameOf(os.Geteuid()), folder),
	}
}

// owner returns the user id of a file's owner.
func owner(info fs.FileInfo) int { return int(info.Sys().(*syscall.Stat_t).Uid) }
