package plan

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
)

// Format is the number of the JSON form of Input and Plan.
const Format = 1

// builtinWeb is the kind that serves the sites of a stack without a web server.
const builtinWeb = "dravit-web"

// Make makes every decision for a stack. Where a demand cannot be met, the plan is not OK and its Faults say why.
func Make(in Input, kinds map[string]kind.Kind) Plan {
	m := &maker{in: in, kinds: kinds, held: map[int][]survey.Port{}, taken: map[int]bool{}, stacks: map[string]bool{}, owner: in.StackID}
	for _, name := range in.Ledger.Stacks {
		m.stacks[name] = true
	}
	for _, x := range in.Survey.Ports {
		m.held[x.Port] = append(m.held[x.Port], x)
	}
	m.plan = Plan{Format: Format, Parts: []Part{}, Sites: []Site{}, Decisions: []Decision{}, Faults: []Fault{}, Changes: []Change{}, Notes: []string{}, Warnings: []string{}}
	number := m.name()
	file := m.addWebServer()
	names := slices.Sorted(maps.Keys(file))
	for _, runtimes := range []bool{false, true} { // which stores there are is known before the runtimes that must reach them
		for _, name := range names {
			if m.needsClients(file[name]) == runtimes {
				m.part(name, file[name])
			}
		}
	}
	slices.SortFunc(m.plan.Parts, func(a, b Part) int { return strings.Compare(a.Name, b.Name) })
	slices.SortStableFunc(m.plan.Decisions, func(a, b Decision) int { return strings.Compare(about(a.Subject), about(b.Subject)) })
	slices.SortStableFunc(m.plan.Faults, func(a, b Fault) int { return strings.Compare(about(a.Subject), about(b.Subject)) })
	m.uses(file)
	m.settings()
	m.ports()
	m.debuggers()
	m.sockets()
	m.gateway()
	m.sites(number)
	m.inboxes()
	m.requires()
	for _, folder := range slices.Sorted(maps.Keys(in.Project.Manifests)) {
		m.plan.Notes = append(m.plan.Notes, in.Project.Manifests[folder].Faults...)
	}
	m.changes()
	m.inOrder()
	m.plan.OK = len(m.plan.Faults) == 0
	return m.plan
}

type maker struct {
	in      Input
	kinds   map[string]kind.Kind
	plan    Plan
	held    map[int][]survey.Port
	taken   map[int]bool       // ports given in this plan
	stacks  map[string]bool    // names of other stacks
	offers  map[string][]offer // programs by kind
	library *kind.Library
	lacks   map[string][]lack // stores that runtimes cannot reach, by part
	added   string            // the web server that the plan added
	udp     bool              // the port that is sought is for datagrams, too
	owner   string            // whom a port is sought for: the stack's id, or GatewayOwner
}

func (m *maker) decide(subject, choice string, rejected []Option, because ...string) {
	if rejected == nil {
		rejected = []Option{}
	}
	m.plan.Decisions = append(m.plan.Decisions, Decision{subject, choice, because, rejected})
}

func (m *maker) fault(subject, what, because, next string) {
	m.plan.Faults = append(m.plan.Faults, Fault{subject, what, because, next})
}

// about is the thing that a subject speaks of: part.app of part.app.version.
func about(subject string) string {
	words := strings.SplitN(subject, ".", 3)
	return strings.Join(words[:min(2, len(words))], ".")
}

// needsClients tells whether a part may be a runtime that needs modules to reach stores.
func (m *maker) needsClients(p stackfile.Part) bool {
	return slices.ContainsFunc(p.Kind, func(k string) bool { _, ok := m.kinds[k].(kind.Client); return ok })
}

// inOrder puts the decisions about one thing together, in the order in which things were decided first.
func (m *maker) inOrder() {
	first := map[string]int{}
	for i, d := range m.plan.Decisions {
		if _, seen := first[about(d.Subject)]; !seen {
			first[about(d.Subject)] = i
		}
	}
	slices.SortStableFunc(m.plan.Decisions, func(a, b Decision) int { return first[about(a.Subject)] - first[about(b.Subject)] })
}

