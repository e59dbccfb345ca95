package plan

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/shell"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
	"dravit/internal/trouble"
	"dravit/internal/version"
)

// Format is the number of the JSON form of Input and Plan.
const Format = 1

// Make makes every decision for a stack. If a demand cannot be met, the plan is not OK, and its Faults say why.
func Make(in Input, kinds map[string]kind.Kind) Plan {
	m := &maker{
		in:     in,
		kinds:  kinds,
		held:   map[int][]survey.Port{},
		taken:  map[int]bool{},
		stacks: map[string]bool{},
		owner:  in.StackID,
	}
	for _, name := range in.Ledger.Stacks {
		m.stacks[name] = true
	}
	for _, x := range in.Survey.Ports {
		m.held[x.Port] = append(m.held[x.Port], x)
	}
	m.plan = Plan{
		Format:    Format,
		Parts:     []PartPlan{},
		Sites:     []SitePlan{},
		Decisions: []Decision{},
		Faults:    []Fault{},
		Changes:   []Change{},
		Notes:     []string{},
		Warnings:  []string{},
	}
	number := m.name()
	file := m.addWebServer()
	names := slices.Sorted(maps.Keys(file))
	// stores have to be known before the runtimes that must reach them
	for _, runtimes := range []bool{false, true} {
		for _, name := range names {
			if m.needsClients(file[name]) == runtimes {
				m.part(name, file[name])
			}
		}
	}
	slices.SortFunc(m.plan.Parts, func(a, b PartPlan) int { return strings.Compare(a.Name, b.Name) })
	slices.SortStableFunc(m.plan.Decisions, func(a, b Decision) int {
		return about.Compare(a.Subject.Thing(), b.Subject.Thing())
	})
	slices.SortStableFunc(m.plan.Faults, func(a, b Fault) int {
		return about.Compare(a.Subject.Thing(), b.Subject.Thing())
	})
	slices.SortStableFunc(m.plan.Lacks, func(a, b Lack) int { return strings.Compare(a.Key, b.Key) })
	m.uses(file)
	m.settings()
	m.ports()
	m.morePorts()
	m.debuggers()
	m.sockets()
	m.gateway()
	m.sites(number)
	m.outside(file)
	m.fileSystem()
	m.suffixes()
	m.pages()
	m.requires()
	for _, p := range m.plan.Parts {
		m.unlocked(p.Name, "part "+p.Name,
			kind.Program{Kind: p.Kind, Version: p.Version, Path: p.Program, Origin: p.Origin})
	}
	for _, folder := range slices.Sorted(maps.Keys(in.Project.Manifests)) {
		m.plan.Notes = append(m.plan.Notes, in.Project.Manifests[folder].Faults...)
	}
	m.changes()
	m.inOrder()
	m.install()
	m.plan.OK = len(m.plan.Faults) == 0
	return m.plan
}

type maker struct {
	in      Input
	kinds   map[string]kind.Kind
	plan    Plan
	held    map[int][]survey.Port
	taken   map[int]bool       // ports assigned in this plan
	stacks  map[string]bool    // names of other stacks
	offers  map[string][]offer // programs by kind
	library *kind.Library
	lacks   map[string][]lack // for each runtime, the stores that it cannot reach
	added   string            // the web server that the plan added
	absent  []string          // parts for whose kinds this machine has no program
	udp     bool              // the port being searched must also be free for UDP
	owner   string            // for whom a port is being searched: the stack's id, or GatewayOwner
}

func (m *maker) decide(subject about.Subject, choice string, rejected []Option, because ...string) {
	if rejected == nil {
		rejected = []Option{}
	}
	m.plan.Decisions = append(m.plan.Decisions, Decision{
		Subject:  subject,
		Choice:   choice,
		Because:  because,
		Rejected: rejected,
	})
}

func (m *maker) fault(code trouble.Code, subject about.Subject, what, because, next string) {
	m.plan.Faults = append(m.plan.Faults, Fault{
		Code:    code,
		Subject: subject,
		What:    what,
		Because: because,
		Next:    next,
	})
}

// needsClients reports whether a part may be a runtime that needs modules to reach stores.
func (m *maker) needsClients(p stackfile.PartConfig) bool {
	return slices.ContainsFunc(p.Kind, func(k string) bool {
		return m.kinds[k] != nil && m.kinds[k].Traits().Extensions
	})
}

