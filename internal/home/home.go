// Package home manages the one folder that Dravit keeps everything in, and the short run folder for sockets. It writes
// and locks the files that matter.
package home

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"dravit/internal/account"
	"dravit/internal/trouble"
)

// Home is Dravit's own folder of one user.
type Home struct {
	Dir string // absolute
	Run string // absolute, short, mode 0700: sockets live here
}

// Locate returns the folder: $DRAVIT_HOME, else $XDG_DATA_HOME/dravit, else ~/.local/share/dravit. An empty
// environment finds the same folder through the account's entry in the user database.
func Locate() (string, error) {
	if dir := os.Getenv("DRAVIT_HOME"); dir != "" {
		return filepath.Abs(dir)
	}
	if dir := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "dravit"), nil
	}
	base := os.Getenv("HOME")
	if base == "" {
		if base = account.Current().HomeDir; base == "" {
			return "", errors.New("this account's home folder is unknown: set HOME or DRAVIT_HOME")
		}
	}
	return filepath.Join(base, ".local", "share", "dravit"), nil
}

// Open makes the folder and its run folder if they are missing and returns them.
func Open(dir string) (*Home, error) {
	if i := strings.IndexAny(dir, "\"\n\r\x00$`\\;"); i >= 0 {
		return nil, fmt.Errorf("the folder %q cannot be Dravit's: it contains %q, which servers' configuration files "+
			"cannot hold", dir, dir[i])
	}
	h := &Home{Dir: dir}
	run, err := h.recordedRun()
	if err == nil { // it is written last, so the rest exists
		h.Run = run
		return h, nil
	}
	if run != "" &&
		Locked(h.Path(KeeperLock)) { // the sockets of what runs are there: no other folder may take its place
		return nil, &trouble.Trouble{Code: trouble.RunFolder, What: "Dravit's run folder cannot be used",
			Because: err.Error(), Next: "put " + run +
				" right (your own folder, mode 0700), or end the keeper: dravit stop " +
				"then works again", Err: err}
	}
	for _, sub := range []string{"", "stacks", "templates", "bin"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, err
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute) // it is held for a few system calls
	defer cancel()
	lock, err := Lock(ctx, h.Path("run.lock"), "another command, which makes the run folder")
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	if h.Run, err = h.recordedRun(); err == nil {
		return h, nil // another process created it first
	}
	h.Run, err = h.makeRun()
	return h, err
}

// Path returns a path below the folder.
func (h *Home) Path(parts ...string) string {
	return filepath.Join(append([]string{h.Dir}, parts...)...)
}

// Stack returns a path below one stack's folder.
func (h *Home) Stack(id string, parts ...string) string {
	return h.Path(append([]string{"stacks", id}, parts...)...)
}

// recordedRun returns the run folder that was recorded once. It is not derived again: a cron job, su and a desktop have
// different environments, and must find the same keeper.
func (h *Home) recordedRun() (run string, err error) {
	text, err := os.ReadFile(h.Path("run"))
	if err != nil {
		return "", err
	}
	run = strings.TrimSpace(string(text))
	return run, HoldRun(run)
}

// HoldRun recreates the run folder if it was deleted. The error says why it cannot hold our sockets.
func HoldRun(run string) error {
	if !filepath.IsAbs(run) {
		return fmt.Errorf("%q is no absolute path", run)
	}
	if err := os.Mkdir(run, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return trusted(run) // another process may have created it first
}

// trusted returns an error if a folder must not hold our sockets: it must be a folder of this user, no link, and closed
// to others. One that was opened to others is closed again, unless another user put something into it meanwhile.
func trusted(run string) error {
	info, err := os.Lstat(run)
	if err != nil {
		return err
	}
	if !info.IsDir() || !ours(info) {
		return fmt.Errorf("%s is not a folder that only this user may enter", run)
	}
	if info.Mode().Perm() == 0o700 {
		return nil
	}
	if err := os.Chmod(run, 0o700); err != nil {
		return err
	}
	return filepath.WalkDir(run, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		x, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) { // it has gone meanwhile
			return nil
		}
		if err == nil && !ours(x) {
			err = fmt.Errorf("another user put %s there while the folder was open to others: delete it", path)
		}
		return err
	})
}

// ours reports whether a file belongs to this user.
func ours(info fs.FileInfo) bool {
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(stat.Uid) == os.Geteuid()
}

// makeRun creates the run folder and records its path. The folder is in /tmp and not in $XDG_RUNTIME_DIR, which
// vanishes with the last log-in while stacks keep running, unless nothing can be made in /tmp. The keeper's lock on the
// folder keeps cleaners of /tmp away.
func (h *Home) makeRun() (string, error) {
	run, err := os.MkdirTemp("/tmp", "dravit-")
	if other := os.Getenv("XDG_RUNTIME_DIR"); err != nil && filepath.IsAbs(other) && len(other) <= longestRunParent {
		if there, otherErr := os.MkdirTemp(other, "dravit-"); otherErr == nil {
			run, err = there, nil
		}
	}
	if err != nil {
		return "", err
	}
	return run, WriteFile(h.Path("run"), []byte(run+"\n"), 0o600)
}

