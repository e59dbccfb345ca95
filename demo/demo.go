// Package demo is the demo project: Saltmarsh Ferry, a made-up island's ferry office. It is embedded in the program,
// and where a machine has no PHP the program itself serves its pages.
package demo

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

//go:embed all:project
var files embed.FS

// ErrNotEmpty says that a folder holds something else than the demo.
var ErrNotEmpty = errors.New("the folder is not empty and holds no demo")

// mark is in the folder of every demo: what lacks it is not the demo's to write or remove.
const mark = ".saltmarsh-ferry-demo"

// Is tells whether a folder holds the demo.
func Is(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, mark))
	return err == nil
}

// Write writes the project to a folder, which is made where it is missing. Files of a demo that is there already stay
// as they are: its reader may have changed them.
func Write(dir string) error {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 && !Is(dir) {
		return fmt.Errorf("%w: %s", ErrNotEmpty, dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, mark), nil, 0o644); err != nil {
		return err
	}
	project, err := fs.Sub(files, "project")
	if err != nil {
		return err
	}
	return fs.WalkDir(project, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := filepath.Join(dir, name)
		if e.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		if _, err := os.Stat(target); err == nil {
			return nil
		}
		text, err := fs.ReadFile(project, name)
		if err != nil {
			return err
		}
		return os.WriteFile(target, text, 0o644)
	})
}

// Remove deletes a demo's folder.
func Remove(dir string) error {
	if !Is(dir) {
		return fmt.Errorf("%w: %s", ErrNotEmpty, dir)
	}
	return os.RemoveAll(dir)
}