// inOrder groups the decisions by thing, in the order in which things were decided first.
func (m *maker) inOrder() {
	first := map[about.Subject]int{}
	for i, d := range m.plan.Decisions {
		if _, seen := first[d.Subject.Thing()]; !seen {
			first[d.Subject.Thing()] = i
		}
	}
	slices.SortStableFunc(m.plan.Decisions, func(a, b Decision) int {
		return first[a.Subject.Thing()] - first[b.Subject.Thing()]
	})
}

// name decides the stack's name: the one that it got before, else its own, with a number if another folder has that
// name. The first number is 2; 1 stands for no number.
func (m *maker) name() int {
	want, before := m.in.File.Name, 0
	if rest, ok := strings.CutPrefix(m.in.Ledger.Name, want); ok {
		if rest == "" {
			before = 1
		} else if n, err := strconv.Atoi(strings.TrimPrefix(rest, "-")); err == nil &&
			numbered(want, n) == m.in.Ledger.Name {
			before = n
		}
	}
	n := before
	if n == 0 || m.clash(n) {
		for n = 1; m.clash(n); n++ {
		}
	}
	m.plan.Stack = numbered(want, n)
	switch {
	case n == before && n > 1:
		m.decide(about.Stack, m.plan.Stack, nil, "the stack had this name before")
	case n > 1:
		m.decide(about.Stack, m.plan.Stack, []Option{{Option: want,
			Because: "another folder's stack has this name, or a site's name"}}, "the first free number")
		m.plan.Warnings = append(m.plan.Warnings,
			fmt.Sprintf("this stack is called %s, and its sites likewise: another "+
				"folder's stack has the name %s, or the name of a site", m.plan.Stack, want))
	}
	return n
}

// clash reports whether another stack has the stack's name, or one of its sites' names, with that number.
func (m *maker) clash(n int) bool {
	clash := m.stacks[numbered(m.in.File.Name, n)]
	for _, s := range m.in.File.Sites {
		if s.Each != "" {
			continue // skip a folder whose name is taken
		}
		for _, name := range append([]string{s.Name}, s.Aliases...) {
			clash = clash || m.in.Ledger.Hosts[host(s, name, n)] != ""
		}
	}
	return clash
}

func numbered(name string, n int) string {
	if n == 1 {
		return name
	}
	return fmt.Sprintf("%s-%d", name, n)
}

// addWebServer returns the parts of the file, with a web server that is built into Dravit if sites have none.
func (m *maker) addWebServer() map[string]stackfile.PartConfig {
	parts := maps.Clone(m.in.File.Parts)
	if parts == nil {
		parts = map[string]stackfile.PartConfig{}
	}
	needed := slices.ContainsFunc(m.in.File.Sites, func(s stackfile.SiteConfig) bool { return s.Server == "" })
	for _, p := range parts {
		for _, k := range p.Kind {
			if m.kinds[k] != nil && m.kinds[k].Traits().Role == kind.RoleWeb {
				needed = false
			}
		}
	}
	if needed {
		name := "web"
		for n := 2; parts[name].Kind != nil; n++ {
			name = fmt.Sprintf("web-%d", n)
		}
		parts[name] = stackfile.PartConfig{Kind: stackfile.Texts{m.builtinWeb()}}
		m.added = name
	}
	return parts
}

// builtinWeb returns the kind of the web server that is built in.
func (m *maker) builtinWeb() string {
	for _, name := range slices.Sorted(maps.Keys(m.kinds)) {
		if t := m.kinds[name].Traits(); t.Role == kind.RoleWeb && t.Serve != nil {
			return name
		}
	}
	return ""
}

