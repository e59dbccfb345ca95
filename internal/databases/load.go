package databases

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"dravit/internal/about"
	"dravit/internal/data"
	"dravit/internal/dump"
	"dravit/internal/kind"
	"dravit/internal/trouble"
	"dravit/internal/version"
)

// Loaded is the result of a load.
type Loaded struct {
	Part  string        `json:"part"`
	Took  time.Duration `json:"-"`
	Bytes int64         `json:"bytes"`          // of the dump's file
	Left  []string      `json:"left_out"`       // what reaches beyond the database
	Mark  string        `json:"mark,omitempty"` // what the database was before, or "": there is no mark of it
}

// Bytes is the progress of a load or a dump.
type Bytes struct {
	Done, Size int64 // Size is 0 if it is unknown
}

// progressEvery is how often the progress of a load is reported.
const progressEvery = 200 * time.Millisecond

// beforeLoad and beforeRewind are the marks that Dravit makes by itself.
const (
	beforeLoad   = "before-load"
	beforeRewind = "before-rewind"
)

// Load puts what a dump holds in the place of a database. If that fails, or dies, the database is as it was.
func (s *Stack) Load(ctx context.Context, t Target, from *dump.Dump, report func(Bytes)) (Loaded, error) {
	d, err := s.database(t)
	if err != nil {
		return Loaded{}, err
	}
	out := Loaded{Part: d.part.Name, Left: []string{}}
	if err := d.mayHold(from); err != nil {
		return out, err
	}
	newer := Newer(d.Kinds, d.part, from)
	if err := errors.Join(d.own("a load"), d.answering()); err != nil {
		return out, err
	}
	done, err := d.change("a load")
	if err != nil {
		return out, err
	}
	defer done()
	began := time.Now()
	load := func(target kind.Part) error {
		left, err := watched(from, report, func() ([]string, error) { return d.kind.Load(ctx, target, from) })
		if torn := from.Whole(); torn != nil && err != nil {
			err = fmt.Errorf("%w: %w", torn, err)
		} else if err == nil {
			err = torn
		}
		out.Left = append(out.Left, left...)
		return err
	}
	out.Mark, err = d.replace(ctx, load)
	out.Took, out.Bytes = time.Since(began), from.Done()
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	if err != nil {
		next := "correct the dump, then load it again"
		if t := (*trouble.Trouble)(nil); errors.As(err, &t) && t.Next != "" {
			next = t.Next
		}
		if newer != nil {
			err, next = fmt.Errorf("%s: %w", newer.What, err), newer.Next
		}
		return out, &trouble.Trouble{Code: trouble.LoadFailed, Subject: about.Part(d.part.Name),
			What: "the dump was not loaded, and the database " + d.part.Name + " is as it was", Because: err.Error(),
			Next: next}
	}
	return out, s.Loaded(d.part)
}

// CopyFrom puts a database of another stack in the place of one of this one.
func (s *Stack) CopyFrom(ctx context.Context, t Target, other *Stack, from Target,
	report func(Bytes)) (Loaded, error) {
	source, err := other.database(from)
	if err != nil {
		return Loaded{}, err
	}
	if err := source.answering(); err != nil {
		return Loaded{}, err
	}
	read, write, err := os.Pipe()
	if err != nil {
		return Loaded{}, err
	}
	ctx, cancel := context.WithCancel(ctx)
	dumped := make(chan error, 1)
	go func() { dumped <- errors.Join(source.kind.Dump(ctx, source.part, write), write.Close()) }()
	d, err := dump.New(ctx, read)
	if err != nil {
		cancel()
		return Loaded{}, errors.Join(err, <-dumped)
	}
	out, err := s.Load(ctx, t, d, report)
	ended := d.Ended()
	d.Close()
	cancel()                                                        // a dump that nobody reads any more
	if dumpErr := <-dumped; ended && err != nil && dumpErr != nil { // its end was the reason
		return out, fmt.Errorf("the dump of %s failed: %w", other.Name, dumpErr)
	}
	return out, err
}

// replace has load fill the database anew. It marks it first, unless it is empty, and returns the name of the mark, or
// "". If that fails, or dies, the database is as it was, and so is everything else on its server.
func (d database) replace(ctx context.Context, load func(kind.Part) error) (mark string, err error) {
	tables, err := d.kind.Tables(ctx, d.part, true)
	if err != nil {
		return "", err
	}
	if len(tables) > 0 {
		if err := d.save(ctx, data.Mark{Name: beforeLoad, At: time.Now(), Before: "load"}); err != nil {
			return "", fmt.Errorf("marking the database before the load: %w", err)
		}
		mark = beforeLoad
	}
	if err := data.BeginLoad(d.part.Data, d.part.Database); err != nil {
		return mark, err
	}
	if d.kind.Traits().Replaces {
		err = d.kind.Replace(ctx, d.part, load)
	} else {
		err = data.LoadOver(ctx, d.part, d.kind, load)
	}
	return mark, errors.Join(err, data.EndLoad(d.part.Data))
}

// Newer returns what to know of a dump that is of a newer series of the part's server than the part runs, or nil.
func Newer(kinds kind.List, p kind.Part, from *dump.Dump) *trouble.Trouble {
	needs, wrote := kinds.Of(p.Kind).Needs(p.Want), from.Version()
	if wrote == "" || from.Kind() != p.Kind || version.Compare(needs.SeriesOf(wrote), needs.SeriesOf(p.Version)) <= 0 {
		return nil
	}
	series := needs.SeriesOf(wrote)
	return &trouble.Trouble{Code: trouble.LoadFailed,
		What: fmt.Sprintf("the dump is of %s %s, and the part runs %s", p.Kind, series, needs.SeriesOf(p.Version)),
		Next: fmt.Sprintf("dravit supply %s %s, then version = %q for part %s, and dravit start", p.Kind, series,
			series, p.Name)}
}

// mayHold returns an error if a dump is none for this kind of database.
func (d database) mayHold(from *dump.Dump) error {
	if from.Empty() {
		return &trouble.Trouble{Code: trouble.LoadFailed, What: "the dump was not loaded", Because: "it is empty",
			Next: "name another file"}
	}
	of := from.Kind()
	if of == "" || of == d.part.Kind {
		return nil
	}
	return &trouble.Trouble{Code: trouble.WrongKind, What: "this dump is not for the database " + d.part.Name,
		Because: "it is a dump of " + of + ", and the part is of kind " + d.part.Kind,
		Next:    "name another part with --part, or another dump"}
}

// watched reports the progress of load.
func watched(from *dump.Dump, report func(Bytes), load func() ([]string, error)) ([]string, error) {
	ended, watching := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(watching)
		for {
			select {
			case <-ended:
				return
			case <-time.After(progressEvery):
				report(Bytes{from.Done(), from.Size})
			}
		}
	}()
	left, err := load()
	close(ended)
	<-watching
	return left, err
}
