// Package home knows the one folder that Dravit keeps everything in, the short run folder for sockets, and
// how files that matter are written and locked.
package home

import (
	"bytes"
	"dravit/internal/trouble"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
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
		me, err := user.Current()
		if err != nil {
			return "", fmt.Errorf("this account's home folder is unknown: %w", err)
		}
		base = me.HomeDir
	}
	return filepath.Join(base, ".local", "share", "dravit"), nil
}

// Open makes the folder and its run folder where they are missing and returns them.
func Open(dir string) (*Home, error) {
	if i := strings.IndexAny(dir, "\"\n\r\x00$`\\;"); i >= 0 {
		return nil, fmt.Errorf("the folder %q cannot be Dravit's: it contains %q, which servers' configuration files "+
			"cannot carry", dir, dir[i])
	}
	h := &Home{Dir: dir}
	if run, err := h.recordedRun(); err == nil { // written last: the rest is there
		h.Run = run
		return h, nil
	}
	for _, sub := range []string{"", "stacks", "templates", "bin"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, err
		}
	}
	lock, err := Lock(h.Path("run.lock"))
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	if h.Run, err = h.recordedRun(); err == nil {
		return h, nil // another process was faster
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

// recordedRun returns the run folder that was written down once. It is not derived again: a cron job, su and a
// desktop have different environments and must find the same keeper.
func (h *Home) recordedRun() (string, error) {
	text, err := os.ReadFile(h.Path("run"))
	if err != nil {
		return "", err
	}
	run := strings.TrimSpace(string(text))
	return run, HoldRun(run)
}

// HoldRun makes the run folder again where it was deleted, and reports why it cannot hold our sockets.
func HoldRun(run string) error {
	if !filepath.IsAbs(run) {
		return fmt.Errorf("%q is no absolute path", run)
	}
	if err := os.Mkdir(run, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return trusted(run) // somebody else may have been faster
}

// trusted reports why a folder cannot hold our sockets: it must be a folder of this user, not a link, and closed to
// others.
func trusted(run string) error {
	info, err := os.Lstat(run)
	if err != nil {
		return err
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok || !info.IsDir() || int(stat.Uid) != os.Geteuid() || info.Mode().Perm() != 0o700 {
		return fmt.Errorf("%s is not a folder of this user alone", run)
	}
	return nil
}

// makeRun makes the run folder and writes its place down. It lies in /tmp rather than in $XDG_RUNTIME_DIR, since the
// latter vanishes with the last login while stacks run on; the keeper's lock on it keeps cleaners away.
func (h *Home) makeRun() (string, error) {
	run, err := os.MkdirTemp("/tmp", "dravit-")
	if err != nil {
		return "", err
	}
	return run, WriteFile(h.Path("run"), []byte(run+"\n"), 0o600)
}

// WriteFile writes a file whole: a reader, or a crash at any moment, finds the old content or the new one.
func WriteFile(path string, data []byte, mode fs.FileMode) error {
	return write(path, data, mode, true)
}

// WriteState is WriteJSON for what has no meaning after the machine's next boot: it survives a crash of its writer, and
// does not wait for the disk.
func WriteState(path string, v any) error { return writeJSON(path, v, false) }

// WriteCache writes a value whole as indented JSON that is found out again when it is lost.
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
	defer os.Remove(f.Name()) // fails after the rename, as it should
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

// ReplaceFile writes a file that is there already, whole, with the permissions that it has. A link stays a link.
func ReplaceFile(path string, data []byte) error {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	info, err := os.Stat(real)
	if err != nil {
		return err
	}
	return WriteFile(real, data, info.Mode().Perm())
}

// WriteDerived writes a file whole that is made anew from other files when it is lost; it leaves an equal one alone and
// tells whether it wrote.
func WriteDerived(path string, data []byte, mode fs.FileMode) (bool, error) {
	if old, err := os.ReadFile(path); err == nil && bytes.Equal(old, data) {
		return false, nil
	}
	return true, write(path, data, mode, false)
}

// WriteJSON writes a value whole as indented JSON, for its owner's eyes only, and a copy beside it, which ReadJSON
// takes if the file is damaged or gone.
func WriteJSON(path string, v any) error { return writeJSON(path, v, true) }

func writeJSON(path string, v any, sync bool) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	data = append(data, '\n')
	if err := write(path, data, 0o600, sync); err != nil {
		return err
	}
	_ = write(path+lastGood, data, 0o600, false) // without it there is one way back less
	return nil
}

// lastGood is what the name of a file's copy ends with.
const lastGood = ".last"

// RemoveJSON removes a file that WriteJSON or WriteState wrote, and its copy. One that is not there is no error.
func RemoveJSON(path string) error {
	for _, file := range []string{path + lastGood, path} {
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Recovered, if set, is told of each file that was damaged or gone, and of the copy that was used instead.
var Recovered func(file, used string, because error)

// ReadJSON reads a value written by WriteJSON: the file, else its copy. If neither is there, it leaves v alone and
// returns nil. If what is there cannot be read, it leaves v alone and returns trouble.Damaged.
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

// repair puts a file's copy in its place, unless somebody else has meanwhile.
func repair(path string, because error) {
	data, err := os.ReadFile(path + lastGood)
	if err != nil || errors.Is(because, fs.ErrPermission) {
		return
	}
	var any json.RawMessage
	if readJSON(path, &any) != nil {
		_ = write(path, data, 0o600, false) // the next reader finds the copy, too
	}
}

// ReadDerived is ReadJSON for what is found out or made again: a damaged file counts as one that is not there.
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
	return json.Unmarshal(data, v) // over what v holds for keys that the file leaves out
}
