// Package self keeps a copy of the running dravit program in Dravit's folder. The keeper and built-in parts run from
// the copy: go run deletes the original when its command ends, and an upgrade replaces it.
package self

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"

	"dravit/internal/home"
	"dravit/internal/trouble"
)

// Program is the copy.
type Program struct {
	Path  string // bin/<build>/dravit
	Link  string // bin/dravit, a link to the newest copy
	Build string // the content's hash
}

// Install copies the running program if its copy is missing. inUse reports whether copies of other builds may be in
// use; if not, Install deletes them.
func Install(ctx context.Context, h *home.Home, inUse func() bool) (Program, error) {
	source, err := running()
	if err != nil {
		return Program{}, err
	}
	info, err := os.Stat(source)
	if err != nil {
		return Program{}, err
	}
	// To hash the whole program takes longer than a command does. So the hash is remembered, under what the system says
	// about the file.
	index := map[string]string{}
	indexFile := h.Path("bin", "index.json")
	if err := home.ReadJSON(indexFile, &index); err != nil {
		index = map[string]string{}
	}
	key := fmt.Sprintf("%d %d", info.Size(), info.ModTime().UnixNano())
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		key += fmt.Sprintf(" %d %d", stat.Dev, stat.Ino)
	}
	p := Program{Build: index[key], Link: h.Path("bin", "dravit")}
	p.Path = h.Path("bin", p.Build, "dravit")
	if p.Build != "" {
		if _, err := os.Stat(p.Path); err == nil {
			return p, p.link()
		}
	}
	if runsNothing(h.Path("bin")) {
		return Program{}, &trouble.Trouble{Code: trouble.NoExec, What: "Dravit's folder cannot be used",
			Because: h.Dir + " is on a file system that is mounted noexec: nothing in it can be started",
			Next:    "put it elsewhere: DRAVIT_HOME=/other/folder dravit start"}
	}
	lock, err := home.Lock(ctx, h.Path("bin", "lock"), "another command, which copies this program")
	if err != nil {
		return Program{}, err
	}
	defer lock.Close()
	if p.Build, err = copyProgram(source, h.Path("bin")); err != nil {
		return Program{}, err
	}
	p.Path = h.Path("bin", p.Build, "dravit")
	if !inUse() {
		removeOthers(h.Path("bin"), p.Build)
		index = map[string]string{}
	}
	index[key] = p.Build
	if err := home.WriteCache(indexFile, index); err != nil {
		return Program{}, err
	}
	return p, p.link()
}

// link makes the link point to this copy.
func (p Program) link() error {
	target := filepath.Join(p.Build, "dravit")
	if now, err := os.Readlink(p.Link); err == nil && now == target {
		return nil
	}
	fresh := p.Link + ".new"
	_ = os.Remove(fresh)
	if err := os.Symlink(target, fresh); err != nil {
		return err
	}
	return os.Rename(fresh, p.Link)
}

// copyProgram copies a program to its place below bin, and returns its build.
func copyProgram(source, bin string) (string, error) {
	in, err := os.Open(source)
	if err != nil {
		return "", err
	}
	defer in.Close()
	out, err := os.CreateTemp(bin, ".new-*")
	if err != nil {
		return "", err
	}
	defer os.Remove(out.Name())
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(out, sum), in)
	if err == nil {
		err = out.Chmod(0o700)
	}
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return "", err
	}
	build := fmt.Sprintf("%x", sum.Sum(nil)[:8])
	if err := os.MkdirAll(filepath.Join(bin, build), 0o700); err != nil {
		return "", err
	}
	return build, os.Rename(out.Name(), filepath.Join(bin, build, "dravit"))
}

func removeOthers(bin, build string) {
	entries, _ := os.ReadDir(bin)
	for _, e := range entries {
		if e.IsDir() && e.Name() != build {
			_ = os.RemoveAll(filepath.Join(bin, e.Name()))
		}
	}
}
