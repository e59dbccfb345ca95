package data

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"time"

	"dravit/internal/home"
	"dravit/internal/proc"
)

// Two locks guard a part's data folder. They are taken in this order, and end with the process that has them.
//
//   - The change lock belongs to a command that changes the data as a whole (a load, a mark, a rewind), from its first
//     step to its last. Only one such command works at a time.
//   - The hold lock keeps the part's server from starting while files are copied or renamed. A start waits for it.

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
	for {
		f, err := home.TryLock(holdLock(dataDir))
		if err == nil {
			return func() { f.Close() }, nil
		}
		if !errors.Is(err, home.ErrLocked) {
			return nil, err
		}
		if err := proc.Sleep(ctx, 20*time.Millisecond); err != nil {
			return nil, err
		}
	}
}

// undoFile names the mark to which a change that dies is taken back.
func undoFile(dataDir string) string { return dataDir + ".undo.json" }

// undo is what undoFile holds.
type undo struct {
	Mark string `json:"mark"`
}

// Undoable notes that the data have to go back to a mark unless the change is done. The caller has the change lock.
func Undoable(dataDir, mark string) error { return home.WriteJSON(undoFile(dataDir), undo{mark}) }

// Done notes that a change is done.
func Done(dataDir string) error { return home.RemoveJSON(undoFile(dataDir)) }

// Unfinished reports whether a change died that has to be taken back, or a rewind of the whole stack that has to be
// finished.
func Unfinished(dataDir string) bool {
	return (toTakeBack(dataDir) || ToFinish(dataDir)) && !home.Locked(changeLock(dataDir))
}

func toTakeBack(dataDir string) bool {
	_, err := os.Lstat(undoFile(dataDir))
	return err == nil
}

// Mend puts a data folder right after a command that died: it takes an unfinished change back, and an unfinished
// swap. The caller has the hold lock, and no process uses the data.
func Mend(dataDir string) error {
	if _, err := os.Lstat(dataDir); errors.Is(err, fs.ErrNotExist) {
		if err := os.Rename(was(dataDir), dataDir); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if !toTakeBack(dataDir) || home.Locked(changeLock(dataDir)) {
		return nil
	}
	return TakeBack(dataDir)
}

// TakeBack puts the mark that Undoable named in the place of the data, which no process uses, and notes that the change
// is done. The mark is used up: the data are what it was. It takes no time and no space, and may be called again if it
// died.
func TakeBack(dataDir string) error {
	var u undo
	if err := home.ReadJSON(undoFile(dataDir), &u); err != nil {
		return err
	}
	m, err := ReadMark(dataDir, u.Mark)
	if errors.Is(err, fs.ErrNotExist) { // it was put back already
		return Done(dataDir)
	}
	if err != nil {
		return err
	}
	content := Content(dataDir, u.Mark)
	if _, err := os.Lstat(content); err == nil {
		if err := os.RemoveAll(Prepared(dataDir)); err != nil {
			return err
		}
		if err := os.Rename(content, Prepared(dataDir)); err != nil {
			return err
		}
	}
	if _, err := os.Lstat(Prepared(dataDir)); err == nil { // else it died after the swap
		if err := Swap(dataDir, m); err != nil {
			return err
		}
	}
	return errors.Join(DropWas(dataDir), RemoveMark(dataDir, u.Mark), Done(dataDir))
}
