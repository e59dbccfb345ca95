package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/setting"
	"dravit/internal/stackfile"
)

// outsideServer decides that a part is a server outside the stack. It returns why a part of this kind cannot be one, or
// "". passed are the kinds of the part's list before this one.
func (m *maker) outsideServer(name string, k kind.Kind, want stackfile.PartConfig, passed []Option) (because string) {
	traits, server := k.Traits(), want.OutsideServer()
	switch {
	case !slices.Contains(traits.Keys, "outside"):
		return "the part is a server that somebody else runs, and this kind has none"
	case !server.Is(traits.Name):
		return server.Scheme + ":// is no address of it"
	}
	subject := about.Part(name)
	if len(passed) > 0 {
		m.decide(subject.At("kind"), traits.Name, passed, "the first kind of the list that has such a server")
	}
	m.decide(subject.At("outside"), server.Address(), nil,
		"the stack file names a server that somebody else runs: Dravit asks it, and never starts or stops it")
	p := PartPlan{Name: name, Kind: traits.Name, Origin: "outside", Role: traits.Role, Outside: server.Host,
		Port: server.Port, Want: stackfile.PartConfig{Kind: want.Kind, Outside: want.Outside, Uses: want.Uses,
			Main: want.Main, Database: want.Database, User: want.User}}
	p.Way = m.way(subject, traits, server.Host)
	if server.Database != "" {
		p.Want.Database = server.Database
	}
	if server.User != "" {
		p.Want.User = server.User
	}
	m.plan.Parts = append(m.plan.Parts, p)
	var idle []string
	for key, set := range map[string]bool{"version": want.Version != "", "port": want.Port != 0,
		"settings": want.Settings != nil, "seed": want.Seed != ""} {
		if set {
			idle = append(idle, key)
		}
	}
	if len(idle) > 0 {
		slices.Sort(idle)
		m.plan.Warnings = append(m.plan.Warnings, fmt.Sprintf(
			"part %s is a server that somebody else runs (%s), so %s in the stack file has no effect",
			name, server.Address(), strings.Join(idle, ", ")))
	}
	if !setting.Loopback(server.Host) {
		m.plan.Warnings = append(m.plan.Warnings, fmt.Sprintf("part %s is on another machine (%s): its password and "+
			"data cross the network unencrypted", name, server.Address()))
	}
	return ""
}

// reasons are why a part runs in a way, by the way.
var reasons = map[kind.Way]string{
	kind.WayProcess:    "it is a server, which Dravit starts",
	kind.WaySupervised: "a command of the project may start anything, so all that it starts is watched",
	kind.WayFiles:      "it consists of files: nothing has to run",
	kind.WayOutside:    "somebody else runs it",
}

// way decides how a part runs. outside is the host of a server that somebody else runs, or "".
func (m *maker) way(subject about.Subject, traits *kind.Traits, outside string) kind.Way {
	way := traits.WayOf(outside)
	m.decide(subject.At("way"), string(way), nil, cmp.Or(reasons[way], "its kind runs so"))
	return way
}
