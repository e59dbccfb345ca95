// Package stack does for one stack what a command asks for: it brings the packages together that survey, plan, write,
// run and check.
package stack

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"dravit/internal/environment"
	"dravit/internal/home"
	"dravit/internal/keeper"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/pattern"
	"dravit/internal/requests"
	"dravit/internal/run"
	"dravit/internal/self"
	"dravit/internal/stackfile"
	"dravit/internal/supervise"
	"dravit/internal/task"
	"dravit/internal/trouble"
)

// Machine is Dravit as one user of this machine has it.
type Machine struct {
	Home    *home.Home
	Kinds   kind.List
	Version string // Dravit's own
	Keeper  *keeper.Client
	From    string // an exported folder that programs come from; "": the sources
	// Unsigned: what nobody has signed is taken from that folder, too.
	Unsigned bool
}

// NewMachine opens the user's Dravit folder, and creates it if it is missing.
func NewMachine(kinds kind.List, version string) (*Machine, error) {
	dir, err := home.Locate()
	if err != nil {
		return nil, err
	}
	h, err := home.Open(dir)
	if err != nil {
		return nil, err
	}
	return &Machine{Home: h, Kinds: kinds, Version: version, Keeper: keeper.Connect(h)}, nil
}

// Stack is one stack: a folder with a stack file.
type Stack struct {
	*Machine
	ID   string // "" before the first start
	Dir  string // real path
	Name string // as in the ledger; "" before the first start
	// read is the stack file as this command read it, or nil: all of a command uses one text.
	read  *stackfile.File
	moved *Moved // what MovedFrom returns
}

// MovedFrom returns the stack that was moved to this folder, or nil. If that is certain, ID and Name are already its
// own.
func (s *Stack) MovedFrom() *Moved { return s.moved }

// Moved is a stack whose folder was moved.
type Moved struct {
	ID, Name string
	From     string // the folder where it was before
	Certain  bool   // false: only the stack file says so
}

// file returns the stack file. For a faulty one, the error is stackfile.Faults.
func (s *Stack) file() (*stackfile.File, error) {
	if s.read == nil {
		file, err := stackfile.Read(s.Dir, s.Kinds.Vocabulary())
		if err != nil {
			return nil, err
		}
		s.read = file
	}
	return s.read, nil
}

// Find returns the stack of a name, or of the folder dir or the nearest one above it.
func (m *Machine) Find(dir, name string) (*Stack, error) {
	book, err := ledger.Read(m.Home)
	if err != nil {
		return nil, err
	}
	if name != "" {
		id := book.ByName(name)
		if id == "" {
			return nil, &trouble.Trouble{
				Code:    trouble.NoStack,
				What:    "no such stack: " + name,
				Because: "a stack gets its name at its first start",
				Next:    "dravit start, in the project's folder",
			}
		}
		return &Stack{Machine: m, ID: id, Dir: book.Stacks[id].Dir, Name: name}, nil
	}
	resolved, err := ledger.RealDir(dir)
	if err != nil {
		return nil, noFolder(dir, err)
	}
	if resolved, err = stackfile.Find(resolved); err != nil {
		return nil, err
	}
	id, resolved := book.ByDir(resolved)
	s := &Stack{Machine: m, ID: id, Dir: resolved, Name: book.Stacks[id].Name}
	if id == "" {
		s.recogniseMove(book)
	}
	return s, nil
}

// noFolder explains err if it says that dir is missing or a file. It returns any other err unchanged.
func noFolder(dir string, err error) error {
	t := &trouble.Trouble{Code: trouble.BadFolder, Next: "name a project's folder after -C, or change into it"}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		t.What = "there is no folder " + dir
	case errors.Is(err, syscall.ENOTDIR):
		t.What = dir + " is no folder"
	default:
		return err
	}
	return t
}

// recogniseMove checks whether a stack was moved to the stack's folder.
func (s *Stack) recogniseMove(book *ledger.Ledger) {
	id, certain := book.MovedTo(s.Dir, ledger.MarkOf(s.Dir, filepath.Join(s.Dir, stackfile.Name)))
	if id == "" {
		return
	}
	was := book.Stacks[id]
	s.moved = &Moved{ID: id, Name: was.Name, From: was.Dir, Certain: certain}
	if certain {
		s.ID, s.Name = id, was.Name
	}
}

// TakeAlong makes the stack the one that was moved here, with its data, ports and names. Without this call it is a new
// stack.
func (s *Stack) TakeAlong(yes bool) {
	switch {
	case s.moved == nil:
	case yes:
		s.ID, s.Name = s.moved.ID, s.moved.Name
	default:
		s.ID, s.Name = "", ""
	}
}