// name decides the stack's name: the one that it got before, else its own, or with a number where another folder has it. The number
// counts from 2; 1 is no number.
func (m *maker) name() int {
	want, before := m.in.File.Name, 0
	if rest, ok := strings.CutPrefix(m.in.Ledger.Name, want); ok {
		if rest == "" {
			before = 1
		} else if n, err := strconv.Atoi(strings.TrimPrefix(rest, "-")); err == nil && numbered(want, n) == m.in.Ledger.Name {
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
		m.decide("name", m.plan.Stack, nil, "the stack had this name before")
	case n > 1:
		m.decide("name", m.plan.Stack, []Option{{Option: want, Because: "another folder's stack has this name, or a site's name"}}, "the first number that is free")
	}
	return n
}

// clash tells whether another stack has the name of that number, or one of its sites'.
func (m *maker) clash(n int) bool {
	clash := m.stacks[numbered(m.in.File.Name, n)]
	for _, s := range m.in.File.Sites {
		if s.Each != "" {
			continue // a folder whose name is taken is passed over
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

// addWebServer returns the parts of the file, with a web server of Dravit's own where sites have none.
func (m *maker) addWebServer() map[string]stackfile.Part {
	parts := maps.Clone(m.in.File.Parts)
	if parts == nil {
		parts = map[string]stackfile.Part{}
	}
	needed := slices.ContainsFunc(m.in.File.Sites, func(s stackfile.Site) bool { return s.Server == "" })
	for _, p := range parts {
		for _, k := range p.Kind {
			if m.kinds[k] != nil && m.kinds[k].Role() == kind.Web {
				needed = false
			}
		}
	}
	if needed {
		name := "web"
		for n := 2; parts[name].Kind != nil; n++ {
			name = fmt.Sprintf("web-%d", n)
		}
		parts[name] = stackfile.Part{Kind: stackfile.Texts{builtinWeb}}
		m.added = name
	}
	return parts
}

// part decides the kind, the version and the program of one part.
func (m *maker) part(name string, file stackfile.Part) {
	subject := "part." + name
	var rejected []Option
	written, hasData := m.in.History.Data[name]
	for i, kindName := range file.Kind {
		k, ok := m.kinds[kindName]
		if !ok {
			rejected = append(rejected, Option{Option: kindName, Because: "this version of Dravit has no such kind"})
			continue
		}
		if hasData && k.Needs(file.For(kindName)).Data && written.Kind != kindName || hasData && !k.Needs(file.For(kindName)).Data {
			rejected = append(rejected, Option{Option: kindName, Because: fmt.Sprintf("the part's data was written by %s %s, and another kind would start empty", written.Kind, written.Version)})
			continue
		}
		want := file.For(kindName)
		c := m.program(name, k, want, written)
		rejected = append(rejected, c.rejected...)
		if c.program == nil {
			continue
		}
		if len(file.Kind) > 1 {
			m.decide(subject+".kind", kindName, kindsOf(rejected, file.Kind[:i]), "the first kind of the list that this machine has and that meets every demand")
		}
		if name == m.added {
			c.because = []string{"the stack has sites and no web server of its own, so Dravit serves them"}
		}
		m.decide(subject+".version", strings.TrimSpace(kindName+" "+c.program.Version), c.rejected, c.because...)
		m.extensions(subject, c)
		if m.lacks == nil {
			m.lacks = map[string][]lack{}
		}
		m.lacks[name] = c.lacks
		p := Part{Name: name, Kind: kindName, Version: c.program.Version, Program: c.program.Path, Origin: c.program.Origin, Role: k.Role(), Data: k.Needs(want).Data,
			Facts: c.program.Facts, Want: want, Modules: c.extended.Load, Unfit: c.extended.Unfit, UpgradeFrom: c.upgrade}
		if c.upgrade != "" {
			m.decide(subject+".data", "changed from "+c.upgrade, nil, "a newer program takes it over, with consent; a copy is made first")
		}
		m.plan.Parts = append(m.plan.Parts, p)
		return
	}
	m.unmet(name, file, rejected)
}

// kindsOf keeps of the options turned down those that speak of whole kinds, one a kind.
func kindsOf(rejected []Option, kinds []string) []Option {
	var out []Option
	for _, k := range kinds {
		for _, r := range rejected {
			if r.Option == k || strings.HasPrefix(r.Option, k+" ") {
				out = append(out, Option{Option: k, Because: r.Because})
				break
			}
		}
	}
	return out
}

// unmet says why no kind of the part's list serves.
func (m *maker) unmet(name string, file stackfile.Part, rejected []Option) {
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
	next := "change it in " + stackfile.Name + " to something that is here"
	if consent := m.consentNext(name, rejected); consent != "" {
		next = consent
	} else if len(missing) > 0 {
		next = "install " + strings.Join(missing, " or ") + ", or name another kind in " + stackfile.Name
	}
	m.fault("part."+name, fmt.Sprintf("nothing here satisfies part %s, which wants %s", name, want), strings.Join(found, "; "), next)
}

// series cuts a version to the numbers within which programs read each other's data.
func series(k kind.Kind, want stackfile.Part, v string) string {
	n := k.Needs(want).Series
	if n == 0 {
		n = 2
	}
	numbers := strings.Split(v, ".")
	return strings.Join(numbers[:min(n, len(numbers))], ".")
}

// uses decides what each part needs running.
func (m *maker) uses(file map[string]stackfile.Part) {
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		p.Uses = p.Want.Uses
		if p.Want.Uses != nil || p.Role != kind.Runtime && p.Role != kind.App {
			continue
		}
		for _, other := range m.plan.Parts {
			// A store that waits for this part cannot be waited for.
			if other.Role.Store() && other.Name != p.Name && !slices.Contains(file[other.Name].Uses, p.Name) {
				p.Uses = append(p.Uses, other.Name)
			}
		}
		m.without(p)
	}
}

// ports gives every part that needs one its port: a pin, the one it had, or the first that is free.
func (m *maker) ports() {
	for _, p := range m.plan.Parts { // pins first: no free choice may take one
		if p.Want.Port != 0 {
			m.taken[p.Want.Port] = true
		}
	}
	pinned := map[int]string{}
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		needs := m.kinds[p.Kind].Needs(p.Want)
		subject := "part." + p.Name + ".port"
		switch {
		case p.Want.Port != 0:
			p.Port = p.Want.Port
			if other := pinned[p.Port]; other != "" {
				m.fault(subject, fmt.Sprintf("port %d is pinned twice", p.Port), "parts "+other+" and "+p.Name+" both ask for it", "change one in "+stackfile.Name)
				continue
			}
			pinned[p.Port] = p.Name
			if low := lowest(m.in.Survey.Host); p.Port < low {
				m.fault(subject, fmt.Sprintf("port %d, pinned by part %s, is out of this user's reach", p.Port, p.Name), fmt.Sprintf("the ports below %d need a privilege", low),
					fmt.Sprintf("sudo sysctl net.ipv4.ip_unprivileged_port_start=%d, or pin a port from %d upwards in %s", p.Port, low, stackfile.Name))
				continue
			}
			if holder, held := m.holder(p.Port); held {
				m.fault(subject, fmt.Sprintf("port %d, pinned by part %s, is taken", p.Port, p.Name), "it is held by "+holder, m.freeing(p.Port))
				continue
			}
			m.decide(subject, fmt.Sprint(p.Port), nil, "the stack file pins it")
		case needs.Port:
			var rejected []Option
			had := m.in.Ledger.Ports[p.Name]
			if had != 0 {
				if why := m.refuse(had); why == "" {
					p.Port = had
					m.decide(subject, fmt.Sprint(had), nil, "it is the port that the part had before")
					m.taken[had] = true
					continue
				} else {
					rejected = append(rejected, Option{Option: fmt.Sprint(had), Because: why})
				}
			}
			p.Port, rejected = m.free(needs.PortBase, rejected)
			m.taken[p.Port] = true
			if p.Port == 0 {
				m.fault(subject, "no port is free for part "+p.Name, fmt.Sprintf("every port from %d to %d is taken", needs.PortBase, m.in.Survey.Host.EphemeralLow), "end a program that listens, or pin a port in "+stackfile.Name)
				continue
			}
			m.decide(subject, fmt.Sprint(p.Port), rejected, fmt.Sprintf("the first free port from %d", needs.PortBase))
			if had != 0 {
				m.plan.Changes = append(m.plan.Changes, Change{Subject: subject, Was: fmt.Sprint(had), Now: fmt.Sprint(p.Port), Because: fmt.Sprintf("%d is %s", had, rejected[0].Because)})
			}
		}
	}
}

// sockets names the sockets, some of which carry the port in their names.
func (m *maker) sockets() {
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		if needs := m.kinds[p.Kind].Needs(p.Want); needs.Socket {
			name := strings.ReplaceAll(or(needs.SocketName, p.Name+".sock"), "{port}", fmt.Sprint(p.Port))
			p.Socket = filepath.Join(m.in.Run, m.in.StackID, name)
		}
	}
}

// gateway decides the gateway's ports: for HTTP and for HTTPS.
func (m *maker) gateway() {
	if len(m.in.File.Sites) == 0 && !slices.ContainsFunc(m.plan.Parts, func(p Part) bool { return p.Role == kind.Mail }) {
		m.plan.Gateway, m.plan.Secure, m.plan.Resolver = m.in.Ledger.Gateway, m.in.Ledger.Secure, m.in.Ledger.Resolver
		return
	}
	m.owner = GatewayOwner
	defer func() { m.owner = m.in.StackID }()
	m.plan.Gateway = m.gatewayPort("gateway.port", m.in.Ledger.Gateway, m.in.Gateway.HTTP, 80, 8080)
	m.taken[m.plan.Gateway] = true
	m.plan.Secure = m.gatewayPort("gateway.secure", m.in.Ledger.Secure, m.in.Gateway.HTTPS, 443, 8443)
	m.taken[m.plan.Secure] = true
	m.plan.Resolver = m.in.Ledger.Resolver
	if slices.ContainsFunc(m.in.File.Sites, func(s stackfile.Site) bool { return s.HostSuffix() != stackfile.DefaultSuffix }) {
		m.udp = true
		m.plan.Resolver = m.gatewayPort("gateway.resolver", m.in.Ledger.Resolver, 0, resolverBase, resolverBase)
		m.taken[m.plan.Resolver] = true
		m.udp = false
	}
}

// resolverBase is where the search for the resolver's port begins: 53 is the system's own, 5353 and 5355 are multicast.
const resolverBase = 5380

// gatewayPort chooses one of the gateway's ports: the one that it listens on now, the one that the settings want, the one that browsers take
// by themselves, the one that it had before, or the first free one. It does not move while it runs: other stacks' addresses have the port.
func (m *maker) gatewayPort(subject string, had, wanted, usual, base int) int {
	running := slices.ContainsFunc(m.held[had], func(p survey.Port) bool { return p.Stack == GatewayOwner })
	best, because := usual, "this user may listen on it, so addresses need no port"
	if usual == base {
		because = "the first that is tried"
	}
	if wanted != 0 {
		best, because = wanted, "Dravit's settings want it"
	}
	var rejected []Option
	for _, try := range []struct {
		port    int
		because string
	}{{map[bool]int{true: had}[running], "the gateway has it"}, {best, because}, {map[bool]int{true: had}[wanted == 0], "the gateway had it before"}} {
		if try.port == 0 {
			continue
		}
		why := m.refuse(try.port)
		if why == "" {
			m.decide(subject, fmt.Sprint(try.port), rejected, try.because)
			return try.port
		}
		rejected = append(rejected, Option{Option: fmt.Sprint(try.port), Because: why})
	}
	port, rejected := m.free(base, rejected)
	if port == 0 {
		m.fault(subject, "no port is free for the gateway", fmt.Sprintf("every port from %d is taken", base), "end a program that listens")
		return 0
	}
	m.decide(subject, fmt.Sprint(port), rejected, fmt.Sprintf("the first free port from %d", base))
	return port
}

// GatewayOwner is the owner of the gateway's port in Survey.Ports.
const GatewayOwner = "gateway"

// udp is the protocol of datagrams in Survey.Ports, which matters for the resolver alone.
const udp = "udp"

// holder tells who holds a port, if it is somebody else.
func (m *maker) holder(port int) (string, bool) {
	for _, x := range m.held[port] {
		if x.Protocol == udp && !m.udp {
			continue
		}
		if x.Stack == "" || x.Stack != m.owner {
			return m.describe(x), true
		}
	}
	return "", false
}

func (m *maker) describe(x survey.Port) string {
	if x.Stack == GatewayOwner {
		return "Dravit's gateway"
	}
	if x.Stack != "" {
		if name := m.in.Ledger.Others[x.Port]; name != "" {
			return "the stack " + name
		}
		return "another stack"
	}
	who := "a program of " + or(x.User, "another user")
	if x.Program != "" {
		who = fmt.Sprintf("%s (pid %d, user %s", x.Program, x.PID, or(x.User, "unknown"))
		if x.Service != "" {
			who += ", service " + x.Service
		}
		if !x.Since.IsZero() {
			who += ", since " + x.Since.Format("2006-01-02 15:04 MST")
		}
		who += ")"
	}
	return who
}

func or(a, b string) string {
	if a == "" {
		return b
	}
	return a
}

// freeing says how a pinned port can be had.
func (m *maker) freeing(port int) string {
	for _, x := range m.held[port] {
		if name := m.in.Ledger.Others[port]; x.Stack != "" && name != "" {
			return "dravit stop --stack " + name + ", or pin another port in " + stackfile.Name
		}
		if x.Service != "" {
			return fmt.Sprintf("end it (sudo systemctl stop %s), or pin another port in %s", x.Service, stackfile.Name)
		}
		if x.PID != 0 {
			return fmt.Sprintf("end it (kill %d), or pin another port in %s", x.PID, stackfile.Name)
		}
	}
	return "pin another port in " + stackfile.Name
}

// lowest is the lowest port that a user may listen on. A survey that does not tell is of an ordinary user.
func lowest(h survey.Host) int {
	if h.LowestPort == 0 {
		return 1024
	}
	return h.LowestPort
}

// unsafe are ports that browsers refuse to open (WHATWG Fetch, "bad port"), of those above 1023.
var unsafe = []int{1719, 1720, 1723, 2049, 3659, 4045, 4190, 5060, 5061, 6000, 6566, 6665, 6666, 6667, 6668, 6669, 6679, 6697, 10080}

// refuse tells why a port cannot be given, "" where it can.
func (m *maker) refuse(port int) string {
	h := m.in.Survey.Host
	switch holder, held := m.holder(port); {
	case held:
		return "held by " + holder
	case m.taken[port]:
		return "another part of this stack has it"
	case m.in.Ledger.Others[port] != "":
		return "it belongs to the stack " + m.in.Ledger.Others[port]
	case (port == m.in.Ledger.Gateway || port == m.in.Ledger.Secure || port == m.in.Ledger.Resolver) && m.owner != GatewayOwner:
		return "it is the gateway's"
	case port < lowest(h):
		return "it needs a privilege that this user does not have"
	case h.EphemeralLow <= port && port <= h.EphemeralHigh:
		return "the system gives it to outgoing connections"
	case slices.Contains(unsafe, port):
		return "browsers refuse it"
	}
	return ""
}

// Port tells what a plan would make of a port that a part wants: why it cannot be given ("" where it can), and the first above it that can.
func Port(in Input, port int) (because string, instead int) {
	m := &maker{in: in, held: map[int][]survey.Port{}, taken: map[int]bool{}, owner: in.StackID}
	for _, x := range in.Survey.Ports {
		m.held[x.Port] = append(m.held[x.Port], x)
	}
	if because = m.refuse(port); because != "" {
		instead, _ = m.free(port, nil)
	}
	return because, instead
}

// free finds the first port from base that can be given, 0 where there is none, and adds what it passed over on the way.
func (m *maker) free(base int, rejected []Option) (int, []Option) {
	for port := base; port < 65536; port++ {
		why := m.refuse(port)
		if why == "" {
			return port, rejected
		}
		if len(rejected) < 5 {
			rejected = append(rejected, Option{Option: fmt.Sprint(port), Because: why})
		}
	}
	return 0, rejected
}
