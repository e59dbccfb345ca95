package keeper

import (
	"os"
	"path/filepath"
	"slices"

	"dravit/internal/home"
	"dravit/internal/proc"
)

// shouldRun is what the user wants of a stack. What is seen of the stack is stored apart.
type shouldRun struct {
	Run  bool   `json:"run"`
	Boot string `json:"boot"` // valid until the machine boots again
}

func shouldRunFile(h *home.Home, id string) string { return h.Stack(id, "state", "wish.json") }

// ShouldRun reports whether a stack should run now.
func ShouldRun(h *home.Home, id string) bool {
	var w shouldRun
	err := home.ReadDerived(shouldRunFile(h, id), &w)
	return err == nil && w.Run && w.Boot == proc.BootID()
}

// NoteShouldRun records that a stack should run.
func NoteShouldRun(h *home.Home, id string) error {
	file := shouldRunFile(h, id)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return home.WriteState(file, shouldRun{true, proc.BootID()})
}

// noteShouldNotRun needs no space on a disk, which may be full.
func noteShouldNotRun(h *home.Home, id string) error { return home.RemoveJSON(shouldRunFile(h, id)) }

// AnyShouldRun reports whether any stack should run now.
func AnyShouldRun(h *home.Home) bool {
	dirs, err := os.ReadDir(h.Path("stacks"))
	return err != nil || slices.ContainsFunc(dirs, func(d os.DirEntry) bool {
		return d.Name() != gatewayID && ShouldRun(h, d.Name())
	})
}

// PreparingFile is the note of a start whose tasks are not done: they run, or one has failed.
func PreparingFile(h *home.Home, id string) string { return h.Stack(id, "state", "starting.json") }

// Preparing reports whether the tasks of a stack's start are not done.
func Preparing(h *home.Home, id string) bool {
	_, err := os.Lstat(PreparingFile(h, id))
	return err == nil
}