// Stop stops the named parts, or all if none is named. Data stay. If all are stopped and tasks is not nil, Stop first
// runs the tasks that the stack file has for that, and calls tasks for each of their steps; if one fails, Stop stops
// nothing and returns a *task.Error.
func (s *Stack) Stop(ctx context.Context, parts []string, tasks func(TaskEvent)) ([]lifecycle.Status, error) {
	spec, err := s.spec()
	if len(parts) == 0 && errors.Is(err, trouble.Damaged) { // the keeper knows what runs
		err = nil
	} else if err != nil || spec.ID == "" {
		return nil, err
	}
	for _, name := range parts {
		if _, ok := spec.Part(name); !ok {
			return nil, trouble.NoSuchPart(name, names(spec))
		}
	}
	if !s.Runs() {
		return nil, nil
	}
	program, err := s.install(ctx)
	if err != nil {
		return nil, err
	}
	if len(parts) == 0 && tasks != nil && spec.ID != "" {
		if err := s.beforeStop(ctx, spec, program, tasks); err != nil {
			return nil, err
		}
	}
	var last []lifecycle.Status
	err = s.withKeeper(ctx, program, func() (err error) {
		last, err = s.Keeper.Stop(ctx, s.ID, parts)
		return err
	})
	return last, err
}

func (s *Stack) install(ctx context.Context) (self.Program, error) {
	return self.Install(ctx, s.Home, func() bool { return keeper.Running(s.Home) || keeper.AnyShouldRun(s.Home) })
}

func names(spec materialise.Spec) []string {
	var all []string
	for _, p := range spec.Parts {
		all = append(all, p.Name)
	}
	return all
}

func (s *Stack) spec() (materialise.Spec, error) {
	if s.ID == "" {
		return materialise.Spec{}, nil
	}
	spec, err := materialise.Read(s.Home, s.ID, s.Kinds)
	for _, p := range spec.Parts {
		if s.Kinds.Of(p.Kind) == nil {
			return spec, fmt.Errorf("part %s is of kind %s, which this version of Dravit does not know: a newer "+
				"one started it", p.Name, p.Kind)
		}
	}
	return spec, err
}

// Status is the keeper's view of a stack.
type Status struct {
	keeper.View
	State     lifecycle.State
	Reachable []Reach // from other machines
	// Runs are the runs of the commands that run at intervals, by the name of the part. A part whose first run has not
	// ended is not in it.
	Runs map[string]supervise.Runs
	// Failed are the tasks and seeds that failed when they ran last, by name.
	Failed []FailedTask
}

// Status returns the states of the parts. If the keeper has died, it starts it again first.
func (s *Stack) Status(ctx context.Context) (Status, error) {
	out := Status{State: lifecycle.Stopped}
	var err error
	if s.Runs() {
		if err = s.Recover(); err != nil {
			return out, err
		}
		// the keeper died: another one takes over
		if out.View, err = s.Keeper.View(ctx, s.ID); errors.Is(err, trouble.KeeperGone) {
			var program self.Program
			if program, err = s.install(ctx); err != nil {
				return out, err
			}
			err = s.withKeeper(ctx, program, func() (err error) {
				out.View, err = s.Keeper.View(ctx, s.ID)
				return err
			})
		}
	} else {
		var spec materialise.Spec
		spec, err = s.spec()
		out.View = keeper.StoppedView(spec)
	}
	if err != nil {
		return out, err
	}
	if len(out.Parts) > 0 {
		out.State = out.Parts[0].State
	}
	for _, p := range out.Parts {
		out.State = lifecycle.Worse(out.State, p.State)
	}
	for _, x := range out.SiteStates {
		out.State = lifecycle.Worse(out.State, x.State)
	}
	if err := s.addTasks(&out); err != nil {
		return out, err
	}
	if out.Runs, err = s.runs(); err != nil {
		return out, err
	}
	out.Reachable, err = s.reachable(out.Sites)
	return out, err
}

// addTasks adds the tasks that have failed. A start that they stopped is not over: its parts wait for them.
func (s *Stack) addTasks(out *Status) error {
	if s.ID == "" || home.Locked(s.tasksLock()) { // they run just now: their records say that they were interrupted
		return nil
	}
	records, err := task.ReadRecords(s.taskRecords())
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(records)) {
		if r := records[name]; r.Failed() {
			shown := name
			if part, ok := strings.CutPrefix(name, seedRecord("")); ok {
				shown = seedName + part
			}
			out.Failed = append(out.Failed, FailedTask{Name: shown, At: r.At, How: r.How})
		}
	}
	if !keeper.Preparing(s.Home, s.ID) || !keeper.ShouldRun(s.Home, s.ID) || len(out.Failed) == 0 {
		return nil
	}
	out.State = lifecycle.Worse(out.State, lifecycle.Failed)
	first := "the task " + out.Failed[0].Name
	if strings.HasPrefix(out.Failed[0].Name, seedName) {
		first = "the " + out.Failed[0].Name
	}
	for i := range out.Parts {
		if p := &out.Parts[i]; p.State == lifecycle.Stopped {
			p.State, p.Because, p.Next = lifecycle.Waiting, first+" failed, which comes before it", "dravit diagnose"
		}
	}
	return nil
}

