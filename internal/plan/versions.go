package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/project"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
	"dravit/internal/trouble"
	"dravit/internal/version"
)

// offer is a program with its parsed version: versions are compared often.
type offer struct {
	program kind.Program
	version version.Version // zero if it has none
}

// demand is one condition that a version must meet.
type demand struct {
	constraint version.Constraint
	wants      string // the demand in words: "composer.json wants ^8.2"
}

// candidate is a program that can serve a part, or none, with the reasons.
type candidate struct {
	program  *kind.Program
	extended kind.Extended
	because  []string
	rejected []Option
	upgrade  upgrade
	reaches  [][2]string // modules that were added, with the store that each reaches
	lacks    []lack      // the stores that it cannot reach
}

// upgrade says how a program gets the data that another version wrote; it is zero if the program reads them.
type upgrade struct {
	from string // the version that wrote them
	with string // a program of that release, if the kind ReloadsOlder
}

// flaws counts what speaks against a candidate without excluding it.
func (c candidate) flaws() int { return len(c.extended.Unfit) + len(c.lacks) }

// supplied reports whether Dravit fetched the program.
func (c candidate) supplied() bool { return c.program.Origin == survey.Supply }

// offersOf returns the programs of a kind, the newest first.
func (m *maker) offersOf(k kind.Kind) []offer {
	if len(k.Traits().Programs) == 0 {
		own := kind.Program{
			Kind:    k.Traits().Name,
			Version: cmp.Or(k.Traits().BuiltIn, m.in.Version),
			Origin:  "built-in",
		}
		if k.Traits().Role == kind.RoleApp { // the project's own command: Dravit does not know its version
			own.Version, own.Origin = "", "project"
		}
		return []offer{{program: own}}
	}
	if m.offers == nil {
		m.offers = map[string][]offer{}
		for _, p := range m.in.Survey.Programs {
			v, _ := version.Parse(p.Version) // a program without a version sorts last
			m.offers[p.Kind] = append(m.offers[p.Kind], offer{p, v})
		}
		for _, all := range m.offers {
			slices.SortStableFunc(all, func(a, b offer) int { return b.version.Compare(a.version) })
		}
	}
	return m.offers[k.Traits().Name]
}

// modules returns what the machine and the project have, indexed once.
func (m *maker) modules() *kind.Library {
	if m.library == nil {
		m.library = kind.NewLibrary(slices.Concat(m.in.Project.Modules, m.in.Survey.Modules))
	}
	return m.library
}

// demands returns what the stack file and the project's files demand of the version of a part. A version in the stack
// file overrides a file that pins a version for another tool, but not a file that says what the code needs.
func (m *maker) demands(name string, k kind.Kind, want stackfile.PartConfig) []demand {
	var all []demand
	if want.Version != "" {
		if c, err := version.ParseConstraint(want.Version); err == nil {
			all = append(all, demand{c, "the stack file demands " + want.Version})
		}
	}
	for _, folder := range m.foldersOf(name) {
		for _, d := range m.in.Project.Manifests[folder].Demands {
			if d.Program != k.Traits().Name || d.Grammar == version.Pin && want.Version != "" {
				continue
			}
			if c, err := version.Read(d.Grammar, d.Text); err == nil {
				all = append(all, demand{c, d.File + " wants " + d.Text})
			}
		}
	}
	return all
}

// foldersOf returns the folders whose manifests are about a part: for each of its sites, the nearest folder above the
// document root that has any, else the project's own.
func (m *maker) foldersOf(part string) []string {
	var folders []string
	for _, s := range m.in.File.Sites {
		if s.App != part || s.Root == "" {
			continue
		}
		for _, folder := range project.Above(s.Root) {
			if _, ok := m.in.Project.Manifests[folder]; ok {
				if !slices.Contains(folders, folder) {
					folders = append(folders, folder)
				}
				break
			}
		}
	}
	if folders == nil {
		folders = []string{"."}
	}
	return folders
}

// wanted adds the extensions that the project's files demand to those of a part.
func (m *maker) wanted(name string, k kind.Kind, want stackfile.PartConfig) (stackfile.PartConfig, map[string]string) {
	by := map[string]string{}
	for _, folder := range m.foldersOf(name) {
		for _, e := range m.in.Project.Manifests[folder].Extensions {
			if e.Program == k.Traits().Name {
				by[e.Name] = e.File + " wants it"
				want.Also = append(want.Also, e.Name)
			}
		}
	}
	return want, by
}

