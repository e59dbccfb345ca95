package databases

import (
	"context"
	"slices"

	"dravit/internal/trouble"
)

// AddDatabase creates another database on the server of a part, for the application's user.
func (s *Stack) AddDatabase(ctx context.Context, part, name string) error {
	d, names, err := s.another(ctx, part, name)
	if err != nil {
		return err
	}
	if slices.Contains(names, name) {
		return &trouble.Trouble{Code: trouble.BadName, What: "there is a database " + name + " already",
			Because: "the databases of " + d.part.Name + " are " + trouble.List(names), Next: "give another name"}
	}
	return d.kind.Create(ctx, d.part)
}

// DropDatabase deletes a database that AddDatabase, or the application, created. A part's own database stays.
func (s *Stack) DropDatabase(ctx context.Context, part, name string) error {
	d, names, err := s.another(ctx, part, name)
	if err != nil {
		return err
	}
	if !slices.Contains(names, name) {
		return &trouble.Trouble{Code: trouble.BadName, What: "there is no database " + name,
			Because: "the databases of " + d.part.Name + " are " + trouble.List(names), Next: "dravit db access"}
	}
	return d.kind.Drop(ctx, d.part)
}

// another returns a database of a part's server other than its own, and the names of those that there are.
func (s *Stack) another(ctx context.Context, part, name string) (database, []string, error) {
	own, err := s.databasePart(part)
	if err != nil {
		return own, nil, err
	}
	if name == own.part.Database {
		return own, nil, &trouble.Trouble{Code: trouble.BadName, What: name + " is the part's own database",
			Because: "it belongs to the part " + own.part.Name, Next: "dravit remove --data deletes a part's data"}
	}
	if err := own.own("that"); err != nil {
		return own, nil, err
	}
	if err := own.answering(); err != nil {
		return own, nil, err
	}
	d, err := s.database(Target{Part: part, Name: name})
	if err != nil {
		return d, nil, err
	}
	names, err := own.kind.Names(ctx, own.part)
	return d, names, err
}

// Others returns the databases of the running servers apart from the parts' own. What does not answer has none.
func (s *Stack) Others(ctx context.Context) []string {
	var all []string
	for _, p := range s.Parts {
		k, ok := s.Kinds.Database(p)
		if d := (database{s, p, k}); !ok || d.answering() != nil {
			continue
		}
		names, _ := k.Names(ctx, p)
		for _, name := range names {
			if name != p.Database {
				all = append(all, name)
			}
		}
	}
	return all
}
