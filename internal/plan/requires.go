package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
	"dravit/internal/tool"
	"dravit/internal/trouble"
	"dravit/internal/version"
)

// requires checks, for every command-line program that the stack needs, whether the first one in PATH fits.
func (m *maker) requires() {
	for _, name := range slices.Sorted(maps.Keys(m.in.File.Requires)) {
		m.require(name, m.in.File.Requires[name])
	}
}

func (m *maker) require(name string, want stackfile.Require) {
	subject, key := about.Required(name), OfTool+name
	demands := m.toolDemands(name, want)
	i := slices.IndexFunc(m.in.Survey.Tools, func(t survey.Tool) bool { return t.Name == name })
	var found survey.Tool
	if i >= 0 {
		found = m.in.Survey.Tools[i]
	}
	var wishes []string
	for _, d := range demands {
		wishes = append(wishes, d.wants)
	}
	serves := func(f survey.Found) string {
		if why := m.refuseUnlocked(key, name, f.Path); why != "" {
			return why
		}
		for _, d := range demands {
			switch {
			case f.Version == "":
				return "it prints no version that Dravit understands"
			case !d.constraint.Allows(f.Version):
				return d.wants
			}
		}
		return ""
	}
	shown := func(f survey.Found) string { return strings.TrimSpace(name+" "+f.Version) + " at " + f.Path }
	picked := found.Picked()
	others, better, fetched := passOver(found, picked, serves, shown)
	label := name
	if want.Version != "" {
		label += " " + want.Version
	}
	next := m.fetchNext(key, name, name)
	switch {
	case fetched != nil && (picked == nil || serves(*picked) != ""):
		m.plan.Tools = append(m.plan.Tools, Tool{name, fetched.Version, fetched.Path})
		m.decide(subject, shown(*fetched), others, append(wishes, "Dravit fetched it, for this stack only")...)
		m.unlocked(key, name, kind.Program{Kind: name, Version: fetched.Version, Path: fetched.Path,
			Origin: survey.Supply})
	case len(found.Found) == 0:
		m.lacksTool(name, label+" is not installed",
			"neither PATH nor the usual folders contain a program "+name,
			next+", or remove it from [requires] in "+stackfile.Name)
	case picked == nil && better != "":
		m.fault(trouble.NotOnPath, subject, label+" is not on PATH", fmt.Sprintf("it is at %s", better),
			"put its folder on PATH: "+onPath(better))
	case picked == nil:
		m.lacksTool(name, label+" is not installed", told(others),
			next+", or remove it from [requires] in "+stackfile.Name)
	case serves(*picked) == "":
		m.decide(subject, strings.TrimSpace(name+" "+picked.Version)+" at "+picked.Path, others,
			append(wishes, "PATH picks it")...)
		m.unlocked(key, name, kind.Program{Kind: name, Version: picked.Version, Path: picked.Path})
	case better != "":
		m.fault(trouble.NotOnPath, subject, fmt.Sprintf("PATH picks %s, which does not fit", shown(*picked)),
			fmt.Sprintf("%s; %s would fit, but PATH hides it", serves(*picked), better),
			"put its folder first: "+onPath(better))
	default:
		m.lacksTool(name, shown(*picked)+" does not fit",
			strings.Join(slices.DeleteFunc([]string{serves(*picked), told(others)}, func(s string) bool {
				return s == ""
			}), "; "), m.fetchNext(key, name, label))
	}
}

// lacksTool adds a fault: no program of that name serves.
func (m *maker) lacksTool(name, what, because, next string) {
	m.plan.Lacks = append(m.plan.Lacks, Lack{Key: OfTool + name, Tool: name})
	m.fault(trouble.NoProgram, about.Required(name), what, because, next)
}

// passOver says why each program of a name, other than the picked one, is not used. It returns the path of the first
// that would serve, and the first that Dravit fetched and that serves.
func passOver(found survey.Tool, picked *survey.Found, serves, shown func(survey.Found) string) (
	others []Option, better string, fetched *survey.Found) {
	for _, f := range found.Found {
		if picked != nil && f.Path == picked.Path {
			continue
		}
		why := serves(f)
		if f.Origin == survey.Supply {
			if why == "" && fetched == nil {
				fetched = &f
			}
			continue
		}
		if why == "" {
			if better == "" {
				better = f.Path
			}
			why = "it is not on PATH"
			if f.OnPath {
				why = "it is further back on PATH"
			}
		}
		others = append(others, Option{Option: shown(f), Because: why})
	}
	return others, better, fetched
}

// fetchNext returns how to get a required program. label is its name, or that and its version.
func (m *maker) fetchNext(key, name, label string) string {
	if o, ok := m.in.Offers[key]; ok {
		if m.plan.Supply == nil {
			m.plan.Supply = map[string]Supply{}
		}
		m.plan.Supply[key] = o
		return fmt.Sprintf("dravit start fetches %s %s from %s, after a yes", name, o.Version, o.Source)
	}
	if _, carried := tool.Of(name); carried {
		return "install " + label + ", or let dravit start fetch it, if a source has it"
	}
	return "install " + label
}

// AcceptsTool returns which versions of a required program the stack file and the project's own files allow.
func AcceptsTool(in Input, name string) func(version string) bool {
	demands := (&maker{in: in}).toolDemands(name, in.File.Requires[name])
	return func(v string) bool {
		return !slices.ContainsFunc(demands, func(d demand) bool { return !d.constraint.Allows(v) })
	}
}

// toolDemands returns what the stack file and the project's own files demand of the version of a program.
func (m *maker) toolDemands(name string, want stackfile.Require) []demand {
	var demands []demand
	if c, err := version.ParseConstraint(want.Version); err == nil && want.Version != "" {
		demands = append(demands, demand{c, "the stack file demands " + want.Version})
	}
	for _, d := range m.in.Project.Manifests["."].Demands {
		if c, err := version.Read(d.Grammar, d.Text); d.Program == name && err == nil &&
			(d.Grammar != version.Pin || want.Version == "") {
			demands = append(demands, demand{c, d.File + " wants " + d.Text})
		}
	}
	return demands
}

func told(others []Option) string {
	var all []string
	for _, o := range others {
		all = append(all, o.Option+" ("+o.Because+")")
	}
	return strings.Join(all, "; ")
}

// onPath returns the command that puts a program's folder first.
func onPath(file string) string {
	dir := file[:strings.LastIndexByte(file, '/')]
	return `export PATH="` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `$`, `\$`, "`", "\\`").Replace(dir) + `:$PATH"`
}
