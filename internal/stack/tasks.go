package stack

import (
	"context"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/data"
	"dravit/internal/environment"
	"dravit/internal/home"
	"dravit/internal/keeper"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/self"
	"dravit/internal/stackfile"
	"dravit/internal/task"
	"dravit/internal/trouble"
)

// TaskStatus is a task of the stack file with the record of its last run.
type TaskStatus struct {
	Name    string `json:"name"`
	Part    string `json:"part,omitempty"`
	When    string `json:"when"`
	Command string `json:"command"`
	// Last is the last run; nil: the task never ran.
	Last *task.Record `json:"last"`
	Log  string       `json:"log,omitempty"` // the file with the output of the last run
}

// TaskEvent is one step of a task or of the load of a seed: a line of output, a report of progress, or its end.
type TaskEvent struct {
	Task string
	Line string
	// Done and Size are how many bytes of a seed are loaded, and how many it has. Size is 0 if nothing is known.
	Done, Size int64
	// Ended is the record of the run; nil: the task still runs.
	Ended *task.Record
}

func (s *Stack) taskRecords() string { return s.Home.Stack(s.ID, "state", "tasks.json") }

// Tasks returns the tasks of the stack file, in the order in which they run.
func (s *Stack) Tasks() ([]TaskStatus, error) {
	file, err := s.file()
	if err != nil {
		return nil, err
	}
	records := task.Records{}
	if s.ID != "" {
		if records, err = task.ReadRecords(s.taskRecords()); err != nil {
			return nil, err
		}
	}
	out := []TaskStatus{}
	for _, t := range file.OrderedTasks() {
		x := TaskStatus{Name: t.Name, Part: t.Part, When: t.RunsAt(), Command: t.Command}
		if r := records[t.Name]; r.Ran() {
			x.Last, x.Log = &r, task.Task{TaskConfig: t, Keep: s.Home.Stack(s.ID, "tasks")}.LogFile()
		}
		out = append(out, x)
	}
	return out, nil
}

// RunTask runs the task of that name now, whether it is due or not. The stores that it uses must answer. The error is a
// *task.Error if the task failed.
func (s *Stack) RunTask(ctx context.Context, name string, report func(TaskEvent)) (task.Record, error) {
	var r task.Record
	file, err := s.file()
	if err != nil {
		return r, err
	}
	spec, err := s.spec()
	if err != nil {
		return r, err
	}
	i := slices.IndexFunc(file.Tasks, func(t stackfile.TaskConfig) bool { return t.Name == name })
	if i < 0 {
		return r, noSuchTask(name, file)
	}
	if spec.ID == "" || !s.Runs() {
		return r, &trouble.Trouble{Code: trouble.NeverStarted, What: "the task " + name + " cannot run",
			Because: "the stack does not run", Next: "dravit start"}
	}
	program, err := s.install(ctx)
	if err != nil {
		return r, err
	}
	unlock, err := s.lockTasks(ctx)
	if err != nil {
		return r, err
	}
	defer unlock()
	t, err := s.task(file.Tasks[i], file, spec, program)
	if err != nil {
		return r, err
	}
	r, err = s.runTask(ctx, t, report)
	return r, errors.Join(err, materialise.KeepDotenv(s.Dir, file.Dotenv, spec.Env, false))
}

func noSuchTask(name string, file *stackfile.File) error {
	t := &trouble.Trouble{Code: trouble.NoTask, What: "the stack has no task " + name,
		Because: "its stack file has no tasks", Next: "add a [[task]] to " + stackfile.Name}
	if len(file.Tasks) > 0 {
		var names []string
		for _, x := range file.Tasks {
			names = append(names, x.Name)
		}
		t.Because, t.Next = "its tasks are "+trouble.List(names), "dravit task"
	}
	return t
}

// tasksLock returns the file that is locked while the stack's tasks run.
func (s *Stack) tasksLock() string { return s.Home.Stack(s.ID, "tasks.lock") }

