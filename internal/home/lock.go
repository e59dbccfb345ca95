package home

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// KeeperLock is the name of the lock file that the keeper of a home folder holds while it runs.
const KeeperLock = "keeper.lock"

// ErrLocked says that another process holds the lock.
var ErrLocked = errors.New("locked")

// Lock waits for a file's lock and takes it. Closing the file releases it, as does the end of the process. The lock
// belongs to the open file (flock), so a child that inherits the descriptor keeps it.
func Lock(path string) (*os.File, error) { return lock(path, unix.LOCK_EX) }

// TryLock is Lock without waiting. It returns ErrLocked if another process holds the lock.
func TryLock(path string) (*os.File, error) { return lock(path, unix.LOCK_EX|unix.LOCK_NB) }

// Locked reports whether a process holds a file's lock. A missing file is not locked.
func Locked(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(flock(f, unix.LOCK_SH|unix.LOCK_NB), ErrLocked)
}

func lock(path string, how int) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := flock(f, how); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func flock(f *os.File, how int) error {
	for {
		err := unix.Flock(int(f.Fd()), how)
		switch {
		case errors.Is(err, unix.EINTR):
		case errors.Is(err, unix.EWOULDBLOCK):
			return ErrLocked
		case err != nil:
			return &os.PathError{Op: "lock", Path: f.Name(), Err: err}
		default:
			return nil
		}
	}
}
