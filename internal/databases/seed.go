package databases

import (
	"context"
	"errors"
	"fmt"

	"dravit/internal/data"
	"dravit/internal/dump"
	"dravit/internal/kind"
)

// Seed loads a file of the project into the new database of a part, whose server answers. again is whether an earlier
// load failed, and may have left something; outside are folders beyond the project that the file may be in. It returns
// what was left out. If it fails, the database is empty.
func (s *Stack) Seed(ctx context.Context, p kind.Part, again bool, outside []string, report func(Bytes)) (
	left []string, err error) {
	store, ok := s.Kinds.Database(p)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	if again {
		err = data.Empty(ctx, store, p)
	}
	if err == nil {
		left, err = s.fill(ctx, store, p, outside, report)
	}
	if err != nil {
		err = errors.Join(err, data.Empty(context.WithoutCancel(ctx), store, p))
	}
	return left, err
}

func (s *Stack) fill(ctx context.Context, store kind.Database, p kind.Part, outside []string, report func(Bytes)) (
	[]string, error) {
	d, err := dump.Open(ctx, s.Dir, p.Want.Seed, outside...)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	if from := d.Kind(); from != "" && from != p.Kind {
		return nil, errors.New("it is a dump of " + from + ", and the part is of kind " + p.Kind)
	}
	if err := data.BeginLoad(p.Data, p.Database); err != nil {
		return nil, err
	}
	newer := Newer(s.Kinds, p, d)
	left, err := watched(d, report, func() ([]string, error) { return store.Load(ctx, p, d) })
	if err != nil && newer != nil {
		err = fmt.Errorf("%s (%s): %w", newer.What, newer.Next, err)
	}
	return left, errors.Join(err, d.Whole(), data.EndLoad(p.Data))
}