// part decides the kind, the version and the program of one part.
func (m *maker) part(name string, file stackfile.PartConfig) {
	subject := about.Part(name)
	var rejected []Option // rejected programs, and kinds without any
	var passed []Option   // the kinds of the list before the chosen one
	written, hasData := m.in.History.Data[name]
	for _, kindName := range file.Kind {
		k, ok := m.kinds[kindName]
		if !ok {
			passed = append(passed, Option{Option: kindName, Because: "this version of Dravit has no such kind"})
			rejected = append(rejected, passed[len(passed)-1])
			continue
		}
		if want := file.For(kindName); want.Outside != "" {
			because := m.outsideServer(name, k, want, passed)
			if because == "" {
				return
			}
			passed = append(passed, Option{Option: kindName, Because: because})
			rejected = append(rejected, passed[len(passed)-1])
			continue
		}
		if hasData && k.Needs(file.For(kindName)).Data && written.Kind != kindName ||
			hasData && !k.Needs(file.For(kindName)).Data {
			passed = append(passed, Option{Option: kindName, Because: fmt.Sprintf(
				"%s %s wrote the part's data, and another kind would start empty",
				written.Kind, written.Version)})
			rejected = append(rejected, passed[len(passed)-1])
			continue
		}
		want := file.For(kindName)
		c := m.program(name, k, want, written)
		rejected = append(rejected, c.rejected...)
		if c.program == nil {
			if len(c.rejected) > 0 {
				passed = append(passed, Option{Option: kindName, Because: c.rejected[0].Because})
			}
			continue
		}
		if len(file.Kind) > 1 {
			m.decide(subject.At("kind"), kindName, passed,
				"the first kind of the list that this machine has and that meets every condition")
		}
		if name == m.added {
			c.because = []string{"the stack has sites but no web server, so Dravit serves them"}
		}
		m.decide(subject.At("version"), strings.TrimSpace(kindName+" "+c.program.Version), c.rejected, c.because...)
		m.extensions(subject, c)
		if m.lacks == nil {
			m.lacks = map[string][]lack{}
		}
		m.lacks[name] = c.lacks
		want = m.guard(name, want, k)
		p := PartPlan{Name: name, Kind: kindName, Version: c.program.Version, Program: c.program.Path,
			Origin: c.program.Origin, Role: k.Traits().Role, Data: k.Needs(want).Data,
			Facts: c.program.Facts, Want: want, Modules: c.extended.Load, Unfit: c.extended.Unfit,
			UpgradeFrom: c.upgrade.from, UpgradeWith: c.upgrade.with}
		p.Way = m.way(subject, k.Traits(), "")
		if c.upgrade.from != "" {
			why := "a newer program converts them, as you agreed; they are marked first"
			if c.upgrade.with != "" {
				why = c.upgrade.with +
					" dumps them, and the newer program loads them, as you agreed; they are marked first"
			}
			m.decide(subject.At("data"), "changed from "+c.upgrade.from, nil, why)
		}
		m.plan.Parts = append(m.plan.Parts, p)
		return
	}
	m.unmet(name, file, rejected)
}

// unmet says why no kind of the part's list fits.
func (m *maker) unmet(name string, file stackfile.PartConfig, rejected []Option) {
	want := strings.Join(file.Kind, " or ")
	if v := file.For(file.Kind[0]).Version; v != "" {
		want += " " + v
	}
	var found, missing []string
	for _, r := range rejected {
		found = append(found, r.Option+" ("+r.Because+")")
	}
	for _, k := range file.Kind {
		if !slices.ContainsFunc(m.in.Survey.Programs, func(p kind.Program) bool { return p.Kind == k }) {
			missing = append(missing, k)
		}
	}
	if o, ok := m.in.Offers[name]; ok {
		if m.plan.Supply == nil {
			m.plan.Supply = map[string]Supply{}
		}
		m.plan.Supply[name] = o
	}
	if len(missing) == len(file.Kind) {
		m.absent = append(m.absent, name)
	}
	m.plan.Lacks = append(m.plan.Lacks, Lack{Key: name, Part: name, Kinds: file.Kind})
	m.fault(trouble.NoProgram, about.Part(name),
		fmt.Sprintf("no program on this machine fits part %s, which needs %s", name, want),
		strings.Join(found, "; "), m.remedy(name, file, rejected, missing))
}

