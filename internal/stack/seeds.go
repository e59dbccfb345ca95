package stack

import (
	"context"
	"errors"
	"time"

	"dravit/internal/data"
	"dravit/internal/dump"
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
func (s *Stack) loadSeed(ctx context.Context, p seed, report func(TaskEvent)) error {
	store, ok := s.Kinds.Of(p.Kind).(kind.Database)
	if !ok {
		return errors.ErrUnsupported
	}
	records, err := task.ReadRecords(s.taskRecords())
	if err != nil {
		return err
	}
	if !records[seedRecord(p.Name)].Failed() {
		return nil // another start has loaded it meanwhile
	}
	done, err := s.takeData(p.Data, "the seed")
	if err != nil {
		return err
	}
	defer done()
	r := task.Record{At: time.Now(), Depends: s.seedDigest(p.Part)}
	if err := s.load(ctx, store, p, report); err != nil {
		if resetErr := data.Empty(context.WithoutCancel(ctx), store, p.Part); resetErr != nil {
			err = errors.Join(err, resetErr)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return &trouble.Trouble{
			Code:    trouble.SeedFailed,
			Subject: "part." + p.Name + ".seed",
			What:    "the seed of part " + p.Name + " was not loaded, and its database is empty",
			Because: p.Want.Seed + ": " + err.Error(),
			Next:    "correct " + p.Want.Seed + ", then dravit start",
		}
	}
	r.TookMS = time.Since(r.At).Milliseconds()
	records[seedRecord(p.Name)] = r
	report(TaskEvent{Task: "seed of " + p.Name, Ended: &r})
	return home.WriteJSON(s.taskRecords(), records)
}

// progressEvery is how often the progress of a load is reported.
const progressEvery = 200 * time.Millisecond

func (s *Stack) load(ctx context.Context, store kind.Database, p seed, report func(TaskEvent)) error {
	if p.again {
		if err := data.Empty(ctx, store, p.Part); err != nil {
			return err
		}
	}
	set, err := settings.Read(s.Home)
	if err != nil {
		return err
	}
	d, err := dump.Open(ctx, s.Dir, p.Want.Seed, set.Outside...)
	if err != nil {
		return err
	}
	defer d.Close()
	if from := d.Kind(); from != "" && from != p.Kind {
		return errors.New("it is a dump of " + from + ", and the part is of kind " + p.Kind)
	}
	if err := data.BeginLoad(p.Data, p.Database); err != nil {
		return err
	}
	left, err := watched(d, func(b Bytes) { report(TaskEvent{Task: "seed of " + p.Name, Done: b.Done, Size: b.Size}) },
		func() ([]string, error) { return store.Load(ctx, p.Part, d) })
	for _, thing := range left {
		report(TaskEvent{Task: "seed of " + p.Name, Line: "left out: " + thing})
	}
	return errors.Join(err, d.Whole(), data.EndLoad(p.Data))
}
