// Package task runs the tasks of a stack, commands that prepare a project, and remembers what ran: a task runs when it
// is due, and not again.
package task

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/about"
	"dravit/internal/confined"
	"dravit/internal/home"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// Task is a task with all that it needs to run.
type Task struct {
	stackfile.TaskConfig
	Project string   // the project's folder, as a real path
	Keep    string   // the folder for the task's log and lock
	Self    string   // the dravit program, which supervises the command
	Env     []string // the whole environment

	// Data identifies the data of the databases that the task uses. It is another text for new data, and "" if the task
	// uses no database.
	Data string
}

// Record says how a task ran last. The zero Record stands for a task that never ran.
type Record struct {
	At     time.Time `json:"at"` // when it began
	TookMS int64     `json:"took_ms"`
	Code   int       `json:"code"`          // the exit code; -1 if the command did not exit by itself
	How    string    `json:"how,omitempty"` // how it failed, or ""
	Data   string    `json:"data,omitempty"`
	Files  string    `json:"files,omitempty"` // digest of the files of if_changed
	// Depends is a digest of files that the task's own tool is known to read, as they were before it ran.
	Depends string `json:"depends,omitempty"`
}

// Ran reports whether the task ever ran.
func (r Record) Ran() bool { return !r.At.IsZero() }

// Failed reports whether the task failed when it ran last. An interrupted task has failed.
func (r Record) Failed() bool { return r.Ran() && r.How != "" }

// Records are the records of a stack's tasks, by name.
type Records map[string]Record

// ReadRecords reads the records in a file. A missing file has none.
func ReadRecords(file string) (Records, error) {
	all := Records{}
	return all, home.ReadJSON(file, &all)
}

// Error is the failure of a task.
type Error struct {
	Task   string
	Record Record
	Tail   []string // the end of its log
}

func (e *Error) Error() string { return "the task " + e.Task + " failed: " + e.Record.How }

// Unwrap returns the failure with its code and what to do.
func (e *Error) Unwrap() error {
	return &trouble.Trouble{
		Code:    trouble.TaskFailed,
		Subject: about.Task(e.Task),
		What:    "the task " + e.Task + " failed",
		Because: e.Record.How,
		Next:    "dravit diagnose says what removes that; then dravit start, or dravit task " + e.Task + " alone",
	}
}

// Due reports whether a task has to run in a start. began is when the stack began to start, or zero if it ran already.
// files is what Digest returned.
func (t Task) Due(r Record, began time.Time, files string) bool {
	switch t.RunsAt() {
	case stackfile.EveryStart:
		return r.Failed() || r.At.Before(began) || r.Data != t.Data
	case stackfile.FirstStart:
		return !r.Ran() || r.Failed() || r.Data != t.Data || r.Files != files
	}
	return false
}

// maxFiles and maxSize bound the files of if_changed, in number and in bytes.
const (
	maxFiles = 10_000
	maxSize  = 64 << 20
)

// Digest returns a digest of the files that if_changed names, by their paths and contents, or "" if it names none. A
// folder stands for all files in it. Links that lead out of the project are an error.
func (t Task) Digest() (string, error) {
	if len(t.IfChanged) == 0 {
		return "", nil
	}
	sum := sha256.New()
	var names []string
	for _, glob := range t.IfChanged {
		found, err := filepath.Glob(filepath.Join(t.Project, glob))
		if err != nil {
			return "", err
		}
		for _, path := range found {
			err := filepath.WalkDir(path, func(path string, d fs.DirEntry, err error) error {
				if err == nil && !d.IsDir() {
					names = append(names, strings.TrimPrefix(path, t.Project+"/"))
				}
				if len(names) > maxFiles {
					return fmt.Errorf("if_changed names more than %d files", maxFiles)
				}
				return err
			})
			if err != nil {
				return "", err
			}
		}
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		text, err := confined.ReadFile(t.Project, name, maxSize)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(sum, "%q %d ", name, len(text))
		_, _ = sum.Write(text) // a hash takes everything
	}
	return hex.EncodeToString(sum.Sum(nil))[:16], nil
}