// program chooses the program of a kind for a part among those that meet every demand: the one that served the last
// good start, else the newest. It says why each other one does not fit or was not taken.
func (m *maker) program(name string, k kind.Kind, want stackfile.PartConfig, written Written) candidate {
	offers := m.offersOf(k)
	if len(offers) == 0 {
		return candidate{rejected: []Option{{Option: k.Traits().Name, Because: "this machine has none"}}}
	}
	demands := m.demands(name, k, want)
	runtime, extends := k.(kind.Runtime)
	var by map[string]string
	if extends {
		want, by = m.wanted(name, k, want)
	}
	var rejected []Option
	var fitting []candidate
	for i := range offers {
		c := candidate{program: &offers[i].program}
		why, code := c.program.Facts[kind.FactRefused], trouble.Code("")
		if why == "" {
			why = m.refuseVersion(c.program, demands)
		}
		if why == "" {
			why = m.refuseUnlocked(name, k.Traits().Name, c.program.Path)
		}
		if why == "" && written.Version != "" {
			c.upgrade, why, code = m.data(name, k, want, c.program, written)
		}
		if why == "" {
			why = k.Fit(want, *c.program)
		}
		if why == "" && extends {
			c.extended = runtime.Extend(want, *c.program, m.modules())
			if why = missing(c.extended.Missing, by); why != "" {
				code = trouble.NoExtension
			} else {
				why = m.reach(&c, k, want)
			}
		}
		if why != "" {
			rejected = append(rejected, Option{Option: option(c.program), Because: why, Code: code})
			continue
		}
		fitting = append(fitting, c)
	}
	if len(fitting) == 0 {
		return candidate{rejected: rejected}
	}
	best, kept := m.choose(name, k, fitting)
	if asked := slices.Contains(m.in.Consent.Upgrade, name); asked && fitting[best].upgrade.from == "" &&
		written.Version != "" && version.Compare(fitting[best].program.Version, written.Version) <= 0 {
		m.plan.Warnings = append(m.plan.Warnings,
			fmt.Sprintf("part %s is not upgraded: no newer program than %s %s fits it",
				name, k.Traits().Name, written.Version))
	}
	chosen := fitting[best]
	chosen.rejected = append(rejected, passedOver(fitting[:best], chosen)...)
	chosen.because = because(chosen.program, want, demands, len(offers), len(fitting), kept)
	return chosen
}

// refuseUnlocked says that a program is not the one that the project's lock names for a part or requirement, or "". If
// this machine does not have that one, another one serves unless the user wants the locked one only.
func (m *maker) refuseUnlocked(key, kindName, path string) string {
	lock, ok := m.in.Locked[key]
	if !ok || lock.Kind != kindName || path == lock.Program || lock.Program == "" && !m.in.Consent.Locked {
		return ""
	}
	return "the lock names " + lock.Kind + " " + lock.Version + " from supply"
}

// unlocked warns if a part or requirement runs on another program than the project's lock names for it. label is what
// the user calls it.
func (m *maker) unlocked(key, label string, p kind.Program) {
	lock, ok := m.in.Locked[key]
	if !ok || lock.Program != "" && lock.Program == p.Path {
		return
	}
	here := p.Kind + " " + p.Version
	if p.Origin == survey.Supply && p.Version == lock.Version {
		here = "one of other packages"
	}
	text := fmt.Sprintf("%s is locked to %s %s from supply, and runs on %s here", label, lock.Kind, lock.Version, here)
	if lock.Because != "" {
		text += ": " + lock.Because
	} else {
		text += "; dravit start --locked fetches the locked one"
	}
	m.plan.Warnings = append(m.plan.Warnings, text)
}

// choose returns the program to take, of those that meet every demand, the newest first: the one with the fewest flaws,
// of those an installed one before one that Dravit fetched; or the one that served the last good start if it has no
// more flaws. Flaws are stores out of reach and modules of the project that do not fit. They exclude nothing: another
// part may use the store, and modules can be built again.
func (m *maker) choose(name string, k kind.Kind, fitting []candidate) (best int, kept bool) {
	upgrade := slices.Contains(m.in.Consent.Upgrade, name) // to the newest, wherever it is from
	for i, c := range fitting {
		fewer := c.flaws() - fitting[best].flaws()
		if fewer < 0 || fewer == 0 && fitting[best].supplied() && !c.supplied() && !upgrade {
			best = i
		}
	}
	good, had := m.in.History.Good.Parts[name]
	if !had || good.Kind != k.Traits().Name || m.in.Consent.Afresh || upgrade {
		return best, false
	}
	i := slices.IndexFunc(fitting, func(c candidate) bool { return c.program.Path == good.Program })
	if i < 0 || fitting[i].flaws() > fitting[best].flaws() {
		return best, false
	}
	return i, i != best
}