// remedy returns what the user can do about a part that no program fits. missing are those of its kinds of which this
// machine has no program.
func (m *maker) remedy(name string, file stackfile.PartConfig, rejected []Option, missing []string) string {
	written, hasData := m.in.History.Data[name]
	offer, offered := m.in.Offers[name]
	if consent := consentNext(name, rejected); consent != "" {
		return consent
	}
	switch k := m.carried(file.Kind); {
	case hasData && !slices.Contains(file.Kind, written.Kind):
		return fmt.Sprintf("kind = %q in %s keeps the data; dravit remove %s --data deletes it, for another kind",
			written.Kind, stackfile.Name, name)
	case hasData && older(file.For(written.Kind).Version, written.Version):
		return fmt.Sprintf("version = %q keeps the data, which no older program reads; or go back to what they were: "+
			"dravit db marks --part %s shows the marks",
			m.kinds[written.Kind].Needs(file.For(written.Kind)).SeriesOf(written.Version),
			name)
	case offered:
		return fmt.Sprintf("dravit start fetches %s %s from %s, after a yes", offer.Kind, offer.Version, offer.Source)
	case k != "":
		condition := ""
		if v := file.For(k).Version; v != "" {
			condition = " " + shell.Quote(v)
		}
		return "dravit start asks the sources for one, and fetches it after a yes, as does dravit supply " + k +
			condition
	}
	if slices.ContainsFunc(rejected, func(o Option) bool { return o.Code == trouble.NoExtension }) {
		return "install what it lacks, or remove that from the extensions of part " + name + " in " + stackfile.Name
	}
	if by := m.demandedBy(file.Kind); by != "" && len(missing) == 0 && file.For(file.Kind[0]).Version == "" {
		return "install a version that " + by + " accepts, or change " + by
	}
	if len(missing) > 0 {
		return "install " + strings.Join(missing, " or ") + ", or name another kind in " + stackfile.Name
	}
	return "change it in " + stackfile.Name + " to something that this machine has"
}

// install names the command that installs programs for all parts of which this machine has none.
func (m *maker) install() {
	var kinds []*kind.Traits
	for _, part := range m.absent {
		k := m.kinds[m.in.File.Parts[part].Kind[0]]
		if k == nil {
			return
		}
		kinds = append(kinds, k.Traits())
	}
	m.plan.Install = kind.Install(m.in.Survey.Host.Installer, kinds)
	for i, f := range m.plan.Faults {
		part, ok := f.Subject.PartName()
		if ok && m.plan.Install != "" && slices.Contains(m.absent, part) {
			m.plan.Faults[i].Next += "; or " + m.plan.Install
		}
	}
}

// carried returns the first of these kinds whose programs a source may have, or "".
func (m *maker) carried(kinds []string) string {
	for _, name := range kinds {
		if k := m.kinds[name]; k != nil && kind.RecipeOf(k).Suppliable() {
			return name
		}
	}
	return ""
}

// demandedBy returns a file of the project that demands a version of one of these kinds, or "" if none does.
func (m *maker) demandedBy(kinds []string) string {
	for _, folder := range slices.Sorted(maps.Keys(m.in.Project.Manifests)) {
		for _, d := range m.in.Project.Manifests[folder].Demands {
			if slices.Contains(kinds, d.Program) {
				return d.File
			}
		}
	}
	return ""
}

// uses decides which parts must run before each part.
func (m *maker) uses(file map[string]stackfile.PartConfig) {
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		p.Uses = p.Want.Uses
		tool := p.Role == kind.RoleTool
		if p.Want.Uses != nil || p.Role != kind.RoleRuntime && p.Role != kind.RoleApp && !tool {
			continue
		}
		for _, other := range m.plan.Parts {
			// Leave out a store that waits for this part.
			if tool && !m.kinds[other.Kind].Traits().Databases {
				continue
			}
			if other.Role.Store() && other.Name != p.Name && !slices.Contains(file[other.Name].Uses, p.Name) {
				p.Uses = append(p.Uses, other.Name)
			}
		}
		m.without(p)
	}
}

// older reports whether a condition allows only versions that are older than one: "15" or "< 16" for data of 17.
func older(condition, than string) bool {
	c, err := version.ParseConstraint(condition)
	if condition == "" || err != nil || c.Allows(than) || strings.Contains(condition, ">") {
		return false
	}
	number := strings.TrimLeft(condition, "<=~^ v")
	number, _, _ = strings.Cut(number, " ")
	return version.Compare(strings.TrimRight(number, ".,*x"), than) < 0 || strings.HasPrefix(condition, "<")
}
