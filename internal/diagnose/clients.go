package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"dravit/internal/trouble"
)

// Clients are the connections to a store that has a limit of them.
type Clients struct {
	Limit   int
	Setting string // that raises the limit
	Groups  []ClientGroup
}

// ClientGroup is the connections of one process to a store.
type ClientGroup struct {
	Program string // "" if this user may not know, or if they came over the Unix socket
	PID     int
	Count   int
	Idle    time.Duration // how long the most idle of them has asked for nothing
}

func (g ClientGroup) String() string {
	who := "processes over the Unix socket, or of another user"
	if g.PID != 0 {
		who = fmt.Sprintf("%s (pid %d)", g.Program, g.PID)
	}
	idle := "asking now"
	if g.Idle > 0 {
		idle = "idle for up to " + g.Idle.Round(time.Second).String()
	}
	return fmt.Sprintf("%d of %s, %s", g.Count, who, idle)
}

// clients reports whether the store accepts no more connections, and adds the cause.
func (d *doctor) clients(p PartFacts) bool {
	used := 0
	if p.Clients == nil {
		return false
	}
	groups := slices.Clone(p.Clients.Groups)
	slices.SortFunc(groups, func(a, b ClientGroup) int { return cmp.Compare(b.Count, a.Count) })
	var evidence []string
	for _, g := range groups {
		used += g.Count
		evidence = append(evidence, g.String())
	}
	if used < p.Clients.Limit {
		return false
	}
	name := p.Spec.Name
	d.add(
		seen,
		"connections-used-up",
		"part."+name,
		fmt.Sprintf("all %d connections that part %s accepts are in use", p.Clients.Limit, name),
		fmt.Sprintf(
			"make the application close or share them, or raise the limit in dravit.toml:"+
				trouble.Lines("[part.%s]", "settings = { %s = %d }"),
			name,
			p.Clients.Setting,
			2*p.Clients.Limit,
		),
		evidence...)
	return true
}