// passedOver says why each of the newer programs was not taken.
func passedOver(newer []candidate, chosen candidate) []Option {
	var out []Option
	for _, c := range newer {
		why := "the part ran well on " + chosen.program.Version +
			", which still meets every condition (dravit start --afresh chooses again)"
		switch {
		case len(c.lacks) > 0:
			why = c.lacks[0].because
		case c.supplied() && !chosen.supplied():
			why = "an installed program goes before one that was fetched"
		case len(c.extended.Unfit) > 0:
			why = c.extended.Unfit[0].File + " of the project does not fit: " + c.extended.Unfit[0].Because
		}
		out = append(out, Option{Option: option(c.program), Because: why})
	}
	return out
}

func option(p *kind.Program) string {
	text := strings.TrimSpace(p.Kind + " " + p.Version)
	if p.Path != "" {
		text += " at " + p.Path
	}
	return text
}

func (m *maker) refuseVersion(p *kind.Program, demands []demand) string {
	for _, d := range demands {
		if !d.constraint.Allows(p.Version) {
			return d.wants
		}
	}
	return ""
}

// missing says which modules a program lacks, and why each file with such a name does not fit. by says who demands
// them, if that is not the stack file.
func missing(all []kind.Choice, by map[string]string) string {
	if len(all) == 0 {
		return ""
	}
	var names, why []string
	for _, c := range all {
		name := c.Name
		if who := strings.TrimSuffix(by[c.Name], " wants it"); who != "" {
			name += " of " + who
		}
		names = append(names, name)
		for _, r := range c.Rejected {
			why = append(why, r.Option+": "+r.Because)
		}
	}
	text := "it has no extension " + strings.Join(names, ", ")
	if len(why) > 0 {
		text += " (" + strings.Join(why, "; ") + ")"
	}
	return text
}

// data reports whether a program may have the data that another version wrote: an older one never, a newer one where it
// can, with consent.
func (m *maker) data(name string, k kind.Kind, want stackfile.PartConfig, p *kind.Program, written Written,
) (up upgrade, refusal string, code trouble.Code) {
	needs := k.Needs(want)
	wrote := "the data was written by " + written.Version
	order := version.Compare(needs.SeriesOf(p.Version), needs.SeriesOf(written.Version))
	switch {
	case order < 0:
		return up, wrote + ", and an older server would damage it", ""
	case order == 0 || needs.Older == kind.ReadsOlder:
		return up, "", ""
	}
	up.from = written.Version
	if needs.Older == kind.ReloadsOlder {
		of := needs.SeriesOf(written.Version)
		i := slices.IndexFunc(m.offersOf(k), func(o offer) bool { return needs.SeriesOf(o.program.Version) == of })
		if i < 0 {
			return up, wrote + ", which it cannot read, and this machine has no " + k.Traits().Name + " " + of +
				" to dump them", ""
		}
		up.with = m.offersOf(k)[i].program.Path
	}
	if !slices.Contains(m.in.Consent.Upgrade, name) {
		return up, wrote + ", and it would convert the data for good, to which you have not agreed",
			trouble.NeedsConsent
	}
	return up, "", ""
}

// consentNext returns the command by which the user agrees to what keeps a part from running, or "" if no consent is
// missing.
func consentNext(name string, rejected []Option) string {
	if slices.ContainsFunc(rejected, func(o Option) bool { return o.Code == trouble.NeedsConsent }) {
		return "dravit start --upgrade " + name +
			", which marks the data first; or install the version that wrote them"
	}
	return ""
}

func because(p *kind.Program, want stackfile.PartConfig, demands []demand, found, fitting int, kept bool) []string {
	var why []string
	if p.Origin == "project" {
		return append(why, "it is the project's own: "+want.Command)
	}
	if p.Path == "" {
		return append(why, "it is built into Dravit")
	}
	for _, d := range demands {
		why = append(why, d.wants)
	}
	switch p.Facts[kind.FactLaunch] {
	case "loader":
		why = append(why, "Dravit fetched it, and its own loader starts it, so that it sees this machine's programs")
	case "namespace":
		why = append(why, "Dravit fetched it, and starts it in a namespace, where its packages are the system")
	}
	switch {
	case found == 1:
		why = append(why, "it is the only one on this machine")
	case kept:
		why = append(why, "the last good start ran on it, and it still meets every condition")
	case fitting == 1:
		why = append(why, fmt.Sprintf("it is the only one of %d that fits", found))
	default:
		why = append(why, fmt.Sprintf("it is the newest of %d that fit", fitting))
	}
	return why
}

