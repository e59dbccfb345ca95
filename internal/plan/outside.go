package plan

import (
	"fmt"
	"maps"
	"slices"
	"strconv"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/setting"
	"dravit/internal/stackfile"
	"dravit/internal/suffix"
	"dravit/internal/trouble"
)

// outside rejects paths of the stack file that links lead out of the project, unless the user of this machine agreed.
func (m *maker) outside(file map[string]stackfile.PartConfig) {
	refuse := func(subject about.Subject, path string) {
		resolved := m.in.Project.Outside[path]
		if path == "" || resolved == "" {
			return
		}
		m.fault(
			trouble.Outside,
			subject,
			fmt.Sprintf("%s leads out of the project, to %s", path, resolved),
			"a repository must not name files outside it",
			fmt.Sprintf(
				"move what it needs into the project; or allow it on this machine: outside = [%q] in "+
					"Dravit's settings.toml",
				resolved,
			),
		)
	}
	if d := m.in.File.Dotenv; d != nil {
		refuse(about.Dotenv, d.File)
	}
	for _, t := range m.in.File.Tasks {
		refuse(about.Task(t.Name).At("folder"), t.Folder)
	}
	for i, s := range m.in.File.Sites {
		subject := about.Site(s.Name)
		if s.Name == "" {
			subject = about.Site(strconv.Itoa(i))
		}
		refuse(subject.At("include"), s.Include)
		for _, folder := range m.in.Project.Each[s.Each] {
			refuse(subject.At("each"), folder)
		}
	}
	for _, s := range m.plan.Sites {
		refuse(about.Site(s.Name).At("root"), s.Root)
	}
	for _, name := range slices.Sorted(maps.Keys(file)) {
		for _, k := range file[name].Kind {
			for _, e := range file[name].For(k).Extensions {
				refuse(about.Part(name).At("extensions"), e)
			}
			refuse(about.Part(name).At("seed"), file[name].For(k).Seed)
			for _, path := range file[name].For(k).Writable {
				refuse(about.Part(name).At("writable"), path)
			}
		}
		if r := file[name].Requires; r != nil {
			for _, path := range r.Writable {
				refuse(about.Part(name).At("requires"), path)
			}
		}
	}
}

// suffixes rejects endings of host names that belong to others, unless the user of this machine agreed: the authority
// would certify names below them.
func (m *maker) suffixes() {
	for _, s := range m.in.File.Sites {
		x := s.HostSuffix()
		if suffix.Reserved(x) || slices.Contains(m.in.Consent.Suffixes, x) {
			continue
		}
		m.fault(trouble.Reserved, about.Site(s.Name).At("suffix"),
			fmt.Sprintf("the names of the site %s would end with %s", s.Name, x),
			"it is not reserved for private use, and a repository cannot make your machine sign certificates for it",
			fmt.Sprintf("suffix = \"test\"; or allow it on this machine: suffixes = [%q] in Dravit's settings.toml", x))
	}
}

// PartConsent returns the name of a part in Consent.Network, in which sites have their own names.
func PartConsent(name string) string { return "part." + name }

// guard rejects settings of a part that would move what Dravit keeps, or that name a file outside the project. It
// removes settings that open a server to the network until the user of this machine agrees, and returns the rest.
func (m *maker) guard(name string, want stackfile.PartConfig, k kind.Kind) stackfile.PartConfig {
	rules := k.Traits().Rules
	left := maps.Clone(want.Settings)
	for _, key := range slices.Sorted(maps.Keys(want.Settings)) {
		subject, value := about.Part(name).At("settings").At(key), string(want.Settings[key])
		switch setting.RuleOf(rules, key) {
		case setting.Own:
			m.fault(
				trouble.Reserved,
				subject,
				fmt.Sprintf("part %s sets %s", name, key),
				"this setting decides where Dravit keeps the part's data, sockets, logs or passwords",
				"remove it from "+stackfile.Name,
			)
		case setting.Unknown:
			m.unknown(name, key, k.Traits().Name)
		case setting.Opens:
			if setting.Loopback(value) || slices.Contains(m.in.Consent.Network, PartConsent(name)) {
				continue
			}
			delete(left, key)
			m.plan.Warnings = append(
				m.plan.Warnings,
				fmt.Sprintf("part %s asks to be reachable from your network (%s = %q), and you did not "+
					"agree: dravit start --reachable %s", name, key, value, name),
			)
		}
		for _, path := range setting.Paths(value) {
			if resolved := m.in.Project.Outside[path]; resolved != "" && setting.RuleOf(rules, key) == setting.Free {
				m.fault(
					trouble.Outside,
					subject,
					fmt.Sprintf("part %s names a file outside the project: %s = %q", name, key, value),
					"a repository must not name files outside it",
					fmt.Sprintf(
						"a file of the project; or allow it on this machine: outside = [%q] in Dravit's settings.toml",
						resolved,
					),
				)
			}
		}
	}
	want.Settings = left
	return want
}

// unknown rejects a setting that may do anything, unless the user of this machine agreed.
func (m *maker) unknown(part, key, kindName string) {
	allow := kindName + "." + key
	if slices.Contains(m.in.Consent.Settings, allow) {
		return
	}
	m.fault(trouble.Reserved, about.Part(part).At("settings").At(key),
		fmt.Sprintf("part %s sets %s", part, key),
		"it is none of the settings of "+kindName+" that a repository may decide, by their full names",
		fmt.Sprintf("remove it, or write its full name; or allow it on this machine: settings = [%q] in Dravit's "+
			"settings.toml", allow))
}

// includesOnly reports whether an included file does what such a file may: it does not listen, and names files outside
// the project only if the user of this machine agreed. The rest is for the server's own test.
func (m *maker) includesOnly(subject about.Subject, file string, rules *kind.IncludeRules) bool {
	before := len(m.plan.Faults)
	all := rules.Read(m.in.Project.Includes[file])
	if rules.Opens != nil {
		if d := rules.Opens(all); d != nil {
			m.fault(trouble.Reserved, subject.At("include"),
				fmt.Sprintf("%s, line %d: %s stands outside of <Directory>",
					file,
					d.Line, d.Name), "there it would open folders outside the project, too",
				"put it into <Directory> with the "+
					"folder's path")
		}
	}
	for _, d := range all {
		at := fmt.Sprintf("%s, line %d: %s", file, d.Line, d.Name)
		if rules.Refuses(d) {
			m.fault(trouble.Reserved, subject.At("include"), at+" is not for a file that a site includes",
				"where the server listens, and what it loads, is not for a repository to decide",
				"remove the line from "+file)
			continue
		}
		files, dynamic := rules.Files(d)
		for _, path := range dynamic {
			m.fault(trouble.Outside, subject.At("include"), fmt.Sprintf("%s names a file by %s", at, path),
				"what a variable holds may lead out of the project", "begin the path with that of a folder")
		}
		for _, path := range files {
			resolved := m.in.Project.Outside[path]
			if resolved == "" {
				continue
			}
			m.fault(trouble.Outside, subject.At("include"), fmt.Sprintf("%s names a file outside the project: %s", at,
				path),
				"a repository must not name files outside it", fmt.Sprintf(
					"a file of the project; or allow it on this machine: outside = [%q] in Dravit's settings.toml",
					resolved))
		}
	}
	return len(m.plan.Faults) == before
}
