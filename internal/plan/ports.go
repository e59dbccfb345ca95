package plan

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
	"dravit/internal/survey"
	"dravit/internal/trouble"
)

// resolverBase is where the search for the DNS port begins: 53 is the system's own, 5353 and 5355 are multicast.
const resolverBase = 5380

// GatewayOwner is the owner of the gateway's port in Survey.Ports.
const GatewayOwner = "gateway"

// udp is the protocol in Survey.Ports that matters for the DNS port only.
const udp = "udp"

// unsafe are ports above 1023 that browsers refuse to open (WHATWG Fetch, "bad port").
var unsafe = []int{1719, 1720, 1723, 2049, 3659, 4045, 4190, 5060, 5061, 6000, 6566, 6665, 6666,
	6667, 6668, 6669, 6679, 6697, 10080}

// ports decides the port of every part that needs one: its pin, the port that it had, or the first free one.
func (m *maker) ports() {
	for _, p := range m.plan.Parts { // pins first: no other part may take such a port
		if p.Want.Port != 0 {
			m.taken[p.Want.Port] = true
		}
	}
	pinned := map[int]string{}
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		if p.Way == kind.WayOutside {
			continue
		}
		needs := m.kinds[p.Kind].Needs(p.Want)
		subject := about.Part(p.Name).At("port")
		switch {
		case p.Want.Port != 0:
			p.Port = p.Want.Port
			if other := pinned[p.Port]; other != "" {
				m.fault(trouble.Contradiction, subject, fmt.Sprintf("port %d is pinned twice", p.Port),
					"parts "+other+" and "+p.Name+" both pin it", "change one in "+stackfile.Name)
				continue
			}
			pinned[p.Port] = p.Name
			if low := lowest(m.in.Survey.Host); p.Port < low {
				next := fmt.Sprintf("pin a port from %d upwards in %s", low, stackfile.Name)
				if m.in.Survey.Host.OS == "linux" { // macOS has no such setting
					next = fmt.Sprintf("sudo sysctl net.ipv4.ip_unprivileged_port_start=%d, or %s", p.Port, next)
				}
				m.fault(trouble.PortForbidden, subject,
					fmt.Sprintf("part %s pins port %d, which you may not open", p.Name, p.Port),
					fmt.Sprintf("ports below %d are privileged", low), next)
				continue
			}
			if holder, held := m.holder(p.Port); held {
				m.fault(trouble.PortTaken, subject, fmt.Sprintf("port %d, pinned by part %s, is taken", p.Port, p.Name),
					"it is held by "+holder, m.freeing(p.Port))
				continue
			}
			m.decide(subject, fmt.Sprint(p.Port), nil, "the stack file pins it")
		case needs.Port:
			var rejected []Option
			had := m.in.Ledger.Ports[p.Name]
			if had != 0 {
				if why := m.refuse(had); why == "" {
					p.Port = had
					m.decide(subject, fmt.Sprint(had), nil, "the part had this port before")
					m.taken[had] = true
					m.moved(subject, p.Name, had, "its port was taken at an earlier start")
					continue
				} else {
					rejected = append(rejected, Option{Option: fmt.Sprint(had), Because: why})
				}
			}
			p.Port, rejected = m.free(needs.PortBase, rejected)
			m.taken[p.Port] = true
			if p.Port == 0 {
				m.fault(trouble.NoPort, subject, "no port is free for part "+p.Name,
					fmt.Sprintf("every port from %d to %d is taken", needs.PortBase, m.in.Survey.Host.EphemeralLow),
					"stop a program that listens, or pin a port in "+stackfile.Name)
				continue
			}
			m.decide(subject, fmt.Sprint(p.Port), rejected, fmt.Sprintf("the first free port from %d", needs.PortBase))
			if had != 0 {
				m.moved(subject, p.Name, p.Port, fmt.Sprintf("%d is %s", had, rejected[0].Because))
			}
		}
	}
}

