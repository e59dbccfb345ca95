package stack

import (
	"context"
	"time"

	"dravit/internal/about"
	"dravit/internal/data"
	"dravit/internal/databases"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/materialise"
	"dravit/internal/settings"
	"dravit/internal/task"
	"dravit/internal/trouble"
)

// seedRecord is the name of a part's seed among the records of tasks. No task can have it.
func seedRecord(part string) string { return "seed." + part }

// seed is a seed that has to be loaded. again is whether an earlier load failed, and may have left something.
type seed struct {
	kind.Part
	again bool
}

// dueSeeds returns the seeds that have to be loaded: the data folder of their part does not exist yet, or an earlier
// load failed. It notes each load as interrupted until it is done, as the data folder exists from the start of the part
// on.
func (s *Stack) dueSeeds(spec materialise.Spec) ([]seed, error) {
	var due []seed
	var records task.Records
	for _, p := range spec.Parts {
		if p.Want.Seed == "" || !s.Kinds.TraitsOf(p.Kind).Databases {
			continue
		}
		if records == nil {
			var err error
			if records, err = task.ReadRecords(s.taskRecords()); err != nil {
				return nil, err
			}
		}
		meta, err := data.Read(p.Data)
		if err != nil {
			return nil, err
		}
		again := records[seedRecord(p.Name)].Failed()
		if meta.Kind != "" && !again {
			continue
		}
		records[seedRecord(p.Name)] = task.Record{At: time.Now(), Code: -1, How: "it was interrupted"}
		due = append(due, seed{p, again && meta.Kind != ""})
	}
	if len(due) == 0 {
		return nil, nil
	}
	return due, home.WriteJSON(s.taskRecords(), records)
}

// loadSeed loads the seed of a part, whose server answers. If that fails, the database is empty afterwards.
func (s *Stack) loadSeed(ctx context.Context, spec materialise.Spec, p seed, report func(TaskEvent)) error {
	records, err := task.ReadRecords(s.taskRecords())
	if err != nil {
		return err
	}
	if !records[seedRecord(p.Name)].Failed() {
		return nil // another start has loaded it meanwhile
	}
	set, err := settings.Read(s.Home)
	if err != nil {
		return err
	}
	d := s.databases(spec)
	done, err := d.TakeData(p.Data, "the seed")
	if err != nil {
		return err
	}
	defer done()
	name := "seed of " + p.Name
	r := task.Record{At: time.Now(), Depends: s.seedDigest(p.Part)}
	left, err := d.Seed(ctx, p.Part, p.again, set.Outside, func(b databases.Bytes) {
		report(TaskEvent{Task: name, Done: b.Done, Size: b.Size})
	})
	for _, thing := range left {
		report(TaskEvent{Task: name, Line: "left out: " + thing})
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		records[seedRecord(p.Name)] = task.Record{At: r.At, Code: -1, How: p.Want.Seed + ": " + err.Error()}
		_ = home.WriteJSON(s.taskRecords(), records) // without it, the record says that it was interrupted
		return &trouble.Trouble{
			Code:    trouble.SeedFailed,
			Subject: about.Part(p.Name).At("seed"),
			What:    "the seed of part " + p.Name + " was not loaded, and its database is empty",
			Because: p.Want.Seed + ": " + err.Error(),
			Next:    "correct " + p.Want.Seed + ", then dravit start",
		}
	}
	r.TookMS = time.Since(r.At).Milliseconds()
	records[seedRecord(p.Name)] = r
	report(TaskEvent{Task: name, Ended: &r})
	return home.WriteJSON(s.taskRecords(), records)
}

// Loaded notes that a load has taken the place of a part's seed: what has changed in that file is no news any more.
func (s *Stack) Loaded(p kind.Part) error {
	if p.Want.Seed == "" {
		return nil
	}
	records, err := task.ReadRecords(s.taskRecords())
	r, ok := records[seedRecord(p.Name)]
	if err != nil || !ok || r.Failed() {
		return err
	}
	r.Depends = s.seedDigest(p)
	records[seedRecord(p.Name)] = r
	return home.WriteJSON(s.taskRecords(), records)
}

// failedSeeds returns how seeds failed when they were loaded last, by part.
func (s *Stack) failedSeeds(spec materialise.Spec) (map[string]string, error) {
	records, err := task.ReadRecords(s.taskRecords())
	if err != nil {
		return nil, err
	}
	failed := map[string]string{}
	for _, p := range spec.Parts {
		if r := records[seedRecord(p.Name)]; p.Want.Seed != "" && r.Failed() {
			failed[p.Name] = r.How
		}
	}
	return failed, nil
}
