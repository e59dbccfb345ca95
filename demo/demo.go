// Package demo is the demo project: Saltmarsh Ferry, the booking office of a made-up island. The project is embedded in
// the program. If a machine has no PHP, the program itself serves its pages.
package demo

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

//go:embed all:project
var files embed.FS

// ErrNotEmpty says that a folder holds something other than the demo.
var ErrNotEmpty = errors.New("the folder is not empty and holds no demo")

// mark is a file in the folder of every demo. Dravit writes to no folder without it, and removes none.
const mark = ".saltmarsh-ferry-demo"

// Is reports whether a folder holds the demo.
func Is(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, mark))
	return err == nil
}

// realOnly makes every part one of a real server, where the stack file names one that is built into Dravit beside it.
var realOnly = strings.NewReplacer(`["nginx", "dravit-web"]        # the first kind that this machine has`, `"nginx"`,
	`["php", "custom"]`, `"php"`, `["mariadb", "sqlite"]`, `"mariadb"`, `["redis", "dravit-cache"]`, `"redis"`,
	`[part.app.custom]                     # without PHP: the same pages, served by Dravit itself
command = "exec {dravit} internal demo-pages"
`, "")

// Write writes the project to a folder, which it creates if it is missing. It leaves files of a demo that are there
// already: their reader may have changed them. If onReal, no part may be built into Dravit that a real server can be.
func Write(dir string, onReal bool) error {
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
		if onReal && name == "dravit.toml" {
			text = []byte(realOnly.Replace(string(text)))
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