// lockTasks waits until no other command runs tasks of the stack, and returns a function that lets others.
func (s *Stack) lockTasks(ctx context.Context) (unlock func(), err error) {
	lock, err := home.Lock(ctx, s.tasksLock(), "another command, which runs tasks of this stack")
	if err != nil {
		return nil, err
	}
	return func() { lock.Close() }, nil
}

// task returns a task of the stack file with all that it needs to run.
func (s *Stack) task(c stackfile.TaskConfig, file *stackfile.File, spec materialise.Spec,
	program self.Program) (task.Task, error) {
	t := task.Task{TaskConfig: c, Project: s.Dir, Keep: s.Home.Stack(s.ID, "tasks"), Self: program.Path}
	folders := spec.Path
	part, ok := spec.Part(c.Part)
	if c.Part != "" && !ok {
		return t, trouble.NoSuchPart(c.Part, names(spec))
	}
	base := os.Environ()
	if ok {
		folders = slices.Concat(part.Path, folders)
		base = part.Env
	}
	own := environment.Variables(spec.Parts, s.Kinds, c.Env, environment.Machine{}, spec.SiteField)
	own = slices.DeleteFunc(own, func(v string) bool {
		name, _, _ := strings.Cut(v, "=")
		_, ok := c.Env[name]
		return !ok
	})
	t.Env = environment.Command(base, slices.Concat(spec.Env, own), folders)
	for _, p := range spec.Parts {
		uses := c.Part == "" || p.Name == c.Part || slices.Contains(part.Uses, p.Name)
		if p.Role != kind.RoleDatabase || !uses {
			continue
		}
		if p.Outside != "" {
			t.Data += p.Name + "=" + p.Address() + "/" + p.Database + " "
		}
		if p.Data == "" {
			continue
		}
		meta, err := data.Read(p.Data)
		if err != nil {
			return t, err
		}
		t.Data += p.Name + "=" + meta.ID + " "
	}
	return t, nil
}

// runTask runs a task and records the result. The caller holds the lock of the tasks.
func (s *Stack) runTask(ctx context.Context, t task.Task, report func(TaskEvent)) (task.Record, error) {
	records, err := task.ReadRecords(s.taskRecords())
	if err != nil {
		return task.Record{}, err
	}
	// If this process dies, the note says that the task was interrupted.
	records[t.Name] = task.Record{At: time.Now(), Code: -1, How: "it was interrupted"}
	if err := home.WriteJSON(s.taskRecords(), records); err != nil {
		return task.Record{}, err
	}
	r, err := t.Run(ctx, func(line string) { report(TaskEvent{Task: t.Name, Line: line}) })
	records[t.Name] = r
	report(TaskEvent{Task: t.Name, Ended: &r})
	return r, errors.Join(err, home.WriteJSON(s.taskRecords(), records))
}

func (s *Stack) startingFile() string { return keeper.PreparingFile(s.Home, s.ID) }

// beganStart returns when the stack began to start, or zero if it has started already. starting is whether it did not
// run before. A start that noted this goes on until endStart, so that the next command tries again after a failure.
func (s *Stack) beganStart(starting bool) (time.Time, error) {
	if starting {
		return time.Now(), nil
	}
	var began time.Time
	return began, home.ReadJSON(s.startingFile(), &began)
}

func (s *Stack) endStart() error { return home.RemoveJSON(s.startingFile()) }

// dueTasks returns the tasks that have to run in a start that began then, in order.
func (s *Stack) dueTasks(file *stackfile.File, spec materialise.Spec, program self.Program,
	began time.Time) ([]task.Task, error) {
	records, err := task.ReadRecords(s.taskRecords())
	if err != nil {
		return nil, err
	}
	var due []task.Task
	for _, c := range file.OrderedTasks() {
		t, err := s.task(c, file, spec, program)
		if err != nil {
			return nil, err
		}
		files, err := t.Digest()
		if err != nil {
			return nil, err
		}
		if t.Due(records[t.Name], began, files) {
			due = append(due, t)
		}
	}
	return due, nil
}

