package home

import (
	"context"
	"errors"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"dravit/internal/trouble"
)

// KeeperLock is the name of the lock file that the keeper of a home folder holds while it runs.
const KeeperLock = "keeper.lock"

// ErrLocked says that another process holds the lock.
var ErrLocked = errors.New("locked")

// Waits, if not nil, is called once Lock has waited for a second, with what may hold the lock.
var Waits func(holder string)

// unheard is how long Lock waits without a word.
const unheard = time.Second

// Lock waits for a file's lock and takes it. holder says in words what may hold it: "another start". Closing the file
// releases the lock, as does the end of the process. The lock belongs to the open file (flock), so a child that
// inherits the descriptor keeps it. If the context ends before, Lock returns its error, or for a deadline a
// *trouble.Trouble of code Busy.
func Lock(ctx context.Context, path, holder string) (*os.File, error) {
	began, pause := time.Now(), time.Millisecond
	said := Waits == nil
	for {
		f, err := TryLock(path)
		if !errors.Is(err, ErrLocked) {
			return f, err
		}
		if !said && time.Since(began) > unheard {
			Waits(holder)
			said = true
		}
		select {
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return nil, &trouble.Trouble{Code: trouble.Busy, What: "this could not begin in time",
					Because: "it waits for " + holder, Next: "try again when that has ended", Err: ctx.Err()}
			}
			return nil, ctx.Err()
		case <-time.After(pause):
		}
		pause = min(2*pause, 50*time.Millisecond)
	}
}

// TryLock takes a file's lock. It returns ErrLocked if another process holds it.
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