// seedName is how the load of a seed is called among tasks, before the part.
const seedName = "seed of "

// FailedTask is a task, or the load of a seed, that failed when it ran last.
type FailedTask struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
	How  string    `json:"how"`
}

// runs reads how the commands that run at intervals ran last.
func (s *Stack) runs() (map[string]supervise.Runs, error) {
	files, _ := filepath.Glob(filepath.Join(pattern.Literal(s.Home.Stack(s.ID, "state")), "*.runs")) // well-formed
	all := map[string]supervise.Runs{}
	for _, file := range files {
		r, err := supervise.ReadRuns(file)
		if err != nil {
			return nil, err
		}
		all[strings.TrimSuffix(filepath.Base(file), ".runs")] = r
	}
	return all, nil
}

// Runs reports whether the stack should run, or any process of it is alive.
func (s *Stack) Runs() bool {
	return s.ID != "" && (keeper.ShouldRun(s.Home, s.ID) || s.lives())
}

// Recover writes the note that the stack should run if it was lost, and processes of the stack are alive: the keeper
// takes those over then.
func (s *Stack) Recover() error {
	if s.ID == "" || keeper.ShouldRun(s.Home, s.ID) || !s.lives() {
		return nil
	}
	return keeper.NoteShouldRun(s.Home, s.ID)
}

// lives reports whether any process of the stack is alive, whatever the notes say.
func (s *Stack) lives() bool {
	spec, _ := s.spec() // if it is damaged, the lock files tell
	parts := slices.Clone(spec.Parts)
	locks, _ := filepath.Glob(filepath.Join(pattern.Literal(s.Home.Stack(s.ID, "state")), "*.lock"))
	for _, lock := range locks {
		if !slices.ContainsFunc(parts, func(p kind.Part) bool { return p.Lock == lock }) {
			parts = append(parts, kind.Part{Lock: lock})
		}
	}
	return run.AnyAlive(parts)
}

// Environment returns the environment of a command that a user runs, whose own environment is user. If parts run
// several versions of a runtime, the named part's comes first in PATH; "" names none. A stack that was never started
// has none.
func (s *Stack) Environment(part string, user []string) ([]string, error) {
	vars, folders, err := s.Variables(part)
	if err != nil {
		return nil, err
	}
	return environment.Command(user, vars, folders), nil
}

// Variables returns what Environment adds to the user's environment: variables, each as NAME=value, and the folders
// that come first in PATH.
func (s *Stack) Variables(part string) (vars, folders []string, err error) {
	spec, err := s.spec()
	if err != nil {
		return nil, nil, err
	}
	if spec.ID == "" {
		return nil, nil, ErrNeverStarted
	}
	folders = spec.Path
	if part != "" {
		p, ok := spec.Part(part)
		if !ok {
			return nil, nil, trouble.NoSuchPart(part, names(spec))
		}
		own := slices.DeleteFunc(slices.Clone(folders), func(f string) bool { return slices.Contains(p.Path, f) })
		folders = slices.Concat(p.Path, own)
	}
	return spec.Env, folders, nil
}

// ErrNeverStarted says that the stack was never started on this machine.
var ErrNeverStarted = &trouble.Trouble{
	Code:    trouble.NeverStarted,
	What:    "this stack was never started",
	Because: "its ports and passwords are chosen at the first start",
	Next:    "dravit start",
}

// Logs returns the log files of the named parts, or of all if none is named.
func (s *Stack) Logs(parts []string) (map[string]string, error) {
	spec, err := s.spec()
	if err != nil {
		return nil, err
	}
	if spec.ID == "" {
		return nil, ErrNeverStarted
	}
	files := map[string]string{}
	for _, p := range spec.Parts {
		if len(parts) == 0 || slices.Contains(parts, p.Name) {
			files[p.Name] = p.Log
		}
	}
	for _, name := range parts {
		if _, ok := files[name]; !ok {
			return nil, trouble.NoSuchPart(name, names(spec))
		}
	}
	return files, nil
}

// SiteNames returns the names of the stack's sites, as it was started last.
func (s *Stack) SiteNames() ([]string, error) {
	spec, err := s.spec()
	if err != nil {
		return nil, err
	}
	if spec.ID == "" {
		return nil, ErrNeverStarted
	}
	var all []string
	for _, site := range spec.Sites {
		all = append(all, site.Name)
	}
	return all, nil
}

// HasPart reports whether the stack, as it was started last, has a part of that name.
func (s *Stack) HasPart(name string) bool {
	spec, err := s.spec()
	_, ok := spec.Part(name)
	return err == nil && ok
}

// FailedPages returns the pages that failed lately and have not been answered well since, the last one first. If no
// keeper answers, none is known.
func (s *Stack) FailedPages(ctx context.Context) []requests.Failure {
	if !s.Runs() {
		return nil
	}
	view, err := s.Keeper.View(ctx, s.ID)
	if err != nil {
		return nil
	}
	return requests.Open(view.Failures, time.Now())
}