// prepare starts the parts that have to answer before, loads the seeds and runs the tasks that are due, and adds to out
// what it did. If nothing is due, it starts nothing. The error is errNeeded if one of those parts does not answer.
func (s *Stack) prepare(ctx context.Context, program self.Program, o StartOptions, out *Started,
	report func(lifecycle.Progress)) error {
	spec, err := s.spec()
	if err != nil {
		return err
	}
	seeds, err := s.dueSeeds(spec)
	if err != nil || len(seeds) == 0 && len(out.file.Tasks) == 0 {
		return err
	}
	began, err := s.beganStart(out.starting)
	if err != nil {
		return err
	}
	due, err := s.dueTasks(out.file, spec, program, began)
	if err != nil {
		return err
	}
	if len(due) == 0 && len(seeds) == 0 {
		return s.endStart()
	}
	if out.starting {
		if err := home.WriteState(s.startingFile(), began); err != nil {
			return err
		}
	}
	waiting, cancel := o.waiting(ctx)
	defer cancel()
	unlock, err := s.lockTasks(waiting)
	if err != nil {
		return err
	}
	defer unlock()
	first := beforeTasks(spec, due, seeds)
	states, err := s.bring(ctx, program, out, report, func(take func(keeper.Event)) error {
		return s.Keeper.StartFirst(ctx, s.ID, first, o.Restart, o.Timeout, take)
	})
	out.Parts = states
	for _, p := range states {
		// another part that runs already may be unwell because a task has to run
		if err == nil && slices.Contains(first, p.Name) && p.State != lifecycle.Answers {
			return errNeeded // the caller shows what is wrong with the part
		}
	}
	for _, p := range seeds {
		if err == nil {
			err = s.loadSeed(ctx, spec, p, o.tasks())
		}
	}
	if err == nil { // another start may have run them meanwhile, and the stores may have new data now
		due, err = s.dueTasks(out.file, spec, program, began)
	}
	for _, t := range due {
		if err != nil {
			break
		}
		var r task.Record
		if r, err = s.runTask(ctx, t, o.tasks()); err == nil { // it may have created the project's file of variables
			err = materialise.KeepDotenv(s.Dir, out.file.Dotenv, spec.Env, false)
		}
		out.Tasks = append(out.Tasks, TaskStatus{Name: t.Name, Part: t.Part, When: t.RunsAt(), Command: t.Command,
			Last: &r, Log: t.LogFile()})
	}
	if ctx.Err() != nil && len(out.Begun) > 0 { // Ctrl-C stops what this start has started
		_, stopErr := s.Keeper.Stop(context.WithoutCancel(ctx), s.ID, out.Begun)
		return errors.Join(ctx.Err(), stopErr)
	}
	if err != nil {
		return err
	}
	return s.endStart()
}

// keepDotenv brings the project's own file of variables up to date, once the tasks that may create it have run.
func (s *Stack) keepDotenv(file *stackfile.File) error {
	if file.Dotenv == nil {
		return nil
	}
	spec, err := s.spec()
	if err != nil {
		return err
	}
	return materialise.KeepDotenv(s.Dir, file.Dotenv, spec.Env, true)
}

// errNeeded says that a part does not answer which tasks need, so that none can run.
var errNeeded = errors.New("a part that tasks need does not answer")

// beforeTasks returns the parts that have to answer before tasks run and seeds are loaded: the parts with seeds, what
// the tasks' own parts use, with what those use, and every store that needs nothing but stores. A store that uses an
// application may need what a task prepares for that, so it starts with the rest. The result is not nil.
func beforeTasks(spec materialise.Spec, due []task.Task, seeds []seed) []string {
	first := map[string]bool{}
	var add func(name string)
	add = func(name string) {
		p, ok := spec.Part(name)
		if !ok || first[name] {
			return
		}
		first[name] = true
		for _, use := range p.Uses {
			add(use)
		}
	}
	for _, p := range seeds {
		add(p.Name)
	}
	for _, t := range due {
		p, _ := spec.Part(t.Part) // a task of no part needs the stores alone
		if p.Role.Store() {
			add(p.Name)
		}
		for _, use := range p.Uses {
			add(use)
		}
	}
	for _, p := range spec.Parts {
		if storesOnly(spec, p, map[string]bool{}) {
			add(p.Name)
		}
	}
	return append([]string{}, slices.Sorted(maps.Keys(first))...) // not nil: that would be all parts
}

