package extensions

import (
	"maps"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/plan"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// Change is an extension to be switched on or off in the stack file.
type Change struct {
	Part    string
	Kind    string // the one of the part's kinds that has extensions
	Name    string // as the user wrote it
	On      bool
	Key     string   // the list that changes: extensions, or without (extensions to leave out)
	List    []string // the new list
	Changed bool     // the list differs from the present one
	Runs    bool     // the present plan has the part as that kind
}

// Plan finds the part, or the only part with extensions if part is "", and the list that has to change.
func Plan(kinds kind.List, in plan.Input, p plan.Plan, part, name string, on bool) (Change, error) {
	c := Change{Name: name, On: on}
	var err error
	if c.Part, c.Kind, err = target(kinds, in, part); err != nil {
		return c, err
	}
	nameOf := Names(kinds, c.Kind)
	want := in.File.Parts[c.Part].For(c.Kind)
	if !on && want.Debugger && nameOf(name) == kinds.TraitsOf(c.Kind).Debugger {
		return c, noExtensions(
			"debugger = true of part "+c.Part+" loads "+name,
			"remove debugger from [part."+c.Part+"] in "+stackfile.Name,
		)
	}
	c.Key, c.List, c.Changed = listOf(kinds, in, p, c)
	c.Runs = slices.ContainsFunc(p.Parts, func(x plan.PartPlan) bool { return x.Name == c.Part && x.Kind == c.Kind })
	return c, nil
}

// Edit returns the stack file with the changed list. It writes nothing.
func (c Change) Edit(kinds kind.List, dir string) (stackfile.Edit, error) {
	if c.Key == "without" {
		return stackfile.EditWithout(dir, c.Part, c.Kind, c.List, kinds.Vocabulary())
	}
	return stackfile.EditExtensions(dir, c.Part, c.Kind, c.List, kinds.Vocabulary())
}

// Names returns a function that turns an entry of a list of extensions into the name of what is loaded.
func Names(kinds kind.List, kindName string) func(entry string) string {
	if k, ok := kinds.Of(kindName).(kind.Runtime); ok {
		return k.ExtensionName
	}
	return func(entry string) string { return entry }
}

// listOf returns which list of the stack file switches an extension, and its present entries. If the file has no list
// of extensions, all are loaded. Then listOf returns the list of those to leave out: it is shorter, and also right on
// other machines.
func listOf(kinds kind.List, in plan.Input, p plan.Plan, c Change) (key string, list []string, changed bool) {
	part, kindName, name, on := c.Part, c.Kind, c.Name, c.On
	nameOf := Names(kinds, kindName)
	same := func(e string) bool { return nameOf(e) == nameOf(name) }
	want := in.File.Parts[part].For(kindName)
	_, extended, _ := plan.Runtime(in, p, kinds.ByName(), part)
	loaded := slices.ContainsFunc(extended.Load, func(m kind.Module) bool { return same(m.Name) })
	left := slices.IndexFunc(want.Without, same)
	switch {
	case want.Extensions == nil && left >= 0:
		if on {
			return "without", slices.Delete(slices.Clone(want.Without), left, left+1), true
		}
		return "without", want.Without, false
	case want.Extensions == nil && !on:
		return "without", append(slices.Clone(want.Without), name), true
	case want.Extensions == nil && loaded:
		return "without", want.Without, false
	case want.Extensions == nil: // it is loaded only by name: from now on, all are named
		for _, m := range extended.Load {
			list = append(list, m.Name)
		}
		slices.Sort(list)
		return "extensions", append(list, name), true
	}
	had := slices.IndexFunc(want.Extensions, same)
	switch {
	case on && had < 0:
		return "extensions", append(slices.Clone(want.Extensions), name), true
	case !on && had >= 0:
		return "extensions", slices.Delete(slices.Clone(want.Extensions), had, had+1), true
	}
	return "extensions", want.Extensions, false
}

// Try makes a plan with the changed list, which it leaves in the input, and reports whether the part has a plan then,
// as the kind that it has now: that another kind of its list would take its place is no answer to such a change.
func (c Change) Try(kinds kind.List, dir string, in *plan.Input) bool {
	part, kindName, key, list := c.Part, c.Kind, c.Key, c.List
	f := *in.File
	f.Parts = map[string]stackfile.PartConfig{}
	for name, p := range in.File.Parts {
		if name == part {
			p.Of = maps.Clone(p.Of)
			if c.Runs {
				p.Kind = stackfile.Texts{kindName}
			}
			own, ok := p.Of[kindName]
			switch {
			case key == "without":
				p.Without = list
				own.Without = list
			default:
				p.Extensions = list
				ok = ok && own.Extensions != nil
				own.Extensions = list
			}
			if ok {
				p.Of[kindName] = own
			}
		}
		f.Parts[name] = p
	}
	in.File = &f
	if runtime, ok := kinds.Of(kindName).(kind.Runtime); ok {
		others := slices.DeleteFunc(slices.Clone(in.Project.Modules), func(m kind.Module) bool {
			return m.Kind == kindName
		})
		in.Project.Modules = append(others, runtime.Scan(dir, f.Parts[part].For(kindName))...)
	}
	for _, fault := range plan.Make(*in, kinds.ByName()).Faults {
		if fault.Subject == about.Part(part) {
			return false
		}
	}
	return true
}

// target returns the part whose extensions are meant, and the one of its kinds that has extensions.
func target(list kind.List, in plan.Input, part string) (name, kindName string, err error) {
	kinds := map[string]string{}
	var runtimes []string
	for _, name := range in.File.PartNames() {
		for _, k := range in.File.Parts[name].Kind {
			if list.TraitsOf(k).Extensions && kinds[name] == "" {
				kinds[name] = k
				runtimes = append(runtimes, name)
			}
		}
	}
	switch {
	case part == "" && len(runtimes) == 1:
		return runtimes[0], kinds[runtimes[0]], nil
	case kinds[part] != "":
		return part, kinds[part], nil
	case part != "" && !slices.Contains(in.File.PartNames(), part):
		return "", "", trouble.NoSuchPart(part, in.File.PartNames())
	case part != "":
		return "", "",
			noExtensions("part "+part+" has no extensions to switch", "dravit extensions lists what its runtimes have")
	case len(runtimes) == 0:
		return "", "", noExtensions("the stack has no part with extensions to switch",
			"dravit extensions lists what its runtimes have")
	}
	return "", "", noExtensions("the stack has several parts with extensions",
		"name one: --part "+strings.Join(runtimes, ", --part "))
}
