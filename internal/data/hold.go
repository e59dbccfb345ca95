package data

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"dravit/internal/home"
	"dravit/internal/pattern"
)

// Two locks guard a part's data folder. They are taken in this order, and end with the process that has them.
//
//   - The change lock belongs to a command that changes the data as a whole (a load, a mark, a rewind), from its first
//     step to its last. Only one such command works at a time.
//   - The hold lock keeps the part's server from starting while files are copied or renamed. The keeper does not try to
//     while the command has the part at rest; but if it dies, the next keeper's start waits for the lock.

func changeLock(dataDir string) string { return dataDir + ".change.lock" }
func holdLock(dataDir string) string   { return dataDir + ".hold.lock" }

// ErrBusy says that another command changes the data.
var ErrBusy = errors.New("another command changes these data")

// Change takes the change lock, or returns ErrBusy. The caller must call done.
func Change(dataDir string) (done func(), err error) {
	f, err := home.TryLock(changeLock(dataDir))
	if errors.Is(err, home.ErrLocked) {
		return nil, ErrBusy
	}
	if err != nil {
		return nil, err
	}
	return func() { f.Close() }, nil
}

// Hold takes the hold lock, and waits for it. The caller must call done.
func Hold(ctx context.Context, dataDir string) (done func(), err error) {
	f, err := home.Lock(ctx, holdLock(dataDir), "another command, which copies or renames these data")
	if err != nil {
		return nil, err
	}
	return func() { f.Close() }, nil
}

// Mend puts a data folder right after a swap that died. The caller has the hold lock, and no process uses the data.
func Mend(dataDir string) error {
	if _, err := os.Lstat(dataDir); errors.Is(err, fs.ErrNotExist) {
		if err := os.Rename(was(dataDir), dataDir); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Litter deletes what a mark, a rewind or a load left that was killed, unless a command changes the data. A rewind of
// the whole stack that is not finished still needs what it prepared.
func Litter(dataDir string) error {
	done, err := Change(dataDir)
	if errors.Is(err, ErrBusy) {
		return nil
	}
	if err != nil {
		return err
	}
	defer done()
	left, err := filepath.Glob(filepath.Join(pattern.Literal(marksDir(dataDir)), "new-*"))
	if !ToFinish(dataDir) {
		left = append(left, Prepared(dataDir))
	}
	if _, stat := os.Lstat(dataDir); stat == nil && !Torn(dataDir) {
		left = append(left, was(dataDir), before(dataDir))
	}
	for _, file := range left {
		err = errors.Join(err, os.RemoveAll(file))
	}
	return err
}
