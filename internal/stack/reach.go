package stack

import (
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/gateway"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/proc"
	"dravit/internal/run"
	"dravit/internal/setting"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// Reach is a port of a stack that other machines can reach, or should.
type Reach struct {
	Site   string   `json:"site,omitempty"` // the site that has the port, or
	Part   string   `json:"part,omitempty"` // the part that opens it by itself
	Port   int      `json:"port"`
	Open   bool     `json:"open"`   // a process of the stack or the gateway has it open
	Agreed bool     `json:"agreed"` // the user of this machine agreed to it
	URLs   []string `json:"urls"`   // the addresses for other machines
}

// reachable returns what other machines can reach of the stack, from the sockets that are really open. Everything else
// answers on this machine only.
func (s *Stack) reachable(sites []materialise.Site) ([]Reach, error) {
	out := []Reach{}
	outside, err := proc.NetworkListeners()
	if err != nil || len(outside) == 0 && !slices.ContainsFunc(sites, func(x materialise.Site) bool {
		return x.NetworkPort != 0
	}) {
		return out, err
	}
	spec, err := s.spec()
	if err != nil {
		return out, err
	}
	agreed, err := s.consent(plan.Consent{})
	if err != nil {
		return out, err
	}
	door := gateway.Seen(s.Home)
	runs := door.Alive()
	for _, site := range spec.Sites {
		if site.NetworkPort == 0 || !runs {
			continue
		}
		r := Reach{Site: site.Name, Port: site.NetworkPort, Agreed: true, URLs: urls(site.NetworkPort, "")}
		for l, pid := range outside {
			r.Open = r.Open || l.Port == site.NetworkPort && door.Includes(pid)
		}
		out = append(out, r)
	}
	for l, pid := range outside {
		for _, p := range spec.Parts {
			if run.Seen(p).Includes(pid) && !slices.ContainsFunc(out, func(r Reach) bool {
				return r.Port == l.Port
			}) {
				out = append(out, Reach{
					Part:   p.Name,
					Port:   l.Port,
					Open:   true,
					Agreed: agreed.Network[plan.PartConsent(p.Name)],
					URLs:   urls(l.Port, l.Address),
				})
			}
		}
	}
	slices.SortFunc(out, func(a, b Reach) int { return a.Port - b.Port })
	return out, nil
}

// urls returns the addresses at which other machines reach a port of this one: on one address, or on all if that is
// unspecified.
func urls(port int, only string) []string {
	var out []string
	all, _ := net.InterfaceAddrs() // if none is known, none is returned
	for _, a := range all {
		prefix, err := netip.ParsePrefix(a.String())
		if err != nil {
			continue
		}
		at := prefix.Addr()
		if at.IsLoopback() || at.IsLinkLocalUnicast() {
			continue
		}
		if addr, err := netip.ParseAddr(only); err == nil && !addr.IsUnspecified() && addr != at {
			continue
		}
		out = append(out, "http://"+netip.AddrPortFrom(at, uint16(port)).String()+"/")
	}
	return out
}

// consent is what the user of this machine agreed to of what a stack file wants.
type consent struct {
	Network map[string]bool `json:"network"` // by site: whether other machines may reach it
}

func (s *Stack) consentFile() string { return s.Home.Stack(s.ID, "consent.json") }

// consent returns what the user said before, together with what is said now.
func (s *Stack) consent(now plan.Consent) (consent, error) {
	c := consent{}
	if s.ID != "" {
		if err := home.ReadJSON(s.consentFile(), &c); err != nil {
			return c, err
		}
	}
	if c.Network == nil {
		c.Network = map[string]bool{}
	}
	for _, site := range now.Network {
		c.Network[site] = true
	}
	for _, site := range now.Loopback {
		c.Network[site] = false
	}
	return c, nil
}

// with adds to what the user says now what the user said of the stack before, and of the machine (settings).
func (c consent) with(now, settings plan.Consent) plan.Consent {
	now.Network, now.Loopback = nil, nil
	now.Suffixes, now.Settings = settings.Suffixes, settings.Settings
	for site, agreed := range c.Network {
		if agreed {
			now.Network = append(now.Network, site)
		} else {
			now.Loopback = append(now.Loopback, site)
		}
	}
	slices.Sort(now.Network)
	slices.Sort(now.Loopback)
	return now
}

// wantNetwork returns the names of the sites and parts that ask to be reachable from the network.
func (s *Stack) wantNetwork(file *stackfile.File) []string {
	var all []string
	for _, site := range file.Sites {
		if site.Network() {
			all = append(all, site.Name)
		}
	}
	for _, name := range file.PartNames() {
		part := file.Parts[name]
		if slices.ContainsFunc(part.Kind, func(k string) bool { return opens(s.Kinds.Of(k), part.For(k)) }) {
			all = append(all, plan.PartConsent(name))
		}
	}
	return all
}

// subjects returns names as they are recorded: a part by its path, unless a site has its name.
func (s *Stack) subjects(file *stackfile.File, names []string) []string {
	all := s.wantNetwork(file)
	var out []string
	for _, name := range names {
		_, part := file.Parts[name]
		if !slices.Contains(all, name) && (slices.Contains(all, plan.PartConsent(name)) || part) {
			name = plan.PartConsent(name)
		}
		out = append(out, name)
	}
	return out
}

// opens reports whether settings of a part open its server to the network.
func opens(k kind.Kind, want stackfile.PartConfig) bool {
	for name, value := range want.Settings {
		if setting.RuleOf(k.Traits().Rules, name) == setting.Opens && !setting.Loopback(string(value)) {
			return true
		}
	}
	return false
}

// Unasked returns the sites that want to be reachable from other machines, about which the user was never asked.
func (s *Stack) Unasked() ([]string, error) {
	file, err := s.file()
	if err != nil {
		return nil, err
	}
	c, err := s.consent(plan.Consent{})
	if err != nil {
		return nil, err
	}
	var out []string
	for _, name := range s.wantNetwork(file) {
		if _, asked := c.Network[name]; !asked {
			out = append(out, name)
		}
	}
	return out, nil
}

// knows reports whether every site in a consent wants to be reachable from other machines.
func (s *Stack) knows(file *stackfile.File, now plan.Consent) error {
	all := s.wantNetwork(file)
	for _, name := range append(slices.Clone(now.Network), now.Loopback...) {
		part, ofPart := strings.CutPrefix(name, plan.PartConsent(""))
		if _, there := file.Parts[part]; ofPart && there { // its own server may listen as it likes
			continue
		}
		if !slices.Contains(all, name) {
			return &trouble.Trouble{
				Code:    trouble.NoSite,
				Subject: about.Site(name),
				What: "no site " + name + " has listen = \"network\"; those that have it: " +
					trouble.List(all),
				Next: "listen = \"network\" in the site's table of " + stackfile.Name,
			}
		}
	}
	return nil
}

// keep records what the user said.
func (c consent) keep(s *Stack) error {
	if len(c.Network) == 0 {
		return nil
	}
	if err := os.MkdirAll(s.Home.Stack(s.ID), 0o700); err != nil {
		return err
	}
	return home.WriteJSON(s.consentFile(), c)
}
