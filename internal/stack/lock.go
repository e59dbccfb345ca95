package stack

import (
	"context"
	"maps"
	"path/filepath"
	"runtime"

	"dravit/internal/plan"
	"dravit/internal/supply"
	"dravit/internal/trouble"
)

// exact returns what a lock names for a program of a kind on this system, or nil if it names none.
func exact(l supply.Locked, kindName string) *supply.Locked {
	if l.Kind != kindName || l.System != system() {
		return nil
	}
	return &l
}

func system() string { return runtime.GOOS + "/" + runtime.GOARCH }

// locked returns the programs of this machine that the project's lock names, by part or requirement.
func (s *Stack) locked() (map[string]plan.Locked, error) {
	lock, err := supply.ReadLock(s.Dir)
	if err != nil || len(lock.Parts)+len(lock.Tools) == 0 {
		return nil, err
	}
	trees, err := supply.Trees(s.Home)
	if err != nil {
		return nil, err
	}
	all := map[string]supply.Locked{}
	maps.Copy(all, lock.Parts)
	for name, l := range lock.Tools {
		all[plan.OfTool+name] = l
	}
	found := map[string]plan.Locked{}
	for subject, l := range all {
		p := plan.Locked{Kind: l.Kind, Version: l.Version}
		if l.System != system() {
			p.Because = "the lock is for " + l.System + ", and this is " + system()
		}
		for _, t := range trees {
			if l.Is(t) {
				p.Program = t.Program
			}
		}
		found[subject] = p
	}
	return found, nil
}

// Lock writes the project's lock: the exact supplied programs on which the parts of the stack would run now. It returns
// what it wrote, and the file.
func (s *Stack) Lock(ctx context.Context) (supply.Lock, string, error) {
	lock, err := supply.ReadLock(s.Dir)
	if err != nil {
		return lock, "", err
	}
	_, p, err := s.Plan(ctx, plan.Consent{})
	if err != nil {
		return lock, "", err
	}
	if !p.OK {
		return lock, "", &trouble.Trouble{Code: trouble.NoProgram, What: "nothing was locked",
			Because: "no plan satisfies the stack file",
			Next:    "dravit plan says why; dravit start fetches what is lacking"}
	}
	trees, err := supply.Trees(s.Home)
	if err != nil {
		return lock, "", err
	}
	lock.Parts, lock.Tools = map[string]supply.Locked{}, map[string]supply.Locked{}
	for _, t := range trees {
		for _, part := range p.Parts {
			if t.Program == part.Program {
				lock.Parts[part.Name] = t.Locked(system())
			}
		}
		for _, x := range p.Tools {
			if t.Program == x.Program {
				lock.Tools[x.Name] = t.Locked(system())
			}
		}
	}
	if len(lock.Parts)+len(lock.Tools) == 0 {
		return lock, "", &trouble.Trouble{Code: trouble.NoProgram, What: "nothing was locked",
			Because: "every program of this stack is installed on this machine, and a lock names the exact " +
				"packages of programs that Dravit fetched",
			Next: "dravit supply KIND VERSION fetches one; the stack file's version says " +
				"what an installed one has to be"}
	}
	return lock, filepath.Join(s.Dir, supply.LockFile), lock.Write(s.Dir)
}
