package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"dravit/internal/stackfile"
	"dravit/internal/survey"
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
	subject := "requires." + name
	demands := m.toolDemands(name, want)
	i := slices.IndexFunc(m.in.Survey.Tools, func(t survey.Tool) bool { return t.Name == name })
	var tool survey.Tool
	if i >= 0 {
		tool = m.in.Survey.Tools[i]
	}
	var wishes []string
	for _, d := range demands {
		wishes = append(wishes, d.wants)
	}
	serves := func(f survey.Found) string {
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
	picked := tool.Picked()
	var others []Option
	better := ""
	for _, f := range tool.Found {
		if picked != nil && f.Path == picked.Path {
			continue
		}
		why := serves(f)
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
	label := name
	if want.Version != "" {
		label += " " + want.Version
	}
	switch {
	case len(tool.Found) == 0:
		m.fault(trouble.NoProgram, subject, label+" is not installed",
			"neither PATH nor the usual folders contain a program "+
				name, "install "+name+", or remove it from [requires] in "+stackfile.Name)
	case picked == nil && better != "":
		m.fault(trouble.NotOnPath, subject, label+" is not on PATH", fmt.Sprintf("it is at %s", better),
			"put its folder on PATH: "+onPath(better))
	case picked == nil:
		m.fault(trouble.NoProgram, subject, label+" is not installed", told(others),
			"install "+name+", or remove it from [requires] in "+stackfile.Name)
	case serves(*picked) == "":
		m.decide(subject, strings.TrimSpace(name+" "+picked.Version)+" at "+picked.Path, others,
			append(wishes, "PATH picks it")...)
	case better != "":
		m.fault(trouble.NotOnPath, subject, fmt.Sprintf("PATH picks %s, which does not fit", shown(*picked)),
			fmt.Sprintf("%s; %s would fit, but PATH hides it", serves(*picked), better),
			"put its folder first: "+onPath(better))
	default:
		m.fault(trouble.NoProgram, subject, shown(*picked)+" does not fit",
			strings.Join(slices.DeleteFunc([]string{serves(*picked), told(others)}, func(s string) bool {
				return s == ""
			}), "; "), "install "+label)
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