// morePorts decides the further ports of each part: the one that it had, or the first free one.
func (m *maker) morePorts() {
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		if p.Way == kind.WayOutside {
			continue
		}
		for _, more := range m.kinds[p.Kind].Needs(p.Want).More {
			subject := PortKey(p.Name, more.Name)
			had, because := m.in.Ledger.Ports[subject], "the part had this port before"
			var rejected []Option
			port := had
			if had == 0 || m.refuse(had) != "" {
				port, rejected = m.free(more.Base, nil)
				because = fmt.Sprintf("the first free port from %d", more.Base)
			}
			if port == 0 {
				m.fault(trouble.NoPort, about.Part(subject), "no port is free for the "+more.Name+" of part "+p.Name,
					fmt.Sprintf("every port from %d to %d is taken", more.Base, m.in.Survey.Host.EphemeralLow),
					"stop a program that listens")
				continue
			}
			if p.Ports == nil {
				p.Ports = map[string]int{}
			}
			p.Ports[more.Name], m.taken[port] = port, true
			m.decide(about.Part(subject), fmt.Sprint(port), rejected, because)
		}
	}
}

// PortKey returns the name of a further port of a part in the ledger. No part can have this name.
func PortKey(part, name string) string { return part + ".port." + name }

// moved notes that a part has another port than in the last good start, or, if none is known, than before.
func (m *maker) moved(subject about.Subject, name string, port int, because string) {
	was := cmp.Or(m.in.History.Good.Ports[name], m.in.Ledger.Ports[name])
	if was == 0 || was == port {
		return
	}
	m.plan.Changes = append(m.plan.Changes, Change{Subject: subject, Was: fmt.Sprint(was), Now: fmt.Sprint(port),
		Because: because})
}

// sockets sets the socket names, some of which contain the port.
func (m *maker) sockets() {
	for i := range m.plan.Parts {
		p := &m.plan.Parts[i]
		if needs := m.kinds[p.Kind].Needs(p.Want); needs.Socket && p.Way != kind.WayOutside {
			name := strings.ReplaceAll(cmp.Or(needs.SocketName, p.Name+".sock"), "{port}", fmt.Sprint(p.Port))
			p.Socket = filepath.Join(m.in.Run, m.in.StackID, name)
		}
	}
}

// gateway decides the gateway's ports: for HTTP and for HTTPS.
func (m *maker) gateway() {
	if len(m.in.File.Sites) == 0 && !slices.ContainsFunc(m.plan.Parts, func(p PartPlan) bool {
		return m.kinds[p.Kind].Traits().Pages
	}) {
		m.plan.HTTPPort, m.plan.HTTPSPort, m.plan.DNSPort = m.in.Ledger.HTTPPort,
			m.in.Ledger.HTTPSPort, m.in.Ledger.DNSPort
		return
	}
	m.owner = GatewayOwner
	defer func() { m.owner = m.in.StackID }()
	m.plan.HTTPPort = m.gatewayPort(about.Gateway.At("port"), m.in.Ledger.HTTPPort, m.in.Gateway.HTTP, 80, 8080)
	m.taken[m.plan.HTTPPort] = true
	m.plan.HTTPSPort = m.gatewayPort(about.Gateway.At("secure"), m.in.Ledger.HTTPSPort, m.in.Gateway.HTTPS, 443, 8443)
	m.taken[m.plan.HTTPSPort] = true
	m.plan.DNSPort = m.in.Ledger.DNSPort
	if slices.ContainsFunc(m.in.File.Sites, func(s stackfile.SiteConfig) bool {
		return s.HostSuffix() != stackfile.DefaultSuffix
	}) {
		m.udp = true
		m.plan.DNSPort = m.gatewayPort(about.Gateway.At("resolver"), m.in.Ledger.DNSPort, 0, resolverBase, resolverBase)
		m.taken[m.plan.DNSPort] = true
		m.udp = false
	}
}

