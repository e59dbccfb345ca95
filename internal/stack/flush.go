package stack

import (
	"context"
	"errors"
	"slices"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// Flush empties the named caches of the stack, or all if none is named. It returns the names of those that it emptied.
func (s *Stack) Flush(ctx context.Context, parts []string) ([]string, error) {
	spec, err := s.spec()
	if err != nil {
		return nil, err
	}
	if spec.ID == "" {
		return nil, ErrNeverStarted
	}
	var names []string
	for _, p := range spec.Parts {
		if _, ok := s.Kinds.Of(p.Kind).(kind.Cache); ok {
			names = append(names, p.Name)
		}
	}
	for _, name := range parts {
		if !slices.Contains(names, name) {
			return nil, noCache(name, names)
		}
	}
	if len(names) == 0 {
		return nil, noCache("", nil)
	}
	flushed := []string{}
	for _, p := range spec.Parts {
		k, ok := s.Kinds.Of(p.Kind).(kind.Cache)
		if !ok || len(parts) > 0 && !slices.Contains(parts, p.Name) {
			continue
		}
		if err := flush(ctx, k, p); err != nil {
			return flushed, err
		}
		flushed = append(flushed, p.Name)
	}
	return flushed, nil
}

func flush(ctx context.Context, k kind.Cache, p kind.Part) error {
	if !run.Of(p).Offers().Data {
		return &trouble.Trouble{Code: trouble.WrongKind, What: "the cache " + p.Name + " is not flushed",
			Because: "its server runs outside of Dravit, at " + p.Address(), Next: "use that server's own tools"}
	}
	err := k.Flush(ctx, p)
	if err != nil && !run.Seen(p).Alive() {
		return &trouble.Trouble{Code: trouble.NeverStarted, What: "the cache " + p.Name + " does not run",
			Because: "it is stopped, or its server has failed", Next: "dravit start"}
	}
	if err != nil {
		return errors.New("flushing " + p.Name + ": " + health.Plain(err))
	}
	return nil
}

func noCache(name string, names []string) error {
	t := &trouble.Trouble{Code: trouble.NoPart, What: "the stack has no cache", Because: "none of its parts is one",
		Next: "add a part of kind redis, memcached or dravit-cache"}
	if len(names) > 0 {
		t.What, t.Because = "there is no cache "+name, "the stack's caches are "+trouble.List(names)
		t.Next = "dravit flush"
	}
	return t
}