// extensions records the decision about each module that a part wants by name.
func (m *maker) extensions(subject about.Subject, c candidate) {
	part, _ := subject.PartName()
	_, by := m.wanted(part, m.kinds[c.program.Kind], m.in.File.Parts[part].For(c.program.Kind))
	for _, x := range c.extended.Chosen {
		var why []string // who demands it, then how it fits
		if i := slices.IndexFunc(c.reaches, func(r [2]string) bool { return r[0] == x.Name }); i >= 0 {
			why = append(why,
				"the part uses "+c.reaches[i][1]+", and its list of extensions names none to connect to it")
		}
		if reason := by[x.Name]; reason != "" {
			why = append(why, reason)
		}
		state := kind.Loads
		if x.File == "" {
			state = kind.BuiltIn
		}
		m.decideExtension(state, subject.At("extensions").At(x.Name), cmp.Or(x.File, "built in"),
			x.Rejected, append(why, x.Because)...)
	}
	for _, x := range c.extended.Unfit {
		m.decideExtension(kind.Misfit, subject.At("extensions").At(x.Name), "unfit: "+x.File, nil, x.Because)
	}
}

func (m *maker) decideExtension(state kind.EntryState, subject about.Subject, choice string, rejected []Option,
	because ...string) {
	m.decide(subject, choice, rejected, because...)
	m.plan.Decisions[len(m.plan.Decisions)-1].State = state
}

// debuggers decides the port on which an editor waits for each part with a debugger. A waiting editor already holds the
// port, so only the ledger counts.
func (m *maker) debuggers() {
	const base = 9003
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		if !p.Want.Debugger {
			continue
		}
		subject := about.Part(p.Name).At("debugger")
		if had := m.in.Ledger.Ports[DebugKey(p.Name)]; had != 0 && m.in.Ledger.Others[had] == "" && !m.taken[had] {
			p.Debug = had
			m.decide(subject, fmt.Sprint(had), nil, "the part had this port before")
		} else {
			var rejected []Option
			for p.Debug = base; m.in.Ledger.Others[p.Debug] != "" || m.taken[p.Debug]; p.Debug++ {
				why := "another part of this stack has it"
				if other := m.in.Ledger.Others[p.Debug]; other != "" {
					why = "it belongs to the stack " + other
				}
				rejected = append(rejected, Option{Option: fmt.Sprint(p.Debug), Because: why})
			}
			m.decide(subject, fmt.Sprint(p.Debug), rejected,
				fmt.Sprintf("the first port from %d that no other stack has; an editor listens on it", base))
		}
		m.taken[p.Debug] = true
	}
}

// DebugKey returns the name of the port of a part's debugger in the ledger. No part can have this name.
func DebugKey(part string) string { return part + ".debugger" }

// Runtime returns the program that a plan gave to a part, with what it has of the wanted modules. If the plan has none,
// it returns the newest program whose version fits, with what it lacks, or nil.
func Runtime(in Input, p Plan, kinds map[string]kind.Kind, name string) (*kind.Program,
	kind.Extended, stackfile.PartConfig) {
	m := &maker{in: in, kinds: kinds}
	file := in.File.Parts[name]
	for _, kindName := range file.Kind {
		k := kinds[kindName]
		runtime, ok := k.(kind.Runtime)
		if !ok {
			continue
		}
		want, _ := m.wanted(name, k, file.For(kindName))
		var best *kind.Program
		for _, o := range m.offersOf(k) {
			planned := slices.ContainsFunc(p.Parts, func(x PartPlan) bool {
				return x.Name == name && x.Kind == kindName && x.Program == o.program.Path
			})
			if planned || best == nil && m.refuseVersion(&o.program, m.demands(name, k, want)) == "" {
				best = &o.program
			}
			if planned {
				break
			}
		}
		if best != nil {
			return best, runtime.Extend(want, *best, m.modules()), want
		}
	}
	return nil, kind.Extended{}, file
}
