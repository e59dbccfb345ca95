// Package setup changes what is outside Dravit's folder: the hosts file, the system's resolver, stores of trusted
// certificates. A change is a list of commands that the user sees first. For each there is another one that undoes it.
package setup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"dravit/internal/home"
	"dravit/internal/shell"
	"dravit/internal/trouble"
)

// Step is one command of a change.
type Step struct {
	Argv []string
	Root bool // only root may do it
}

// String returns the step as a line for a shell.
func (s Step) String() string {
	if s.Root {
		return shell.Join(append([]string{"sudo"}, s.Argv...)...)
	}
	return shell.Join(s.Argv...)
}

// NoWay returns the error which says that this machine has no way to do what was asked for.
func NoWay(because, next string) error {
	return &trouble.Trouble{Code: trouble.NoWay, What: "nothing was changed", Because: because, Next: next}
}

// PartlyError says which steps were carried out, and which are left.
type PartlyError struct {
	Done, Left []Step
	Err        error // why the first of Left failed
}

func (e *PartlyError) Error() string { return e.Err.Error() }

func (e *PartlyError) Unwrap() error { return e.Err }

// Run runs the steps in order, those that need no root first. It runs them on the caller's terminal, where sudo may ask
// for a password. The error is a *PartlyError if a step failed after others were carried out.
func Run(ctx context.Context, steps []Step, out io.Writer) error {
	ordered := slices.Clone(steps)
	slices.SortStableFunc(ordered, func(a, b Step) int { return rootLast(a) - rootLast(b) })
	for i := range ordered {
		if err := runStep(ctx, ordered[i], out); err != nil && i > 0 {
			return &PartlyError{ordered[:i], ordered[i:], err}
		} else if err != nil {
			return err
		}
	}
	return nil
}

func rootLast(s Step) int {
	if s.Root {
		return 1
	}
	return 0
}

func runStep(ctx context.Context, s Step, out io.Writer) error {
	argv := s.Argv
	if s.Root {
		if _, err := exec.LookPath("sudo"); err != nil {
			return NoWay("it needs root, and there is no sudo on this machine",
				"as root: "+strings.TrimPrefix(s.String(), "sudo "))
		}
		argv = append([]string{"sudo"}, argv...)
	}
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, out, out
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w", s, err)
	}
	return nil
}

// Place says where the system's files are, and where a change keeps the texts that it will write.
type Place struct {
	Home *home.Home
	Root string // "/", except in tests
	User string // the user whose names and certificates they are
	Mac  bool   // the system is macOS
}

func (p Place) path(parts ...string) string {
	return filepath.Join(append([]string{p.Root}, parts...)...)
}

// write returns the step that writes a text to a file of the system, or nil if the file has it already.
func (p Place) write(file, text string) ([]Step, error) {
	old, err := os.ReadFile(file)
	if err == nil && string(old) == text {
		return nil, nil
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	staged, err := p.stage(filepath.Base(file), text)
	if err != nil {
		return nil, err
	}
	root := !writable(file)
	if exists(file) { // write into the existing file: its owner, mode and mounts stay
		return []Step{{[]string{"cp", staged, file}, root}}, nil
	}
	// Every program has to read it, whatever the umask of root's or of this user.
	var steps []Step
	if dir := filepath.Dir(file); !exists(dir) {
		steps = append(steps, Step{[]string{"install", "-d", "-m", "0755", dir}, root})
	}
	return append(steps, Step{[]string{"install", "-m", "0644", staged, file}, root}), nil
}

// stage writes a text to a file from which a step copies it. It is in the run folder: root may not read a home on
// another machine (NFS).
func (p Place) stage(name, text string) (string, error) {
	staged := filepath.Join(p.Home.Run, "setup-"+name)
	return staged, home.WriteFile(staged, []byte(text), 0o644)
}

// remove returns the step that removes a file, or nil if it does not exist.
func (p Place) remove(file string) []Step {
	if !exists(file) {
		return nil
	}
	return []Step{{[]string{"rm", file}, unix.Access(filepath.Dir(file), unix.W_OK) != nil}}
}

func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}

// writable reports whether this user may write to a file, or create it.
func writable(file string) bool {
	for ; !exists(file); file = filepath.Dir(file) {
	}
	return unix.Access(file, unix.W_OK) == nil
}