// storesOnly reports whether a part is a store that uses nothing but such stores. seen are those that are looked at
// already.
func storesOnly(spec materialise.Spec, p kind.Part, seen map[string]bool) bool {
	seen[p.Name] = true
	return p.Role.Store() && !slices.ContainsFunc(p.Uses, func(name string) bool {
		x, ok := spec.Part(name)
		return ok && !seen[name] && !storesOnly(spec, x, seen)
	})
}

// beforeStop runs the tasks that run before the stack stops.
func (s *Stack) beforeStop(ctx context.Context, spec materialise.Spec, program self.Program,
	report func(TaskEvent)) error {
	file, err := s.file()
	if err != nil || !slices.ContainsFunc(file.Tasks, func(t stackfile.TaskConfig) bool {
		return t.RunsAt() == stackfile.BeforeStop
	}) {
		return nil // a stack can be stopped without a stack file
	}
	unlock, err := s.lockTasks(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	for _, c := range file.OrderedTasks() {
		if c.RunsAt() != stackfile.BeforeStop {
			continue
		}
		t, err := s.task(c, file, spec, program)
		if err != nil {
			return err
		}
		if _, err := s.runTask(ctx, t, report); err != nil {
			return err
		}
	}
	return nil
}

// TaskLogs returns the log files of the tasks that ran, by the name of the task.
func (s *Stack) TaskLogs() map[string]string {
	files := map[string]string{}
	found, _ := filepath.Glob(filepath.Join(s.Home.Stack(s.ID, "tasks"), "*.log")) // the pattern is well-formed
	for _, file := range found {
		files[strings.TrimSuffix(filepath.Base(file), ".log")] = file
	}
	return files
}

// outdated describes tasks of the first start that are done, and whose files have changed since, and seeds likewise. It
// only advises, so what cannot be read is left out.
func (s *Stack) outdated(file *stackfile.File) []string {
	records, err := task.ReadRecords(s.taskRecords())
	if err != nil || file == nil || len(records) == 0 {
		return nil
	}
	var out []string
	for _, c := range file.OrderedTasks() {
		t := task.Task{TaskConfig: c, Project: s.Dir}
		if c.RunsAt() == stackfile.FirstStart && t.Outdated(records[c.Name]) {
			out = append(out, "files that the task "+c.Name+" reads have changed since it ran: dravit task "+c.Name+
				" runs it again; if_changed has starts do so")
		}
	}
	spec, err := s.spec()
	if err != nil {
		return out
	}
	for _, p := range spec.Parts {
		r := records[seedRecord(p.Name)]
		if p.Want.Seed != "" && r.Depends != "" && !r.Failed() && s.seedFile(p).Touched(r.At) &&
			r.Depends != s.seedDigest(p) {
			out = append(out,
				"the seed of part "+p.Name+" has changed since it was loaded: dravit db load "+p.Want.Seed+
					" puts it in the place of the database")
		}
	}
	return out
}

// seedDigest returns a digest of a part's seed, or "".
func (s *Stack) seedDigest(p kind.Part) string {
	digest, err := s.seedFile(p).Digest()
	if err != nil {
		return ""
	}
	return digest
}

// seedFile is a task that depends on a part's seed.
func (s *Stack) seedFile(p kind.Part) task.Task {
	return task.Task{TaskConfig: stackfile.TaskConfig{IfChanged: []string{p.Want.Seed}}, Project: s.Dir}
}
