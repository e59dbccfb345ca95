package stackfile

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// TaskConfig is a command that prepares the project, such as one that creates its tables.
type TaskConfig struct {
	Name    string   `toml:"name" json:"name"`
	Part    string   `toml:"part" json:"part,omitempty"`
	Command string   `toml:"command" json:"command"`
	When    string   `toml:"when" json:"when,omitempty"`
	After   []string `toml:"after" json:"after,omitempty"`
	Folder  string   `toml:"folder" json:"folder,omitempty"`
	Timeout string   `toml:"timeout" json:"timeout,omitempty"`

	Env       map[string]Text `toml:"env" json:"env,omitempty"`
	IfChanged []string        `toml:"if_changed" json:"if_changed,omitempty"`
}

// When a task runs.
const (
	FirstStart = "first-start" // once for the data of the databases that it uses
	EveryStart = "every-start" // whenever the stack starts
	BeforeStop = "before-stop" // before the stack stops
	ByHand     = "by-hand"     // only as dravit task NAME
)

// RunsAt returns when the task runs: one of FirstStart, EveryStart, BeforeStop and ByHand.
func (t TaskConfig) RunsAt() string {
	if t.When == "" {
		return ByHand
	}
	return t.When
}

// DefaultTaskTimeout is how long a task may take if the stack file does not say.
const DefaultTaskTimeout = 10 * time.Minute

// MayTake returns how long the task may take.
func (t TaskConfig) MayTake() time.Duration {
	if d, err := time.ParseDuration(t.Timeout); err == nil && d > 0 {
		return d
	}
	return DefaultTaskTimeout
}

// OrderedTasks returns the tasks in the order of the file, but each after those that its key after names.
func (f *File) OrderedTasks() []TaskConfig {
	var out []TaskConfig
	done := map[string]bool{}
	left := slices.Clone(f.Tasks)
	for len(left) > 0 {
		i := slices.IndexFunc(left, func(t TaskConfig) bool {
			return !slices.ContainsFunc(t.After, func(name string) bool { return !done[name] })
		})
		if i < 0 {
			return append(out, left...) // a circle, which the reader reports
		}
		done[left[i].Name] = true
		out = append(out, left[i])
		left = slices.Delete(left, i, i+1)
	}
	return out
}

// tasks finds faults in the tasks: names, parts, paths and what they wait for.
func (r *reader) tasks(f *File, defined func(path, part string)) {
	var names []string
	for i, t := range f.Tasks {
		at := fmt.Sprintf("task.%d", i)
		if slices.Contains(names, t.Name) && t.Name != "" {
			r.fault(at+".name", fmt.Sprintf("two tasks have the name %q", t.Name), "")
		}
		names = append(names, t.Name)
		defined(at+".part", t.Part)
		if t.Folder != "" && !filepath.IsLocal(t.Folder) {
			r.fault(at+".folder", fmt.Sprintf("the folder %q is outside the project", t.Folder),
				"use a path relative to the project")
		}
		if len(t.IfChanged) > 0 && t.RunsAt() != FirstStart {
			r.fault(at+".if_changed", "only a task with when = \"first-start\" has if_changed",
				"when = \"first-start\", or remove if_changed")
		}
		for j, glob := range t.IfChanged {
			if _, err := filepath.Match(glob, ""); err != nil || !filepath.IsLocal(glob) {
				r.fault(fmt.Sprintf("%s.if_changed.%d", at, j), fmt.Sprintf("%q names no files of the project", glob),
					"use a path relative to the project, with * and ? as wildcards")
			}
		}
		for key, value := range t.Env {
			r.variable(f, at+".env."+key, key, value)
		}
	}
	for i, t := range f.Tasks {
		for j, name := range t.After {
			if !slices.Contains(names, name) {
				r.fault(fmt.Sprintf("task.%d.after.%d", i, j), fmt.Sprintf("no task is named %q", name),
					nearest(name, names))
			}
		}
	}
	r.taskCircle(f)
}

// taskCircle reports tasks that wait for each other.
func (r *reader) taskCircle(f *File) {
	done := map[string]bool{}
	for _, t := range f.OrderedTasks() {
		for _, name := range t.After {
			known := slices.ContainsFunc(f.Tasks, func(x TaskConfig) bool { return x.Name == name })
			if known && !done[name] {
				i := slices.IndexFunc(f.Tasks, func(x TaskConfig) bool { return x.Name == t.Name })
				r.fault(fmt.Sprintf("task.%d.after", i), fmt.Sprintf("the task %s waits for itself, through %s", t.Name,
					strings.Join(t.After, ", ")), "remove one of these from after")
				return
			}
		}
		done[t.Name] = true
	}
}