// gatewayPort decides one port of the gateway: the one that it listens on now, the one that the settings want, the one
// that browsers use by default, the one that it had before, or the first free one. The port does not change while the
// gateway runs, since other stacks' addresses contain it.
func (m *maker) gatewayPort(subject about.Subject, had, wanted, usual, base int) int {
	running := slices.ContainsFunc(m.held[had], func(p survey.Port) bool { return p.Stack == GatewayOwner })
	best, because := usual, "you may open it, and addresses need no port"
	if usual == base {
		because = "it is tried first"
	}
	if wanted != 0 {
		best, because = wanted, "Dravit's settings name it"
	}
	var rejected []Option
	for _, try := range []struct {
		port    int
		because string
	}{{map[bool]int{true: had}[running], "the gateway has it"},
		{best, because},
		{map[bool]int{true: had}[wanted == 0], "the gateway had it before"}} {
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
		m.fault(trouble.NoPort, subject, "no port is free for the gateway",
			fmt.Sprintf("every port from %d is taken", base), "stop a program that listens")
		return 0
	}
	m.decide(subject, fmt.Sprint(port), rejected, fmt.Sprintf("the first free port from %d", base))
	return port
}

// holder returns who holds a port, if it is not the owner that searches it, else "".
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
	if x.Stack == "" {
		if m.plan.Contested == nil {
			m.plan.Contested = map[int]bool{}
		}
		m.plan.Contested[x.Port] = true
	}
	if x.Stack != "" {
		if name := m.in.Ledger.Others[x.Port]; name != "" {
			return "the stack " + name
		}
		return "another stack"
	}
	who := "a program of " + cmp.Or(x.User, "another user")
	if x.Program != "" {
		who = fmt.Sprintf("%s (pid %d, user %s", x.Program, x.PID, cmp.Or(x.User, "unknown"))
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

// freeing says what to do to get a pinned port.
func (m *maker) freeing(port int) string {
	for _, x := range m.held[port] {
		if name := m.in.Ledger.Others[port]; x.Stack != "" && name != "" {
			return "dravit stop --stack " + name + ", or pin another port in " + stackfile.Name
		}
		if x.Service != "" {
			stop := "sudo systemctl stop "
			if x.UserService && x.User == m.in.Survey.Host.User {
				stop = "systemctl --user stop "
			} else if x.UserService {
				stop = "sudo systemctl --user --machine=" + x.User + "@ stop "
			}
			return fmt.Sprintf("stop it (%s%s), or pin another port in %s", stop, x.Service, stackfile.Name)
		}
		if x.PID != 0 {
			return fmt.Sprintf("stop it (kill %d), or pin another port in %s", x.PID, stackfile.Name)
		}
	}
	return "pin another port in " + stackfile.Name
}

// lowest returns the lowest port that the user may listen on: 1024 if the survey does not say.
func lowest(h survey.Host) int {
	if h.LowestPort == 0 {
		return 1024
	}
	return h.LowestPort
}

// refuse returns why a part cannot have a port, or "" if it can.
func (m *maker) refuse(port int) string {
	h := m.in.Survey.Host
	switch holder, held := m.holder(port); {
	case held:
		return "held by " + holder
	case m.taken[port]:
		return "another part of this stack has it"
	case m.in.Ledger.Others[port] != "":
		return "it belongs to the stack " + m.in.Ledger.Others[port]
	case (port == m.in.Ledger.HTTPPort || port == m.in.Ledger.HTTPSPort || port == m.in.Ledger.DNSPort) &&
		m.owner != GatewayOwner:
		return "it is the gateway's"
	case port < lowest(h):
		return "it needs a privilege that you do not have"
	case h.EphemeralLow <= port && port <= h.EphemeralHigh:
		return "the system uses it for outgoing connections"
	case slices.Contains(unsafe, port):
		return "browsers refuse it"
	}
	return ""
}

// Port returns what a plan would do if a part wanted a port. because is "" if the part can have it; else instead is the
// next free port above, or 0.
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

// free returns the first port from base on that is free, or 0 if there is none, and adds the ports that it skipped.
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