// longestRunParent is how long the path of the folder may be in which the run folder is, so that the paths of sockets
// stay within 103 bytes.
const longestRunParent = 40

// WriteFile replaces a file atomically: a reader, or a crash at any moment, finds the old content or the new one.
func WriteFile(path string, data []byte, mode fs.FileMode) error {
	return write(path, data, mode, true)
}

// WriteState is WriteJSON for what means nothing after the machine's next boot. It does not sync: the file survives a
// crash of Dravit, not of the machine. It leaves files alone that have that content, as replacing one waits for the
// disk.
func WriteState(path string, v any) error { return writeJSON(path, v, false) }

// WriteCache replaces a file with a value as indented JSON. It does not sync: what is lost can be found out again.
func WriteCache(path string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return write(path, append(data, '\n'), 0o600, false)
}

func write(path string, data []byte, mode fs.FileMode, sync bool) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // it fails after the rename, as it should
	_, err = f.Write(data)
	if err == nil {
		err = f.Chmod(mode)
	}
	if err == nil && sync {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

// ReplaceFile replaces the content of an existing file atomically, with the permissions that the file has. A link stays
// a link.
func ReplaceFile(path string, data []byte) error {
	resolved, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	info, err := os.Stat(resolved)
	if err != nil {
		return err
	}
	return WriteFile(resolved, data, info.Mode().Perm())
}

// WriteDerived replaces a file atomically if its content differs, and reports whether it wrote. It does not sync: the
// file can be regenerated.
func WriteDerived(path string, data []byte, mode fs.FileMode) (bool, error) {
	if holds(path, data) {
		return false, nil
	}
	return true, write(path, data, mode, false)
}

// holds reports whether a file has that content.
func holds(path string, data []byte) bool {
	old, err := os.ReadFile(path)
	return err == nil && bytes.Equal(old, data)
}

// WriteJSON replaces a file with a value as indented JSON that only its owner may read. It also writes a copy beside
// it, which ReadJSON uses if the file is damaged or missing.
func WriteJSON(path string, v any) error { return writeJSON(path, v, true) }

func writeJSON(path string, v any, sync bool) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	data = append(data, '\n')
	if !sync && holds(path, data) && holds(path+lastGood, data) {
		return nil
	}
	if err := write(path, data, 0o600, sync); err != nil {
		return err
	}
	_ = write(path+lastGood, data, 0o600, false) // without the copy, a damaged file cannot be replaced
	return nil
}

// lastGood is the ending of the copy's name.
const lastGood = ".last"

// RemoveJSON removes a file that WriteJSON or WriteState wrote, and its copy. A missing file is no error.
func RemoveJSON(path string) error {
	for _, file := range []string{path + lastGood, path} {
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Recovered, if set, is called for each file that was damaged or missing, with the copy that was used instead.
var Recovered func(file, used string, because error)

// ReadJSON reads a value that WriteJSON wrote: from the file, else from its copy. If neither exists, it leaves v alone
// and returns nil. If what exists cannot be read, it leaves v alone and returns trouble.Damaged.
func ReadJSON[T any](path string, v *T) error {
	err := readJSON(path, v)
	if err == nil {
		return nil
	}
	last := readJSON(path+lastGood, v)
	missing := errors.Is(err, fs.ErrNotExist)
	switch {
	case last == nil:
		repair(path, err)
		if Recovered != nil {
			Recovered(path, path+lastGood, err)
		}
		return nil
	case missing:
		return nil
	}
	return &trouble.Trouble{
		Code:    trouble.Damaged,
		What:    "a file of Dravit's is damaged, and so is its copy",
		Because: fmt.Sprintf("%s is damaged: %v", path, err),
		Next:    "move it away, then dravit start",
		Err:     err,
	}
}

// repair replaces a file by its copy, unless another process did so already.
func repair(path string, because error) {
	data, err := os.ReadFile(path + lastGood)
	if err != nil || errors.Is(because, fs.ErrPermission) {
		return
	}
	var text json.RawMessage
	if readJSON(path, &text) != nil {
		_ = write(path, data, 0o600, false) // if it fails, the next reader finds the copy, too
	}
}

// ReadDerived is ReadJSON for what can be regenerated: a damaged file counts as missing.
func ReadDerived[T any](path string, v *T) error {
	err := ReadJSON(path, v)
	if errors.Is(err, trouble.Damaged) && !errors.Is(err, fs.ErrPermission) {
		return nil
	}
	return err
}

// readJSON reads one file whole into v, or leaves v alone.
func readJSON[T any](path string, v *T) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	var check T
	if err := json.Unmarshal(data, &check); err != nil {
		return err
	}
	return json.Unmarshal(data, v) // keys that the file omits keep the values in v
}
